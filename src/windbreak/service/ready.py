"""Answers that are kept ready: whoever reads them computes nothing.

A route that is ``ready`` says what its answers hang on: kinds of change, and for some kinds only
those of its own subject. Its answer is kept as bytes, under its address. After each pass of the
projector one thread marks the answers that the changes touch, and makes them again: those first
for which somebody waits. Until that is done the old one goes out; its headers say as of when. What
costs next to nothing is ``exact``: once anything it hangs on is committed, it is made on demand.

    @router.get("/licences")
    @ready(*LICENCES)
    def list_licences(context: Ctx, who: Who) -> list[LicenceView]: …

An answer that nobody asked for in two minutes is forgotten, and made on demand again. None is older
than a minute and a half by the service's clock, as texts in it may tell what time it is; what
``stands`` (lists of the whole fleet) may be ten minutes old where making it takes that long.
"""

from __future__ import annotations

import asyncio
import logging
import threading
import time
from collections.abc import Callable, Coroutine, Iterable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, TypeVar

from fastapi import APIRouter, Request, Response
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool
from starlette.types import ASGIApp, Message

from windbreak.core.values.accounts import Principal
from windbreak.operations.context import Context
from windbreak.service.around import Asked
from windbreak.store.database import CHANGES_KEPT, Mark

log = logging.getLogger("windbreak.ready")

F = TypeVar("F", bound=Callable[..., Any])
Handler = Callable[[Request], Coroutine[Any, Any, Response]]

_WAIT = 5.0  # seconds that a read waits for what its client has written
_RENEW_AFTER = timedelta(seconds=60)
_TOO_OLD = timedelta(seconds=90)
_STANDS_FOR = timedelta(minutes=10)  # what stands may take long to make, and is given meanwhile
_LONGEST = 600.0  # seconds that making an answer again may take
_FORGET_AFTER = 120.0  # seconds in which nobody asked
_MOST = 500  # answers that are kept
_MOST_BYTES = 64 * 2**20
_OURSELVES = Principal(account="windbreak", name="Windbreak", via="service")
_KEPT_HEADERS = ("content-type", "link", "x-total-count")


@dataclass(frozen=True)
class HangsOn:
    """The kinds of change that touch the answers of a route: of whatever subject, and only of the
    subject that is the parameter ``of`` of its path.
    """

    kinds: frozenset[str]
    own: frozenset[str] = frozenset()
    of: str = ""
    stands: bool = False  # it is kept whether somebody asks for it or not
    exact: bool = False  # it is never given where something it hangs on was committed since

    def touched(self, subject: str, changes: Iterable[Mark]) -> bool:
        return any(
            kind in self.kinds or kind == "everything" or (kind in self.own and changed == subject)
            for kind, changed in changes
        )


def ready(
    *kinds: str,
    own: Iterable[str] = (),
    of: str = "",
    stands: bool = False,
    exact: bool = False,
) -> Callable[[F], F]:
    """Mark a route's function: its answers are kept ready, and hang on some kinds of change."""
    hangs_on = HangsOn(frozenset(kinds), frozenset(own), of, stands, exact)

    def mark(function: F) -> F:
        function.hangs_on = hangs_on  # type: ignore[attr-defined]
        return function

    return mark


@dataclass(frozen=True)
class _Made:
    """An answer as it was made: its bytes, and the headers that go with them."""

    status: int
    headers: dict[str, str]
    body: bytes


@dataclass
class _Kept:
    """The answer at an address as it was made last."""

    hangs_on: HangsOn
    subject: str
    made: _Made
    generation: int
    made_at: datetime
    asked_at: float
    stale: bool = False
    waited_for: bool = False


