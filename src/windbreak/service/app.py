"""The application: routers under /api/v1, the console, health, and what goes around them."""

from __future__ import annotations

import asyncio
import json
import logging
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import Depends, FastAPI, Response
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles

import windbreak
from windbreak.notices.mail import MailSettings
from windbreak.operations.administration.retention import Retention
from windbreak.operations.context import Context
from windbreak.service import problems
from windbreak.service.around import API, Around
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

CONSOLE = Path(__file__).parent / "console"


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
            app.state.ready.begin(app, asyncio.get_running_loop())
            driver.start()
        yield
        stopping.set()
        app.state.ready.end()
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
    app.state.ready = driver.ready
    problems.install(app)
    answers = {
        400: {"description": "That can't be read", "content": {problems.MEDIA: {}}},
        401: {"description": "Sign in first", "content": {problems.MEDIA: {}}},
        404: {"description": "It is not there", "content": {problems.MEDIA: {}}},
        409: {"description": "It can't be done as things stand", "content": {problems.MEDIA: {}}},
        410: {"description": "It is not there any more", "content": {problems.MEDIA: {}}},
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
        driver.ready.stands(API, module.router)

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

    app.add_middleware(Around, context=context)
    _console(app)
    return app


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
