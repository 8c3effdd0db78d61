"""Pictures of a site's pages, with a headless Chromium where one is configured.

    with Camera("/usr/bin/chromium", visiting) as camera:
        png = camera.take("/", 1280)

The browser asks for nothing itself: whatever a page wants is asked through the one client for
sites, so what lies elsewhere, is too large or too slow is missing from the picture.
"""

from __future__ import annotations

import contextlib
from types import TracebackType
from typing import TYPE_CHECKING, Self

from windbreak.links.errors import LinkError
from windbreak.links.visiting import Visiting

if TYPE_CHECKING:
    from playwright.sync_api import Route

_OPTIONS = (
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
)
_PATIENCE_MS = 20_000
_HEIGHT = 800
MOST_HEIGHT = 4000  # pixels of a page that are taken
_PASSED_ON = ("content-type",)


class NoPicture(Exception):
    """A picture could not be taken; says why."""


class Camera:
    """A browser that takes pictures of one site, past every cache."""

    def __init__(self, browser: str, site: Visiting) -> None:
        self.browser, self.site = browser, site
        self._open = contextlib.ExitStack()

    def __enter__(self) -> Self:
        try:
            from playwright.sync_api import Error, sync_playwright
        except ImportError:
            raise NoPicture("the package playwright is not installed") from None
        try:
            playwright = self._open.enter_context(sync_playwright())
            chromium = playwright.chromium.launch(
                executable_path=self.browser, args=list(_OPTIONS), timeout=_PATIENCE_MS
            )
            self._open.callback(chromium.close)
            pages = chromium.new_context(reduced_motion="reduce", service_workers="block")
            pages.set_default_timeout(_PATIENCE_MS)
            pages.route("**/*", self._ask)
            self._page = pages.new_page()
        except Error as error:
            self._open.close()
            raise NoPicture(f"{self.browser} did not start: {_first_line(error)}") from None
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._open.close()

    def take(self, where: str, width: int) -> bytes:
        """A page as a PNG, ``width`` pixels wide. Raises NoPicture."""
        from playwright.sync_api import Error

        try:
            self._page.set_viewport_size({"width": width, "height": _HEIGHT})
            self._page.goto(self.site.place(where), wait_until="load")
            tall = int(self._page.evaluate("document.documentElement.scrollHeight"))
            height = max(_HEIGHT, min(tall, MOST_HEIGHT))
            clip = {"x": 0, "y": 0, "width": width, "height": height}
            return self._page.screenshot(full_page=True, clip=clip, animations="disabled")  # type: ignore[arg-type]
        except (Error, LinkError) as error:
            raise NoPicture(f"{where}: {_first_line(error)}") from None

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


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0]