@dataclass
class Ready:
    """The answers of one service that are kept ready, by address: path and query."""

    context: Context
    reached: int = -1  # the generation that all of them show
    marked: int = -1  # the generation up to which what is touched is marked
    _kept: dict[str, _Kept] = field(default_factory=dict)
    _turn: threading.Condition = field(default_factory=threading.Condition)
    _standing: list[tuple[str, HangsOn]] = field(default_factory=list)
    _app: ASGIApp | None = None
    _loop: asyncio.AbstractEventLoop | None = None

    # For those who read.

    async def answer(self, handler: Handler, request: Request, hangs_on: HangsOn) -> Response:
        """The answer to a request: the one that is ready, or else one made now, and kept."""
        if self._loop is None:
            return await handler(request)  # nothing would renew it
        key = f"{request.scope['path']}?{request.url.query}"
        asked: Asked = request.state.asked
        generation = asked.generation or 0
        wanted = request.headers.get("at-least-generation", "")
        if wanted.isdigit() and int(wanted) > min(self.reached, generation):
            generation = await run_in_threadpool(self._wait, key, int(wanted))
        kept = self._kept.get(key)
        if kept is None or not self._holds(kept, asked):
            response = await handler(request)
            if response.status_code != 200 or not hasattr(response, "body"):
                return response
            made = _Made(200, _kept_headers(response.headers.items()), bytes(response.body))
            subject = str(request.path_params.get(hangs_on.of, ""))
            kept = self._keep(key, hangs_on, subject, made, generation)
        kept.asked_at = time.monotonic()
        # What no change has touched is as it would be made now.
        shows = kept.generation if kept.stale else max(kept.generation, self.marked)
        headers = {"generation": str(shows), "as-of": kept.made_at.isoformat()}
        return Response(kept.made.body, headers=kept.made.headers | headers)

    def _holds(self, kept: _Kept, asked: Asked) -> bool:
        """Whether an answer that is kept may be given to who asks."""
        too_old = _STANDS_FOR if kept.hangs_on.stands else _TOO_OLD
        if self.context.clock() - kept.made_at > too_old:
            return False
        if not kept.hangs_on.exact:
            return True
        every = (*kept.hangs_on.kinds, *kept.hangs_on.own, "everything")
        return max(asked.newest.get(kind, 0) for kind in every) <= kept.generation

    def _keep(
        self, key: str, hangs_on: HangsOn, subject: str, made: _Made, generation: int
    ) -> _Kept:
        kept = _Kept(hangs_on, subject, made, generation, self.context.clock(), time.monotonic())
        with self._turn:
            before = self._kept.get(key)
            if before is not None and before.generation > generation:
                return before  # it was made again while this one was being made
            kept.stale = generation < self.marked
            self._kept[key] = kept
            self._forget()
            self._turn.notify_all()
        return kept

    def _wait(self, key: str, wanted: int) -> int:
        """Wait until an answer shows a generation; that of the views by then."""
        until = time.monotonic() + _WAIT
        with self.context.store.database.waiting(), self._turn:
            while (left := until - time.monotonic()) > 0:
                kept = self._kept.get(key)
                if self.marked >= wanted and (kept is None or not kept.stale):
                    break
                if kept is not None:
                    kept.waited_for = True
                self._turn.wait(left)
        return self.context.store.views.reached()[0]

    def awaited(self, wanted: int) -> None:
        """Wait, and keep what is waited for from standing back, until all answers show a
        generation.
        """
        with self.context.store.database.waiting():
            self.settled(wanted)

    def settled(self, wanted: int, seconds: float = _WAIT) -> None:
        """Wait until all answers show a generation, for so many seconds at the most."""
        until = time.monotonic() + seconds
        with self._turn:
            while self._loop is not None and self.reached < wanted:
                if not self._turn.wait(until - time.monotonic()):
                    return

    def _forget(self) -> None:
        """Keep so many at the most, those that were asked for last. Within the turn."""
        by_age = sorted(self._kept.items(), key=lambda kept: kept[1].asked_at, reverse=True)
        size = 0
        for number, (key, kept) in enumerate(by_age):
            size += len(kept.made.body)
            if number >= _MOST or size > _MOST_BYTES:
                del self._kept[key]

    # For the one thread that renews.

    def stands(self, prefix: str, router: APIRouter) -> None:
        """Note which answers of a router are to be ready before anybody asks for them."""
        for route in router.routes:
            hangs_on = getattr(getattr(route, "endpoint", None), "hangs_on", None)
            if isinstance(route, APIRoute) and hangs_on is not None and hangs_on.stands:
                self._standing.append((f"{prefix}{route.path}", hangs_on))

    def begin(self, app: ASGIApp, loop: asyncio.AbstractEventLoop) -> None:
        """Keep answers from now on; an app gives them, on an event loop."""
        generation, _ = self.context.store.views.reached()
        self.reached = self.marked = generation
        self._app, self._loop = app, loop

    def end(self) -> None:
        """Keep no answers any more."""
        with self._turn:
            self._loop = None
            self._kept.clear()
            self._turn.notify_all()

    def stand(self) -> None:
        """Make what stands ready, before anybody asks for it."""
        for path, hangs_on in self._standing:
            generation, _ = self.context.store.views.reached()
            made = self._ask(f"{path}?")
            if made.status == 200:
                self._keep(f"{path}?", hangs_on, "", made, generation)

    def renew(self) -> bool:
        """Make again what changes have touched since, and what has grown old; whether anything was.
        Reads.
        """
        generation, _ = self.context.store.views.reached()
        if generation > self.marked:
            self._mark(generation)
        renewed = False
        while (key := self._next()) is not None:
            self._renew(key)
            renewed = True
        with self._turn:
            self.reached = generation
            self._turn.notify_all()
        return renewed

    def _mark(self, generation: int) -> None:
        everything = generation - self.marked >= CHANGES_KEPT
        changes = {
            mark
            for number, mark in self.context.store.database.changes_after(self.marked)
            if number <= generation
        }
        with self._turn:
            for kept in self._kept.values():
                if everything or kept.hangs_on.touched(kept.subject, changes):
                    kept.stale = True
            self.marked = generation
            self._turn.notify_all()

    def _next(self) -> str | None:
        """The address whose answer is to be made next: one that somebody waits for, else the one
        that was asked for last. Forgets what nobody asks for.
        """
        clock, now = self.context.clock(), time.monotonic()
        with self._turn:
            for key in [k for k, x in self._kept.items() if _is_forgotten(x, now)]:
                del self._kept[key]
            due = [
                (not x.waited_for, -x.asked_at, key)
                for key, x in self._kept.items()
                if x.stale or clock - x.made_at > _RENEW_AFTER
            ]
        return min(due)[2] if due else None

    def _renew(self, key: str) -> None:
        before = self._kept.get(key)
        if before is None:
            return
        generation, _ = self.context.store.views.reached()
        try:
            made = self._ask(key)
        except Exception:
            log.exception("%s is made on demand from now on", key)
            made = None
        if made is not None and made.status == 200:
            kept = self._keep(key, before.hangs_on, before.subject, made, generation)
            kept.asked_at = before.asked_at
            return
        with self._turn:
            self._kept.pop(key, None)
            self._turn.notify_all()

    def _ask(self, key: str) -> _Made:
        """The answer at an address, asked by ourselves."""
        app, loop = self._app, self._loop
        if app is None or loop is None:
            raise RuntimeError("no answers are kept any more")
        return asyncio.run_coroutine_threadsafe(_asked(app, key), loop).result(_LONGEST)


