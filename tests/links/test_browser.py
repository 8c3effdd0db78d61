"""A browser on one site: what never ends is ended, and nothing outside is asked."""

from __future__ import annotations

import contextlib
import shutil
import socket
import threading
import time
import unittest
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx

from windbreak.links.browser import Browser
from windbreak.links.camera import Camera, NoPicture
from windbreak.links.visiting import Visiting

CHROMIUM = shutil.which("chromium") or ""
_HEAD = "<title>x</title><h1>x</h1>"
ENDLESS = f"{_HEAD}<script>onload = () => setTimeout(() => {{ for (;;) {{}} }})</script>"
CALLS = (
    f"{_HEAD}<script>new WebSocket('ws://127.0.0.1:PORT/');"
    "fetch('http://127.0.0.1:PORT/').catch(() => {})</script>"
)


@unittest.skipUnless(CHROMIUM, "no browser is here")
class OnOneSite(unittest.TestCase):
    page = ""

    def setUp(self) -> None:
        test = self

        class Pages(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                self.send_response(200)
                self.send_header("content-type", "text/html")
                self.end_headers()
                self.wfile.write(test.page.encode())

            def log_message(self, format: str, *args: object) -> None:
                pass

        server = ThreadingHTTPServer(("127.0.0.1", 0), Pages)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        client = self.enterContext(httpx.Client(trust_env=False))
        self.site = Visiting(client, f"http://127.0.0.1:{server.server_port}")

    def processes(self, browser: Browser) -> list[str]:
        found = []
        for process in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                if browser._mark.encode() in (process / "cmdline").read_bytes():
                    found.append(process.name)
        return found

    def test_a_page_whose_scripts_never_end_ends_with_its_browser(self) -> None:
        self.page, began = ENDLESS, time.monotonic()
        with self.assertRaises(NoPicture), Camera(CHROMIUM, self.site, longest=8) as camera:
            time.sleep(0.5)
            camera.take("/", 1280)
            time.sleep(0.5)
            camera.take("/", 390)
        self.assertLess(time.monotonic() - began, 20)
        self.assertEqual(self.processes(camera), [])

    def test_it_asks_nothing_but_the_site(self) -> None:
        with self.listening() as (port, met):
            self.page = CALLS.replace("PORT", str(port))
            with Camera(CHROMIUM, self.site) as camera:
                camera.take("/", 390)
                time.sleep(1)
            self.assertEqual(met, [])

    @contextlib.contextmanager
    def listening(self) -> Iterator[tuple[int, list[object]]]:
        """A port beside the site, and who came there."""
        met: list[object] = []
        with socket.create_server(("127.0.0.1", 0)) as server:
            server.settimeout(0.2)
            over = threading.Event()

            def accept() -> None:
                while not over.is_set():
                    with contextlib.suppress(TimeoutError):
                        met.append(server.accept())

            thread = threading.Thread(target=accept)
            thread.start()
            try:
                yield server.getsockname()[1], met
            finally:
                over.set()
                thread.join()
