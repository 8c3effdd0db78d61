"""How a request shows a credential: one function a kind, in one registry."""

from __future__ import annotations

from collections.abc import Callable

import httpx


def _bearer(request: httpx.Request, credential: str) -> None:
    request.headers["authorization"] = f"Bearer {credential}"


KINDS: dict[str, Callable[[httpx.Request, str], None]] = {"bearer": _bearer}


def signed_in(kind: str, request: httpx.Request, credential: str) -> None:
    """Put a credential on a request; the kind "none" puts nothing."""
    if kind in KINDS:
        KINDS[kind](request, credential)
