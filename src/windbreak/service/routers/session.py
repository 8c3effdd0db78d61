"""Signing in and out, and tokens."""

from __future__ import annotations

from typing import Annotated

from fastapi import Request, Response
from fastapi.concurrency import run_in_threadpool
from pydantic import Field, SecretStr

from windbreak.core.values.accounts import NewToken, Principal, Token
from windbreak.core.values.basics import Value, example
from windbreak.operations.administration import accounts
from windbreak.operations.errors import NotPermitted
from windbreak.service.around import COOKIE, secret_of
from windbreak.service.ready import Ready
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Who, wanted_by

router = Router("signing in")


class SignIn(Value):
    """A one-time link's secret, or an account with its password."""

    model_config = example(link="the part of the link after #")

    link: str | None = None
    account: str | None = None
    password: Annotated[str | None, Field(repr=False)] = None


@router.post("/session")
def sign_in(
    context: Ctx,
    response: Response,
    request: Request,
    credentials: SignIn,
) -> Principal:
    """Sign in; the session is a cookie."""
    if credentials.link is not None:
        secret, principal = accounts.sign_in(context, credentials.link.strip())
    elif credentials.account and credentials.password:
        secret, principal = accounts.sign_in_by_password(
            context, credentials.account, credentials.password
        )
    else:
        raise NotPermitted("give a sign-in link, or an account and its password")
    response.set_cookie(
        COOKIE,
        secret,
        max_age=int(accounts.SESSION_GOOD.total_seconds()),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return principal


@router.get("/session")
async def who_am_i(request: Request, who: Who) -> Principal:
    """Who is signed in. Whoever names a generation hears it when everything shows that."""
    ready: Ready = request.app.state.ready
    wanted = wanted_by(request)
    if wanted > ready.reached >= 0:
        await run_in_threadpool(ready.awaited, wanted)
    return who


@router.delete("/session", status_code=204)
def sign_out(context: Ctx, who: Who, request: Request, response: Response) -> None:
    """Sign out."""
    accounts.sign_out(context, secret_of(request.headers) or "")
    response.delete_cookie(COOKIE)


class NewPassword(Value):
    model_config = example(password="salt and grass and wind")

    password: SecretStr


@router.put("/session/password", status_code=204)
def set_password(context: Ctx, who: Who, new: NewPassword) -> None:
    """Set your password."""
    accounts.set_password(context, who.account, new.password.get_secret_value())


@router.get("/tokens")
def list_tokens(context: Ctx, who: Who) -> list[Token]:
    """Your tokens, without their secrets."""
    return accounts.tokens(context, who.account)


@router.post("/tokens", status_code=201)
def make_token(
    context: Ctx,
    who: Who,
    new: NewToken,
) -> Token:
    """Make a token; its secret is in this answer only."""
    return accounts.make_token(context, who.account, new.label)


@router.delete("/tokens/{id}", status_code=204)
def revoke_token(context: Ctx, who: Who, id: str) -> None:
    """Revoke a token."""
    accounts.drop_token(context, who.account, id)
