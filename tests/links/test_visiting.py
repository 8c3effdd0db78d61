"""A site is not trusted: whatever it sends costs that one look or call."""

import http.server
import threading
import time
import unittest
from typing import ClassVar
from unittest import mock

from windbreak.links import visiting
from windbreak.links.errors import LinkError, Unfit, Unreachable
from windbreak.links.probing import look_at
from windbreak.links.visiting import Visiting
from windbreak.outside.way_out import client, only_sites


class Hostile(http.server.BaseHTTPRequestHandler):
    """A site that answers as its path says."""

    def do_GET(self) -> None:
        path = self.path
        if path == "/large":
            self.send_response(200)
            self.end_headers()
            block = b"x" * 2**16
            for _ in range(200):  # 12.5 MB
                self.wfile.write(block)
        elif path == "/slow":
            self.send_response(200)
            self.send_header("content-length", "100")
            self.end_headers()
            for _ in range(40):
                self.wfile.write(b"x")
                self.wfile.flush()
                time.sleep(0.1)
        elif path == "/cut":
            self.send_response(200)
            self.send_header("content-length", "100")
            self.end_headers()
            self.wfile.write(b"short")
        elif path.startswith("/to/"):
            self.send_response(302)
            self.send_header("location", path.removeprefix("/to/"))
            self.end_headers()
        elif path == "/round":
            self.send_response(302)
            self.send_header("location", "/round")
            self.end_headers()
        else:
            body = f"<title>{path}</title>".encode()
            self.send_response(200)
            self.send_header("content-length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

    def do_POST(self) -> None:
        self.rfile.read(int(self.headers.get("content-length", 0)))
        self.do_GET()

    def log_message(self, *args: object) -> None:
        pass


class Server(http.server.ThreadingHTTPServer):
    daemon_threads = True

    def handle_error(self, *args: object) -> None:
        """Whoever hangs up on it is what is tested."""


class WithHostile(unittest.TestCase):
    server: ClassVar[Server]

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = Server(("127.0.0.1", 0), Hostile)
        threading.Thread(target=cls.server.serve_forever, daemon=True).start()
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)

    def setUp(self) -> None:
        self.own: set[int] = set()
        self.client = client(only_sites(self.own))
        self.addCleanup(self.client.close)
        self.port = self.server.server_address[1]
        self.site = Visiting(self.client, f"http://127.0.0.1:{self.port}")


class Pages(WithHostile):
    def test_a_page_is_found_however_the_site_writes_its_address(self) -> None:
        for where in ("/visit", "visit", f"http://127.0.0.1:{self.port}/visit", "./visit#map"):
            with self.subTest(where=where):
                self.assertIn("/visit", self.site.page(where).text)
        self.assertIn("/visit", self.site.page("/to//visit").text)

    def test_what_leads_elsewhere_is_not_followed(self) -> None:
        for where in (
            "http://127.0.0.1:1/x",
            "//elsewhere.example/x",
            "https://127.0.0.1/x",
            "http://[broken",
            "/to/http://elsewhere.example/",
            "/to/file:///etc/passwd",
            "/round",
        ):
            with self.subTest(where=where), self.assertRaises(Unfit):
                self.site.page(where)

    def test_too_large_and_too_slow_end_the_look(self) -> None:
        with self.assertRaises(Unfit) as caught:
            self.site.page("/large")
        self.assertIn("larger than 5 MB", str(caught.exception))
        began = time.monotonic()
        with (
            mock.patch.object(visiting, "PAGE_SECONDS", 0.5),
            self.assertRaises(Unreachable) as late,
        ):
            self.site.page("/slow")
        self.assertLess(time.monotonic() - began, 2)
        self.assertIn("too long", str(late.exception))
        with self.assertRaises(Unreachable):
            self.site.page("/cut")

    def test_a_look_says_what_was_wrong_and_never_raises(self) -> None:
        for where in ("http://elsewhere.example/", "/large", "/cut"):
            look = look_at(self.site, "A page", where)
            with self.subTest(where=where):
                self.assertIsNone(look.status)
                self.assertTrue(look.faults[0])

    def test_neither_this_service_nor_nobody_is_asked(self) -> None:
        self.own.add(self.port)
        for address in (
            f"http://127.0.0.1:{self.port}",
            "http://169.254.169.254",
            "http://0.0.0.0:1",
            "http://[fe80::1]",
        ):
            with self.subTest(address=address), self.assertRaises(LinkError):
                Visiting(self.client, address).page("/")


class Calls(WithHostile):
    def test_an_answer_has_an_end(self) -> None:
        with self.assertRaises(Unfit) as caught:
            self.site.call("/large", b"{}", {})
        self.assertIn("larger than 8 MB", str(caught.exception))
        self.assertEqual(self.site.call("/large", b"{}", {}, most=2**24).status, 200)
        with self.assertRaises(Unreachable):
            self.site.call("/slow", b"{}", {}, seconds=0.5)

    def test_whether_a_call_may_have_arrived_is_told(self) -> None:
        with self.assertRaises(Unreachable) as gone:
            Visiting(self.client, "http://127.0.0.1:1").call("/x", b"{}", {})
        self.assertFalse(gone.exception.sent)
        with self.assertRaises(Unreachable) as cut:
            self.site.call("/cut", b"{}", {})
        self.assertTrue(cut.exception.sent)
