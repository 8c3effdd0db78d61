"""The one seam: a call goes out, an answer or an error comes in. Retries are written here once."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar

import httpx

from windbreak.client.calls import Call
from windbreak.client.errors import ClientError, NotPermitted, Problem, StillAtWork, Unreachable

T = TypeVar("T")

TRIES = 3  # for what only reads; what changes something is asked once
_NEAR = timedelta(seconds=5)  # an answer was on its way for less
TIMEOUT = httpx.Timeout(120, connect=5)


def settings(address: str) -> dict[str, Any]:
    """The settings of an httpx client for a service.

    One that is asked without TLS trusts no certificate at all, so none need be read.
    """
    plain = address.startswith("http://")
    trusted = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT) if plain else True
    return {"timeout": TIMEOUT, "trust_env": False, "verify": trusted}


def request_of(
    call: Call[Any], address: str, token: str | None, written: int = 0
) -> dict[str, Any]:
    """The arguments of an httpx request. What was ``written`` last is waited for by a read."""
    headers = {"accept": "application/json"}
    if token:
        headers["authorization"] = f"Bearer {token}"
    if written and call.method == "GET":
        headers["at-least-generation"] = str(written)
    parts: dict[str, Any] = {
        "method": call.method,
        "url": f"{address.rstrip('/')}/api/v1{call.path}",
        "params": call.params,
        "headers": headers,
    }
    if call.content is not None:
        parts["content"] = call.content
    elif call.body is not None:
        parts["json"] = call.body
    return parts


def read(call: Call[T], response: httpx.Response) -> T:
    """The answer of a call. Raises Problem where the service said no."""
    if response.is_success:
        return call.read(response.content)
    try:
        details = response.json()
    except ValueError:
        details = None
    if not isinstance(details, dict):
        details = {"detail": f"status {response.status_code} from something that is no Windbreak"}
    kind = NotPermitted if response.status_code in (401, 403) else Problem
    raise kind(response.status_code, details)


def generation_of(response: httpx.Response) -> int:
    """The generation that an answer to a write stands for; 0 where it tells none."""
    generation = response.headers.get("generation", "")
    return int(generation) if generation.isdigit() else 0


def ahead_by(response: httpx.Response, before: timedelta) -> timedelta:
    """How far the service's clock is ahead of our own: as ``before``, unless it is told to be
    further from that than an answer takes to arrive.
    """
    try:
        service_time = datetime.fromisoformat(response.headers.get("service-time", ""))
    except ValueError:
        return before
    off = service_time - datetime.now(UTC)
    return off if abs(off - before) > _NEAR else before


def may_retry(call: Call[Any], tried: int) -> bool:
    return call.method == "GET" and tried < TRIES


def unreachable(address: str, error: httpx.HTTPError) -> ClientError:
    """What a call without an answer is told as."""
    if isinstance(error, httpx.ReadTimeout):
        return StillAtWork(address, TIMEOUT.read or 0)
    return Unreachable(address, str(error) or type(error).__name__)
