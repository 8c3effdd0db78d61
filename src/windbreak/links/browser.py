"""A headless Chromium that shows one site, past every cache, where one is configured.

The browser asks for nothing itself: whatever a page wants is asked through the one client for
sites, so what lies elsewhere, is too large or too slow is missing from what it shows. It reads, and
sends nothing; it looks no name up. It has a sandbox where the system allows it one, and an end: a
page whose scripts never end takes the browser's time, and is then closed with it.
"""

from __future__ import annotations

import contextlib
import logging
import os
import secrets
import signal
import threading
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Self

from windbreak.links.errors import LinkError
from windbreak.links.visiting import Visiting

if TYPE_CHECKING:
    from playwright.sync_api import Browser as Chromium
    from playwright.sync_api import Page, Playwright, Route

log = logging.getLogger(__name__)

_OPTIONS = (
    "--host-resolver-rules=MAP * ~NOTFOUND",
    "--force-webrtc-ip-handling-policy=disable_non_proxied_udp",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
)
PATIENCE_MS = 20_000
LONGEST = 150.0  # seconds that one browser may take for all that it is asked
_MARK = "--windbreak-look="  # tells the processes of one browser from those of any other
_PASSED_ON = ("content-type",)


class NoBrowser(Exception):
    """The browser did not start; says why."""


class Browser:
    """A browser on one site. ``page`` is its one open page."""

    page: Page

    def __init__(self, program: str, site: Visiting, longest: float = LONGEST) -> None:
        self.program, self.site = program, site
        self._open = contextlib.ExitStack()
        self._mark = f"{_MARK}{secrets.token_hex(8)}"
        self._end = threading.Timer(longest, self._kill)
        self._end.daemon = True

    def __enter__(self) -> Self:
        try:
            from playwright.sync_api import Error, sync_playwright
        except ImportError:
            raise NoBrowser("the package playwright is not installed") from None
        try:
            playwright = self._open.enter_context(sync_playwright())
            self._end.start()
            self._open.callback(self._end.cancel)
            chromium = self._launched(playwright)
            self._open.callback(self._closed, chromium)
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

    def _launched(self, playwright: Playwright) -> Chromium:
        """The browser, in its sandbox where the system allows it one: whoever is root has none."""
        from playwright.sync_api import Error

        options = [*_OPTIONS, self._mark]
        if os.geteuid() != 0:
            try:
                return playwright.chromium.launch(
                    executable_path=self.program,
                    args=options,
                    timeout=PATIENCE_MS,
                    chromium_sandbox=True,
                )
            except Error as error:
                log.info("the browser starts without its sandbox: %s", first_line(error))
        return playwright.chromium.launch(
            executable_path=self.program, args=options, timeout=PATIENCE_MS
        )

    @staticmethod
    def _closed(chromium: Chromium) -> None:
        from playwright.sync_api import Error

        with contextlib.suppress(Error):  # it may be gone
            chromium.close()

    def _kill(self) -> None:
        """End the browser, whatever its pages are at: what was asked of it then fails."""
        log.warning("the browser took too long at %s, and was ended", self.site.address)
        for process in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                if self._mark.encode() in (process / "cmdline").read_bytes().split(b"\0"):
                    os.kill(int(process.name), signal.SIGKILL)

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
