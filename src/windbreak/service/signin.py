"""Who asks: a bearer token of the client, or the console's session cookie."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Path, Query, Request

from windbreak.core.values.accounts import Principal
from windbreak.operations import accounts
from windbreak.operations.context import Context
from windbreak.operations.errors import NotPermitted

COOKIE = "windbreak_session"
MOST = 2**53 - 1  # the largest whole number that every JSON reader keeps as it is

Number = Annotated[int, Path(ge=1, le=MOST)]
Limit = Annotated[int, Query(ge=1, le=10_000, description="how many at the most")]


def context_of(request: Request) -> Context:
    context: Context = request.app.state.context
    return context


Ctx = Annotated[Context, Depends(context_of)]


def secret_of(request: Request) -> str | None:
    """The token or session secret a request brings."""
    kind, _, token = request.headers.get("authorization", "").partition(" ")
    if kind.lower() == "bearer" and token:
        return token.strip()
    return request.cookies.get(COOKIE)


def principal_of(request: Request, context: Ctx) -> Principal:
    """Who asks. Raises NotPermitted.

    A request that changes something under a cookie must come from a page of this service.
    """
    secret = secret_of(request)
    if secret is None:
        raise NotPermitted(
            "this needs a token or a session: sign in at the console, or `windbreak sign-in`"
        )
    principal = accounts.principal_of(context, secret)
    origin = request.headers.get("origin")
    if principal.via == "session" and request.method not in ("GET", "HEAD") and origin:
        own = f"{request.url.scheme}://{request.url.netloc}"
        if origin != own:
            raise NotPermitted(f"a page of {origin} may not ask this with your session")
    return principal


Who = Annotated[Principal, Depends(principal_of)]
