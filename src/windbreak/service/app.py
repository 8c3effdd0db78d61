"""The application: routers under /api/v1, the console, health, and what goes around them."""

from __future__ import annotations

import json
import logging
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import Depends, FastAPI, Request, Response
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles

import windbreak
from windbreak.notices.mail import MailSettings
from windbreak.operations.administration.retention import Retention
from windbreak.operations.context import Context
from windbreak.service import problems
from windbreak.service.drive import Driver
from windbreak.service.routers import (
    errands,
    events,
    ledger,
    licences,
    outward,
    scheduling,
    session,
    sites,
    ties,
    tracking,
    work,
)
from windbreak.service.settings import ShelfSettings
from windbreak.service.signin import principal_of

API = "/api/v1"
CONSOLE = Path(__file__).parent / "console"
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'none'"
)

log = logging.getLogger("windbreak.http")


def create_app(
    context: Context,
    *,
    refresh_minutes: int = 30,
    pages_minutes: int = 15,
    drive: bool = True,
    mail: MailSettings | None = None,
    shelf: ShelfSettings | None = None,
    digest_hour: int = 24,
    retention: Retention | None = None,
) -> FastAPI:
    """The service over a context. With ``drive`` it also does what is due."""
    driver = Driver(
        context,
        refresh_minutes,
        pages_minutes,
        shelf or ShelfSettings(),
        mail or MailSettings(),
        digest_hour,
        retention or Retention(),
    )
    stopping = threading.Event()

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        if drive:
            driver.start()
        yield
        stopping.set()
        with context.news:
            context.news.notify_all()
        driver.stop()

    app = FastAPI(
        title="Windbreak",
        version=windbreak.__version__,
        summary="From an announced release to a verified update, with reasons.",
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
    )
    app.state.mail = mail or MailSettings()
    app.state.context, app.state.driver, app.state.stopping = context, driver, stopping
    problems.install(app)
    answers = {
        400: {"description": "That can't be read", "content": {problems.MEDIA: {}}},
        401: {"description": "Sign in first", "content": {problems.MEDIA: {}}},
        404: {"description": "It is not there", "content": {problems.MEDIA: {}}},
        409: {"description": "It can't be done as things stand", "content": {problems.MEDIA: {}}},
        422: {"description": "Something in it is not right", "content": {problems.MEDIA: {}}},
    }
    for module in (
        session,
        outward,
        sites,
        tracking,
        licences,
        ties,
        work,
        scheduling,
        errands,
        ledger,
        events,
    ):
        app.include_router(module.router, prefix=API, responses=answers)  # type: ignore[arg-type]

    app.include_router(outward.open_router, prefix=API, responses=answers)  # type: ignore[arg-type]

    @app.get(f"{API}/openapi.json", include_in_schema=False, dependencies=[Depends(principal_of)])
    def openapi() -> JSONResponse:
        return JSONResponse(app.openapi())

    @app.get("/health", tags=["health"])
    def health() -> dict[str, str]:
        """The process answers."""
        return {"status": "up", "version": windbreak.__version__}

    @app.get("/ready", tags=["health"])
    def ready() -> dict[str, str]:
        """The database answers too."""
        context.store.events.last()
        return {"status": "ready"}

    _around(app, context)
    _console(app)
    return app


def _around(app: FastAPI, context: Context) -> None:
    @app.middleware("http")
    async def headers(
        request: Request, call_next: Callable[[Request], Awaitable[Response]]
    ) -> Response:
        started = time.monotonic()
        try:
            response = await call_next(request)
        except Exception:
            log.exception("a fault of ours", extra={"path": request.url.path})
            response = problems.problem(
                500, "fault", "Something went wrong here; nothing says why but the service's log."
            )
        response.headers.setdefault("content-security-policy", POLICY)
        response.headers["x-content-type-options"] = "nosniff"
        response.headers["referrer-policy"] = "no-referrer"
        if request.url.path.startswith(API):
            response.headers.setdefault("cache-control", "no-store")
            _say_how_old(context, request, response)
        # The path alone: a query may hold what is nobody's business.
        log.info(
            "answered",
            extra={
                "method": request.method,
                "path": request.url.path,
                "status": response.status_code,
                "ms": round((time.monotonic() - started) * 1000, 1),
            },
        )
        return response


def _say_how_old(context: Context, request: Request, response: Response) -> None:
    """Tell which generation an answer stands for, what it is as of, and the service's own time.

    After a write: the newest one, which its client may wait for. Of a read: that of the views.
    """
    if request.method in ("GET", "HEAD"):
        generation, as_of = context.store.views.reached()
        if as_of is not None:
            response.headers["as-of"] = as_of.isoformat()
    else:
        generation = context.store.database.generation()
        context.wake()
    response.headers["generation"] = str(generation)
    response.headers["service-time"] = context.clock().isoformat(timespec="milliseconds")


def _console(app: FastAPI) -> None:
    """The console's files; every place of it is its one page."""
    if not (CONSOLE / "index.html").exists():
        return
    app.mount("/assets", StaticFiles(directory=CONSOLE / "assets"), name="assets")

    @app.get("/{place:path}", include_in_schema=False, response_model=None)
    def page(place: str) -> Response:
        if place.startswith("api/"):
            return problems.problem(404, "not-found", f"There is nothing at /{place}.")
        return FileResponse(CONSOLE / "index.html", headers={"cache-control": "no-cache"})


class JsonLines(logging.Formatter):
    """Log lines as JSON objects."""

    def format(self, record: logging.LogRecord) -> str:
        line = {
            "at": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "text": record.getMessage(),
        }
        for name in ("method", "path", "status", "ms"):
            if hasattr(record, name):
                line[name] = getattr(record, name)
        if record.exc_info:
            line["fault"] = self.formatException(record.exc_info)
        return json.dumps(line)
