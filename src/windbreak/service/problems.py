"""Errors as problem details (RFC 9457): every code of the house has one status, here."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from windbreak.core.errors import CaseError, CoreError
from windbreak.links.errors import LinkError
from windbreak.operations.errors import NotPermitted, OperationError
from windbreak.operations.scheduling.drafts import DraftChanged, DraftGone
from windbreak.store.errors import AlreadyThere, NotFound, StoreError

MEDIA = "application/problem+json"

STATUS: dict[type[Exception], int] = {
    NotPermitted: 401,
    NotFound: 404,
    DraftGone: 410,
    AlreadyThere: 409,
    OperationError: 409,
    LinkError: 502,
    CoreError: 422,
    StoreError: 500,
}


def problem(status: int, code: str, detail: str, **more: Any) -> JSONResponse:
    """A problem as it goes out; ``code`` is fixed, ``detail`` is a sentence for a person."""
    titles = {
        400: "That can't be read",
        401: "Sign in first",
        403: "That is not permitted",
        404: "It is not there",
        405: "That can't be asked here",
        410: "It is not there any more",
        409: "It can't be done as things stand",
        413: "That is too large",
        422: "Something in it is not right",
        502: "The site could not be used",
    }
    content = {
        "type": f"urn:windbreak:problem:{code}",
        "title": titles.get(status, "Something went wrong here"),
        "status": status,
        "code": code,
        "detail": detail,
        **more,
    }
    headers = {"www-authenticate": "Bearer"} if status == 401 else None
    return JSONResponse(content, status, headers, MEDIA)


def install(app: FastAPI) -> None:
    """Answer every error with problem details."""
    for kind in STATUS:
        app.add_exception_handler(kind, _with_status)
    app.add_exception_handler(RequestValidationError, _unreadable)
    app.add_exception_handler(HTTPException, _http)


async def _with_status(request: Request, error: Exception) -> JSONResponse:
    # The nearest class that has a status: of two that fit, the more specific one.
    status = next(STATUS[kind] for kind in type(error).__mro__ if kind in STATUS)
    more: dict[str, Any] = {}
    if isinstance(error, CaseError):
        more["faults"] = [{"path": f.path, "reason": f.reason} for f in error.faults]
    if isinstance(error, DraftChanged):
        more |= {"changes": list(error.changes), "draft": error.now}
    return problem(status, getattr(error, "code", "unknown"), _sentence(str(error)), **more)


async def _unreadable(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, RequestValidationError)  # registered for it alone
    faults = [
        {"path": ".".join(str(p) for p in fault["loc"]), "reason": fault["msg"]}
        for fault in error.errors()
    ]
    reasons = "; ".join(f"{f['path']}: {f['reason']}" for f in faults)
    return problem(422, "unreadable", reasons, faults=faults)


async def _http(request: Request, error: Exception) -> JSONResponse:
    assert isinstance(error, HTTPException)  # registered for it alone
    code = {404: "not-found", 405: "not-allowed", 400: "unreadable"}.get(error.status_code, "http")
    return problem(error.status_code, code, str(error.detail))


def _sentence(text: str) -> str:
    """A text as a sentence: a capital first, a stop last; ids and paths stay as they are."""
    bare = text.strip()
    if bare[:1].islower() and bare.split(" ")[0].isalpha():
        bare = bare[:1].upper() + bare[1:]
    return bare if bare.endswith((".", "!", "?")) else f"{bare}."
