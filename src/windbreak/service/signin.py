"""Who asks: a bearer token of the client, or the console's session cookie."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import Depends, Path, Query, Request
from fastapi.concurrency import run_in_threadpool

from windbreak.core.values.accounts import Principal
from windbreak.operations.context import Context
from windbreak.operations.errors import NotPermitted
from windbreak.service.around import Asked

MOST = 2**53 - 1  # the largest whole number that every JSON reader keeps as it is

Number = Annotated[int, Path(ge=1, le=MOST)]
Limit = Annotated[int, Query(ge=1, le=10_000, description="how many at the most")]


_PATIENCE = 5.0  # seconds that a read waits for what its client has written


async def context_of(request: Request) -> Context:
    """The service's context. A client that has just written may wait until it can read it: a read
    that names a generation is answered when the views show it, or after five seconds as they are.
    """
    context: Context = request.app.state.context
    wanted = wanted_by(request)
    if wanted and request.app.state.driver.projects:
        asked: Asked = request.state.asked
        if (asked.generation or 0) < wanted:
            await run_in_threadpool(_shown, context, wanted)
    return context


def wanted_by(request: Request) -> int:
    """The generation that a read waits for; 0 for none."""
    wanted = request.headers.get("at-least-generation", "")
    return int(wanted) if request.method == "GET" and wanted.isdigit() else 0


def _shown(context: Context, generation: int) -> None:
    until = time.monotonic() + _PATIENCE
    with context.store.database.waiting():
        while context.store.views.reached()[0] < generation and time.monotonic() < until:
            with context.news:
                context.news.wait(0.1)


Ctx = Annotated[Context, Depends(context_of)]


async def principal_of(request: Request, context: Ctx) -> Principal:
    """Who asks. Raises NotPermitted.

    A request that changes something under a cookie must come from a page of this service.
    """
    asked: Asked = request.state.asked
    principal = asked.who()
    origin = request.headers.get("origin")
    if principal.via == "session" and request.method not in ("GET", "HEAD") and origin:
        own = f"{request.url.scheme}://{request.url.netloc}"
        if origin != own:
            raise NotPermitted(f"a page of {origin} may not ask this with your session")
    return principal


Who = Annotated[Principal, Depends(principal_of)]
