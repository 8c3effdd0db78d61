"""Pictures of a site's pages.

with Camera("/usr/bin/chromium", visiting) as camera:
    png = camera.take("/", 1280)
"""

from __future__ import annotations

from windbreak.links.browser import Browser, first_line
from windbreak.links.errors import LinkError

_HEIGHT = 800
MOST_HEIGHT = 4000  # pixels of a page that are taken


class NoPicture(Exception):
    """A picture could not be taken; says why."""


class Camera(Browser):
    """A browser that takes pictures of one site."""

    def take(self, where: str, width: int) -> bytes:
        """A page as a PNG, ``width`` pixels wide. Raises NoPicture."""
        from playwright.sync_api import Error

        try:
            self.page.set_viewport_size({"width": width, "height": _HEIGHT})
            self.page.goto(self.site.place(where), wait_until="load")
            tall = int(self.page.evaluate("document.documentElement.scrollHeight"))
            height = max(_HEIGHT, min(tall, MOST_HEIGHT))
            clip = {"x": 0, "y": 0, "width": width, "height": height}
            return self.page.screenshot(full_page=True, clip=clip, animations="disabled")  # type: ignore[arg-type]
        except (Error, LinkError) as error:
            raise NoPicture(f"{where}: {first_line(error)}") from None
