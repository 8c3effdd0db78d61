"""What goes around each request, as plain ASGI: who asks, how old the answer is, one line of log.

Who asks and how far the views are is one indexed read, what changed last by kind another, both in a
thread: nothing of SQLite is done on the event loop. They stand in the request's state as ``asked``.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import cookie_parser
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from windbreak.core.values.accounts import Principal
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context
from windbreak.operations.errors import NotPermitted
from windbreak.service import problems

API = "/api/v1"
COOKIE = "windbreak_session"
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'none'"
)

_STREAMS = (f"{API}/events",)
log = logging.getLogger("windbreak.http")


@dataclass(frozen=True)
class Asked:
    """Who asks, or why that can't be said; and what all views show by now."""

    principal: Principal | None
    refusal: NotPermitted | None
    generation: int | None = None
    as_of: datetime | None = None
    newest: Mapping[str, int] = field(default_factory=dict)  # generation, by kind of change
    own: bool = False  # we ask ourselves, to keep an answer ready

    def who(self) -> Principal:
        """Who asks. Raises NotPermitted."""
        if self.principal is not None:
            return self.principal
        raise self.refusal or NotPermitted("this needs a token or a session")


def secret_of(headers: Headers) -> str | None:
    """The token or session secret a request brings."""
    kind, _, token = headers.get("authorization", "").partition(" ")
    if kind.lower() == "bearer" and token:
        return token.strip()
    return cookie_parser(headers.get("cookie", "")).get(COOKIE)


class Around:
    """The middleware of one service."""

    def __init__(self, app: ASGIApp, context: Context) -> None:
        self.app, self.context = app, context

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return await self.app(scope, receive, send)
        answer = _Answer(self.context, scope, send)
        if answer.of_api and "asked" not in scope.setdefault("state", {}):
            secret = secret_of(Headers(scope=scope))
            scope["state"]["asked"] = await run_in_threadpool(_look_up, self.context, secret)
        database, in_front = self.context.store.database, answer.is_in_front()
        database.in_front += in_front  # on the event loop alone
        try:
            await self.app(scope, receive, answer.send)
        except Exception:
            log.exception("a fault of ours", extra={"path": scope["path"]})
            if answer.status:
                raise  # it has begun: nothing better can be said
            problem = problems.problem(
                500, "fault", "Something went wrong here; nothing says why but the service's log."
            )
            await problem(scope, receive, answer.send)
        finally:
            database.in_front -= in_front
            if not answer.of_api or not scope["state"]["asked"].own:
                answer.log()


def _look_up(context: Context, secret: str | None) -> Asked:
    if secret is None:
        refusal = "this needs a token or a session: sign in at the console, or `windbreak sign-in`"
        return Asked(None, NotPermitted(refusal))
    try:
        principal, generation, as_of = accounts.who_asks(context, secret)
    except NotPermitted as error:
        return Asked(None, error)
    return Asked(principal, None, generation, as_of, context.store.database.newest())


class _Answer:
    """One answer on its way out."""

    def __init__(self, context: Context, scope: Scope, send: Send) -> None:
        self.context, self.scope, self._send = context, scope, send
        self.of_api = scope["path"].startswith(API)
        self.started = time.monotonic()
        self.status = 0

    def is_in_front(self) -> bool:
        """Whether work in the background stands back for this: a read that waits for nothing."""
        if not self.of_api or self.scope["method"] != "GET" or self.scope["path"] in _STREAMS:
            return False
        asked: Asked = self.scope["state"]["asked"]
        wanted = Headers(scope=self.scope).get("at-least-generation", "")
        waits = wanted.isdigit() and int(wanted) > (asked.generation or 0)
        return not (asked.own or waits or b"wait=" in self.scope["query_string"])

    async def send(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self.status = message["status"]
            headers = MutableHeaders(scope=message)
            headers.setdefault("content-security-policy", POLICY)
            headers["x-content-type-options"] = "nosniff"
            headers["referrer-policy"] = "no-referrer"
            if self.of_api:
                headers.setdefault("cache-control", "no-store")
                await self._say_how_old(headers)
        await self._send(message)

    async def _say_how_old(self, headers: MutableHeaders) -> None:
        """Tell which generation an answer stands for, what it is as of, and the service's own time.

        After a write: the newest one, which its client may wait for. Of a read: that of the views
        when it was asked, unless the answer says itself which it is.
        """
        if self.scope["method"] in ("GET", "HEAD"):
            asked: Asked = self.scope["state"]["asked"]
            if asked.generation is not None:
                headers.setdefault("generation", str(asked.generation))
            if asked.as_of is not None:
                headers.setdefault("as-of", asked.as_of.isoformat())
        else:
            generation = await run_in_threadpool(self.context.store.database.generation)
            headers["generation"] = str(generation)
            self.context.wake()
        headers["service-time"] = self.context.clock().isoformat(timespec="milliseconds")

    def log(self) -> None:
        # The path alone: a query may hold what is nobody's business.
        log.info(
            "answered",
            extra={
                "method": self.scope["method"],
                "path": self.scope["path"],
                "status": self.status,
                "ms": round((time.monotonic() - self.started) * 1000, 1),
            },
        )
