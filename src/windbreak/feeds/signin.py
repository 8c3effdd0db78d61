"""How a request shows a credential: one function a kind, in one registry."""

from __future__ import annotations

import base64
from collections.abc import Callable

import httpx


def _bearer(request: httpx.Request, name: str, credential: str) -> None:
    request.headers["authorization"] = f"Bearer {credential}"


def _user_and_key(request: httpx.Request, name: str, credential: str) -> None:
    both = base64.b64encode(f"{name}:{credential}".encode()).decode()
    request.headers["authorization"] = f"Basic {both}"


def _header(request: httpx.Request, name: str, credential: str) -> None:
    request.headers[name] = credential


def _query(request: httpx.Request, name: str, credential: str) -> None:
    request.url = request.url.copy_merge_params({name: credential})


KINDS: dict[str, Callable[[httpx.Request, str, str], None]] = {
    "bearer": _bearer,
    "user and key": _user_and_key,
    "header": _header,
    "query": _query,
}
NAMED = ("user and key", "header", "query")  # those that need a name beside the credential


def signed_in(kind: str, request: httpx.Request, name: str, credential: str) -> None:
    """Put a credential on a request; the kinds "none" and "site code" put nothing on it."""
    if kind in KINDS:
        KINDS[kind](request, name, credential)
