"""Asking makers politely: conditional requests, limits on size and time, credentials kept home.

A credential goes only to the origins registered with its feed: the feed's own and that of its
check address. Attachments and redirects elsewhere are asked without it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

import httpx

from windbreak.feeds.errors import FeedRefused, FeedUnreachable
from windbreak.feeds.signin import signed_in

MOST_REDIRECTS = 5
FEED_LIMIT = 8 * 2**20
PACKAGE_LIMIT = 256 * 2**20


@dataclass(frozen=True, slots=True)
class Answer:
    """What came back; ``unchanged`` when the maker said that nothing changed (304)."""

    url: str
    body: bytes
    headers: Mapping[str, str]
    unchanged: bool = False


def origin(url: str) -> tuple[str, str, int | None]:
    parts = httpx.URL(url)
    return parts.scheme, parts.host, parts.port


def fetch(
    client: httpx.Client,
    url: str,
    *,
    sign_in: str = "none",
    credential: str | None = None,
    home: str | None = None,
    headers: Mapping[str, str] | None = None,
    limit: int = FEED_LIMIT,
) -> Answer:
    """Get an address, following redirects. ``home`` is an address of the credential's origin.

    Raises FeedRefused on 401 and 403, FeedUnreachable on anything else that is no answer.
    """
    at = url
    for _ in range(MOST_REDIRECTS + 1):
        request = client.build_request("GET", at, headers=dict(headers or {}))
        if credential is not None and origin(at) == origin(home or url):
            signed_in(sign_in, request, credential)
        try:
            response = client.send(request, stream=True)
        except httpx.HTTPError as error:
            raise FeedUnreachable(f"{_host(at)} gave no answer: {_plain(error)}") from error
        try:
            if response.has_redirect_location:
                at = str(response.next_request.url) if response.next_request else at
                continue
            return _read(response, at, limit)
        except httpx.HTTPError as error:
            raise FeedUnreachable(f"{_host(at)} broke off: {_plain(error)}") from error
        finally:
            response.close()
    raise FeedUnreachable(f"{_host(url)} redirected more than {MOST_REDIRECTS} times")


def _read(response: httpx.Response, at: str, limit: int) -> Answer:
    status = response.status_code
    if status == httpx.codes.NOT_MODIFIED:
        return Answer(at, b"", response.headers, unchanged=True)
    if status in (401, 403):
        raise FeedRefused(f"{_host(at)} turned the credential away (status {status})")
    if status != httpx.codes.OK:
        raise FeedUnreachable(f"{_host(at)} answered with status {status}", _retry(response))
    body = bytearray()
    for chunk in response.iter_bytes():
        body += chunk
        if len(body) > limit:
            raise FeedUnreachable(f"{_host(at)} sends more than {limit // 2**20} MB")
    return Answer(at, bytes(body), response.headers)


def _retry(response: httpx.Response) -> float | None:
    said = response.headers.get("retry-after", "")
    if said.isdigit():
        return float(said)
    try:
        return max(0.0, (parsedate_to_datetime(said) - datetime.now(UTC)).total_seconds())
    except (ValueError, TypeError):
        return None


def _host(url: str) -> str:
    return httpx.URL(url).netloc.decode()


def _plain(error: Exception) -> str:
    return str(error) or type(error).__name__
