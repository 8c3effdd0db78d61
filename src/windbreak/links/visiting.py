"""Whatever is asked of a site: within its own origin, so many bytes and seconds, and not trusted.

    site = Visiting(client, "https://tarnsey.example")
    site.page("/news").status                       == 200
    site.place("https://elsewhere.example/")        raises Unfit

A redirect is followed within the origin only. What is too large, too slow or leads elsewhere costs
that one look or call.
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass

import httpx

from windbreak.links.errors import Unfit, Unreachable
from windbreak.outside.way_out import within

PASS = "windbreak-pass"  # the header under which an agent's looking pass is shown
ANSWER_BYTES = 8 * 2**20
INVENTORY_BYTES = 32 * 2**20
PAGE_BYTES = 5 * 2**20
ANSWER_SECONDS = 60.0
PAGE_SECONDS = 30.0
_MOST_REDIRECTS = 5
_SENT_ON = (301, 302, 303, 307, 308)


@dataclass(frozen=True, slots=True)
class Visited:
    """What came back; names of headers are low. ``seconds`` until the last byte was here."""

    url: str
    status: int
    headers: Mapping[str, str]
    body: bytes
    seconds: float

    @property
    def text(self) -> str:
        return self.body.decode("utf-8", "replace")


class Visiting:
    """One site, as everything that is asked of it goes there."""

    def __init__(self, client: httpx.Client, address: str, pass_: str = "") -> None:
        self.client, self.pass_ = client, pass_
        self.address = address.rstrip("/")
        self._origin = _origin(httpx.URL(self.address))

    def past_page(self, pass_: str) -> Visiting:
        """The same site, its pages as they are behind its maintenance page, by a looking pass."""
        return Visiting(self.client, self.address, pass_)

    def place(self, where: str, base: str | None = None) -> str:
        """An address on this site, as the site names it. Raises Unfit where it lies elsewhere."""
        try:
            url = httpx.URL(base or f"{self.address}/").join(where)
        except (httpx.InvalidURL, ValueError, TypeError) as error:
            raise Unfit(f"{where[:80]!r} is no address ({error})") from None
        if _origin(url) != self._origin:
            raise Unfit(f"{url.host or where[:80]!r} is not this site")
        return str(url.copy_with(fragment=None))

    def page(self, where: str, headers: Mapping[str, str] | None = None) -> Visited:
        """A page, after redirects. Raises Unreachable, Unfit."""
        url, began = self.place(where), time.monotonic()
        headers = {**(headers or {}), **({PASS: self.pass_} if self.pass_ else {})}
        with within(PAGE_SECONDS):
            for _ in range(_MOST_REDIRECTS + 1):
                visited = self._asked("GET", url, b"", headers, PAGE_BYTES, PAGE_SECONDS)
                location = visited.headers.get("location")
                if visited.status not in _SENT_ON or not location:
                    took = round(time.monotonic() - began, 3)
                    return Visited(url, visited.status, visited.headers, visited.body, took)
                url = self.place(location, base=url)
        raise Unfit(f"it redirected more than {_MOST_REDIRECTS} times")

    def call(
        self,
        path: str,
        body: bytes,
        headers: Mapping[str, str],
        *,
        most: int = ANSWER_BYTES,
        seconds: float = ANSWER_SECONDS,
    ) -> Visited:
        """What is answered to something posted. Raises Unreachable, Unfit."""
        with within(seconds):
            return self._asked("POST", f"{self.address}{path}", body, headers, most, seconds)

    def _asked(
        self,
        method: str,
        url: str,
        body: bytes,
        headers: Mapping[str, str],
        most: int,
        seconds: float,
    ) -> Visited:
        began = time.monotonic()
        timeout = httpx.Timeout(10, read=seconds)
        request = self.client.build_request(
            method, url, content=body or None, headers=dict(headers), timeout=timeout
        )
        try:
            response = self.client.send(request, stream=True, follow_redirects=False)
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            raise Unreachable(f"it does not answer: {_plain(error)}", sent=False) from error
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            late = isinstance(error, httpx.ReadTimeout)
            raise Unreachable(f"its answer did not come: {_plain(error)}", late=late) from error
        try:
            got = bytearray()
            for chunk in response.iter_bytes():
                got += chunk
                if len(got) > most:
                    raise Unfit(f"its answer is larger than {most // 2**20} MB")
        except httpx.HTTPError as error:
            late = isinstance(error, httpx.ReadTimeout)
            raise Unreachable(f"its answer broke off: {_plain(error)}", late=late) from error
        finally:
            response.close()
        low = {name.lower(): value for name, value in response.headers.items()}
        took = round(time.monotonic() - began, 3)
        return Visited(url, response.status_code, low, bytes(got), took)


def _origin(url: httpx.URL) -> tuple[str, str, int | None]:
    return url.scheme, url.host, url.port or {"http": 80, "https": 443}.get(url.scheme)


def _plain(error: Exception) -> str:
    if isinstance(error, httpx.ConnectTimeout):
        return "it could not be reached in time"
    if isinstance(error, httpx.TimeoutException):
        return "it took too long"
    return str(error) or type(error).__name__
