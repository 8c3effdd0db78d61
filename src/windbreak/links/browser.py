"""A headless Chromium that shows one site, past every cache, where one is configured.

The browser asks for nothing itself: whatever a page wants is asked through the one client for
sites, so what lies elsewhere, is too large or too slow is missing from what it shows. It reads, and
sends nothing.
"""

from __future__ import annotations

import contextlib
from types import TracebackType
from typing import TYPE_CHECKING, Self

from windbreak.links.errors import LinkError
from windbreak.links.visiting import Visiting

if TYPE_CHECKING:
    from playwright.sync_api import Page, Route

_OPTIONS = (
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
)
PATIENCE_MS = 20_000
_PASSED_ON = ("content-type",)


class NoBrowser(Exception):
    """The browser did not start; says why."""


class Browser:
    """A browser on one site. ``page`` is its one open page."""

    page: Page

    def __init__(self, program: str, site: Visiting) -> None:
        self.program, self.site = program, site
        self._open = contextlib.ExitStack()

    def __enter__(self) -> Self:
        try:
            from playwright.sync_api import Error, sync_playwright
        except ImportError:
            raise NoBrowser("the package playwright is not installed") from None
        try:
            playwright = self._open.enter_context(sync_playwright())
            chromium = playwright.chromium.launch(
                executable_path=self.program, args=list(_OPTIONS), timeout=PATIENCE_MS
            )
            self._open.callback(chromium.close)
            pages = chromium.new_context(reduced_motion="reduce", service_workers="block")
            pages.set_default_timeout(PATIENCE_MS)
            pages.route("**/*", self._ask)
            self.page = pages.new_page()
        except Error as error:
            self._open.close()
            raise NoBrowser(f"{self.program} did not start: {first_line(error)}") from None
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._open.close()

    def _ask(self, route: Route) -> None:
        """Answer what the browser wants from the site; all else is not there."""
        if route.request.method != "GET":
            route.abort()
            return
        try:
            visited = self.site.page(route.request.url, {"cache-control": "no-cache"})
        except LinkError:
            route.abort()
            return
        headers = {name: visited.headers[name] for name in _PASSED_ON if name in visited.headers}
        route.fulfill(status=visited.status, headers=headers, body=visited.body)


def first_line(error: Exception) -> str:
    """What went wrong, without the call's whole story."""
    return (str(error).splitlines() or [type(error).__name__])[0]
