"""Asking makers politely: conditional requests, limits on size and time, credentials kept home.

A credential goes only to the origins registered with its feed. Attachments and redirects
elsewhere are asked without it. Nothing here names an address beyond its host: an address may
hold a key.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

import httpx

from windbreak.feeds.errors import FeedRefused, FeedUnreachable
from windbreak.feeds.signin import signed_in
from windbreak.outside.way_out import within

MOST_REDIRECTS = 5
FEED_LIMIT = 8 * 2**20
PACKAGE_LIMIT = 256 * 2**20
FEED_SECONDS = 60.0
PACKAGE_SECONDS = 900.0
_SENT_ON = (301, 302, 303, 307, 308)

Origin = tuple[str, str, int | None]


@dataclass(frozen=True, slots=True)
class Fetched:
    """What came back; ``unchanged`` when the maker said that nothing changed (304)."""

    url: str
    body: bytes
    headers: Mapping[str, str]
    unchanged: bool = False


@dataclass(frozen=True, slots=True)
class Credential:
    """A credential with the origins it may go to. Its text is in no representation of it."""

    kind: str
    name: str
    secret: str = field(repr=False)
    origins: frozenset[Origin]

    def fits(self, url: str) -> bool:
        return origin(url) in self.origins


def origin(url: str) -> Origin:
    """Scheme, host and port, the usual port written out. Raises FeedUnreachable."""
    try:
        parts = httpx.URL(url)
    except (httpx.InvalidURL, ValueError, TypeError) as error:
        raise FeedUnreachable(f"an address that can't be read ({error})") from error
    usual = {"http": 80, "https": 443}.get(parts.scheme)
    return parts.scheme, parts.host, parts.port or usual


def fetch(
    client: httpx.Client,
    url: str,
    *,
    credential: Credential | None = None,
    headers: Mapping[str, str] | None = None,
    limit: int = FEED_LIMIT,
    seconds: float = FEED_SECONDS,
) -> Fetched:
    """Get an address, following redirects, within so many bytes and seconds.

    Raises FeedRefused where the credential (or the want of one) was turned away, FeedUnreachable
    on anything else that is no answer.
    """
    at = url
    with within(seconds):
        for _ in range(MOST_REDIRECTS + 1):
            with _asked(client, at, credential, headers) as (response, shown):
                location = response.headers.get("location")
                if response.status_code in _SENT_ON and location:
                    at = _joined(at, location)
                    continue
                return _read(response, at, limit, credential, shown=shown, seconds=seconds)
    raise FeedUnreachable(f"{host_of(url)} redirected more than {MOST_REDIRECTS} times")


@contextmanager
def _asked(
    client: httpx.Client,
    url: str,
    credential: Credential | None,
    headers: Mapping[str, str] | None,
) -> Iterator[tuple[httpx.Response, bool]]:
    """One request's answer, and whether the credential was shown; errors as ours."""
    shown = credential is not None and credential.fits(url)
    try:
        request = client.build_request("GET", url, headers=dict(headers or {}))
        if credential is not None and shown:
            signed_in(credential.kind, request, credential.name, credential.secret)
        response = client.send(request, stream=True, follow_redirects=False)
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise FeedUnreachable(f"{host_of(url)} gave no answer: {_plain(error)}") from error
    try:
        yield response, shown
    except httpx.HTTPError as error:
        raise FeedUnreachable(f"{host_of(url)} broke off: {_plain(error)}") from error
    finally:
        response.close()


def _joined(url: str, location: str) -> str:
    try:
        return str(httpx.URL(url).join(location))
    except (httpx.InvalidURL, ValueError) as error:
        raise FeedUnreachable(f"{host_of(url)} redirected to no address ({error})") from error


def _read(
    response: httpx.Response,
    at: str,
    limit: int,
    credential: Credential | None,
    *,
    shown: bool,
    seconds: float,
) -> Fetched:
    status = response.status_code
    if status == httpx.codes.NOT_MODIFIED:
        for _ in response.iter_raw():  # it has no body
            pass  # read to its end, the connection serves the next one
        return Fetched(at, b"", response.headers, unchanged=True)
    if status in (401, 403):
        if credential is None:
            raise FeedRefused(
                f"{host_of(at)} wants a credential (status {status}), none is registered"
            )
        if not shown:
            raise FeedUnreachable(
                f"{host_of(at)} wants a credential (status {status}); ours goes only to the "
                "origins registered with the feed, and this is none of them"
            )
        raise FeedRefused(f"{host_of(at)} turned the credential away (status {status})")
    if status != httpx.codes.OK:
        raise FeedUnreachable(f"{host_of(at)} answered with status {status}", _retry(response))
    promised = response.headers.get("content-length", "")
    if promised.isdigit() and int(promised) > limit:
        raise FeedUnreachable(
            f"{host_of(at)} would send {int(promised):,} bytes; {limit:,} is the most"
        )
    body, until = bytearray(), time.monotonic() + seconds
    for chunk in response.iter_bytes():
        body += chunk
        if len(body) > limit:
            raise FeedUnreachable(f"{host_of(at)} sends more than {limit // 2**20} MB")
        if time.monotonic() > until:
            raise FeedUnreachable(f"{host_of(at)} took longer than {seconds:.0f} seconds")
    return Fetched(at, bytes(body), response.headers)


def _retry(response: httpx.Response) -> float | None:
    retry_after = response.headers.get("retry-after", "").strip()
    if retry_after.isdigit():
        return float(min(int(retry_after[:9]), 10**9))
    try:
        return max(0.0, (parsedate_to_datetime(retry_after) - datetime.now(UTC)).total_seconds())
    except (ValueError, TypeError, IndexError, OverflowError):
        return None


def good_for(headers: Mapping[str, str]) -> float:
    """For how many seconds an answer is good, by its Cache-Control; 0 where it says nothing."""
    for part in headers.get("cache-control", "").lower().split(","):
        name, _, value = part.strip().partition("=")
        if name in ("no-cache", "no-store"):
            return 0.0
        if name == "max-age" and value.strip('"').isdigit():
            return float(min(int(value.strip('"')[:9]), 10**8))
    return 0.0


def host_of(url: str) -> str:
    """Host and port of an address, and nothing else of it."""
    try:
        return httpx.URL(url).netloc.decode() or "the address"
    except (httpx.InvalidURL, ValueError, TypeError):
        return "the address"


def _plain(error: Exception) -> str:
    if isinstance(error, httpx.ConnectTimeout):
        return "it could not be reached in time"
    if isinstance(error, httpx.TimeoutException):
        return "it took too long"
    return str(error) or type(error).__name__