def _is_forgotten(kept: _Kept, now: float) -> bool:
    return not kept.hangs_on.stands and now - kept.asked_at > _FORGET_AFTER


def _kept_headers(headers: Iterable[tuple[str, str]]) -> dict[str, str]:
    return {name: value for name, value in headers if name in _KEPT_HEADERS}


async def _asked(app: ASGIApp, key: str) -> _Made:
    path, _, query = key.partition("?")
    scope: dict[str, Any] = {
        "type": "http",
        "asgi": {"version": "3.0"},
        "http_version": "1.1",
        "method": "GET",
        "scheme": "http",
        "path": path,
        "raw_path": path.encode(),
        "query_string": query.encode(),
        "root_path": "",
        "headers": [],
        "server": ("127.0.0.1", 0),
        "client": None,
        "state": {"asked": Asked(_OURSELVES, None, own=True)},
    }
    parts: list[bytes] = []
    start: Message = {}

    async def receive() -> Message:
        return {"type": "http.request", "body": b"", "more_body": False}

    async def send(message: Message) -> None:
        if message["type"] == "http.response.start":
            start.update(message)
        else:
            parts.append(message.get("body", b""))

    await app(scope, receive, send)
    headers = [(name.decode(), value.decode()) for name, value in start.get("headers", ())]
    return _Made(int(start.get("status", 500)), _kept_headers(headers), b"".join(parts))
