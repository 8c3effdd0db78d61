"""Where makers are asked, for how long, and how many at once."""

import http.server
import socket
import threading
import time
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from itertools import chain
from unittest import mock

import httpx
from hypothesis import given
from hypothesis import strategies as st

from windbreak.feeds.errors import FeedUnreachable
from windbreak.feeds.fetching import Credential, fetch, good_for, origin
from windbreak.feeds.signin import signed_in
from windbreak.outside import way_out
from windbreak.outside.at_once import at_once
from windbreak.outside.way_out import client, is_private, networks, only_makers


class _Server(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("set-cookie", "seen=yes")
        self.send_header("x-cookie", self.headers.get("cookie", "none"))
        self.end_headers()
        self.wfile.write(b"hello")

    def log_message(self, *args: object) -> None:
        pass


class Networks(unittest.TestCase):
    def setUp(self) -> None:
        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Server)
        thread = threading.Thread(target=self.server.serve_forever)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)

    def ask(self, allowed: str, host: str = "127.0.0.1") -> bytes:
        with client(only_makers(networks(allowed))) as out:
            return fetch(out, f"http://{host}:{self.server.server_port}/feed").body

    def test_a_private_network_is_refused_unless_it_is_allowed(self) -> None:
        for host in ("127.0.0.1", "localhost", "127.1"):
            with self.subTest(host=host):
                with self.assertRaises(FeedUnreachable) as caught:
                    self.ask("", host)
                self.assertIn("private", str(caught.exception))
        with self.assertRaises(FeedUnreachable):
            self.ask("10.0.0.0/8")
        self.assertEqual(self.ask("127.0.0.0/8"), b"hello")

    def test_a_redirect_inwards_is_refused(self) -> None:
        seen = []

        def inwards(request: httpx.Request) -> None:
            seen.append(request.url.host)

        with client(only_makers(networks("127.0.0.0/8"))) as out:
            out.event_hooks["request"] = [inwards]
            with self.assertRaises(FeedUnreachable):
                fetch(out, "http://169.254.10.10/feed")
            with self.assertRaises(FeedUnreachable):
                fetch(out, "http://[::ffff:10.0.0.1]/feed")

    def test_no_cookie_is_kept(self) -> None:
        with client(only_makers(networks("127.0.0.0/8"))) as out:
            url = f"http://127.0.0.1:{self.server.server_port}/"
            fetch(out, url)
            self.assertEqual(fetch(out, url).headers["x-cookie"], "none")

    def test_what_is_private_by_its_writing(self) -> None:
        for host in (
            "localhost",
            "10.1.2.3",
            "[::1]",
            "192.168.0.4",
            "maker.internal",
            "169.254.1.1",
        ):
            self.assertTrue(is_private(host), host)
        for host in ("maker.example", "93.184.216.34", "local.example"):
            self.assertFalse(is_private(host), host)


class _Counted(http.server.BaseHTTPRequestHandler):
    """Keeps its connections, and counts those that were opened and those that ended."""

    protocol_version = "HTTP/1.1"
    opened: Counter[int] = Counter()
    ended: Counter[int] = Counter()

    def setup(self) -> None:
        super().setup()
        self.opened[self.server.server_address[1]] += 1

    def finish(self) -> None:
        super().finish()
        self.ended[self.server.server_address[1]] += 1

    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("content-length", "5")
        self.end_headers()
        self.wfile.write(b"hello")

    def log_message(self, *args: object) -> None:
        pass


class Connections(unittest.TestCase):
    def setUp(self) -> None:
        self.ports = []
        for _ in range(2):
            server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Counted)
            server.daemon_threads = True
            threading.Thread(target=server.serve_forever, daemon=True).start()
            self.addCleanup(server.server_close)
            self.addCleanup(server.shutdown)
            self.ports.append(server.server_port)
        self.out = self.enterContext(client(only_makers(networks("127.0.0.0/8"))))

    def ask(self, port: int) -> None:
        self.assertEqual(fetch(self.out, f"http://127.0.0.1:{port}/feed").body, b"hello")

    def test_one_serves_many_asks_of_its_origin_and_of_no_other(self) -> None:
        for _ in range(3):
            for port in self.ports:
                self.ask(port)
        self.assertEqual([_Counted.opened[port] for port in self.ports], [1, 1])

    def test_one_that_nobody_asks_for_any_more_is_let_go(self) -> None:
        self.enterContext(mock.patch.object(way_out, "_KEPT", 0.05))
        gone, asked = self.ports
        self.ask(gone)
        end = time.monotonic() + 10
        while not _Counted.ended[gone]:
            self.assertLess(time.monotonic(), end, "it is kept")
            time.sleep(0.06)
            self.ask(asked)
        self.ask(gone)  # and it can be asked again
        self.assertEqual(_Counted.opened[gone], 2)

    def test_one_that_is_in_use_is_not_let_go(self) -> None:
        self.enterContext(mock.patch.object(way_out, "_KEPT", 0.05))
        used, asked = self.ports
        with self.out.stream("GET", f"http://127.0.0.1:{used}/feed") as response:
            for _ in range(5):
                time.sleep(0.06)
                self.ask(asked)
            self.assertEqual(response.read(), b"hello")


class Dripping(unittest.TestCase):
    def drip(self, answer: Callable[[socket.socket], None]) -> str:
        listening = socket.create_server(("127.0.0.1", 0))
        stop = threading.Event()

        def serve() -> None:
            held, _ = listening.accept()
            with held:
                while not stop.is_set():
                    try:
                        answer(held)
                    except OSError:
                        return
                    time.sleep(0.1)

        thread = threading.Thread(target=serve)
        thread.start()
        self.addCleanup(listening.close)
        self.addCleanup(thread.join)
        self.addCleanup(stop.set)
        with client(only_makers(networks("127.0.0.0/8"))) as out:
            port = listening.getsockname()[1]
            with self.assertRaises(FeedUnreachable) as caught:
                fetch(out, f"http://127.0.0.1:{port}/feed", seconds=1.0)
        return str(caught.exception)

    def test_headers_that_never_end_are_given_up(self) -> None:
        self.assertIn("too long", self.drip(lambda held: held.sendall(b"H")))

    def test_a_body_that_never_ends_is_given_up(self) -> None:
        head = iter([b"HTTP/1.1 200 OK\r\n\r\n"])
        self.assertIn("long", self.drip(lambda held: held.sendall(next(head, b" "))))


class SigningIn(unittest.TestCase):
    def test_each_kind_shows_its_credential_in_its_own_place(self) -> None:
        for kind, name, where, value in [
            ("bearer", "", "authorization", "Bearer key"),
            ("user and key", "ann", "authorization", "Basic YW5uOmtleQ=="),
            ("header", "X-Key", "x-key", "key"),
        ]:
            with self.subTest(kind=kind):
                request = httpx.Request("GET", "https://maker.example/feed?a=1")
                signed_in(kind, request, name, "key")
                self.assertEqual(request.headers[where], value)
        request = httpx.Request("GET", "https://maker.example/feed?a=1")
        signed_in("query", request, "key", "se cret")
        self.assertEqual(str(request.url), "https://maker.example/feed?a=1&key=se+cret")

    def test_it_goes_to_registered_origins_only(self) -> None:
        home = Credential("bearer", "", "key", frozenset([origin("https://maker.example/feed")]))
        for url, fits in [
            ("https://maker.example:443/packages/x.zip", True),
            ("http://maker.example/feed", False),
            ("https://maker.example.evil.example/feed", False),
            ("https://maker.example:8443/feed", False),
            ("https://maker.example@evil.example/", False),
        ]:
            self.assertEqual(home.fits(url), fits, url)
        self.assertNotIn("key", repr(home).replace("kind", ""))

    def test_cache_control_is_read(self) -> None:
        for text, seconds in [
            ("max-age=300", 300),
            ("public, max-age=60", 60),
            ("no-store, max-age=9", 0),
            ("", 0),
        ]:
            self.assertEqual(good_for({"cache-control": text}), seconds)


class AtOnce(unittest.TestCase):
    @given(
        st.lists(st.sampled_from("abcd"), max_size=30),
        st.integers(1, 6),
        st.integers(1, 3),
    )
    def test_each_is_done_once_and_no_limit_is_passed(
        self, places: list[str], most: int, per_place: int
    ) -> None:
        guard = threading.Lock()
        now: Counter[str] = Counter()
        over: list[str] = []

        def do(thing: tuple[int, str]) -> int:
            with guard:
                now[thing[1]] += 1
                if now[thing[1]] > per_place or sum(now.values()) > most:
                    over.append(thing[1])
            with guard:
                now[thing[1]] -= 1
            return thing[0]

        things = list(enumerate(places))
        ready = at_once(things, do, place=lambda t: t[1], most=most, per_place=per_place)
        self.assertEqual(sorted(chain.from_iterable(ready)), list(range(len(things))))
        self.assertEqual(over, [])

    def test_what_is_ready_within_a_moment_comes_together_and_before_a_fault(self) -> None:
        def do(thing: int) -> int:
            time.sleep(0.01 * thing)
            if thing == 7:
                raise ValueError("seven")
            return thing

        def batched(things: range) -> Iterator[list[int]]:
            return at_once(things, do, place=str, most=8, per_place=1, gather=0.5)

        self.assertEqual([sorted(batch) for batch in batched(range(7))], [list(range(7))])
        came = batched(range(8))
        self.assertEqual(sorted(next(came)), list(range(7)))
        with self.assertRaisesRegex(ValueError, "seven"):
            next(came)

    def test_a_place_that_hangs_keeps_back_nothing_else(self) -> None:
        held = threading.Event()

        def do(thing: tuple[str, int]) -> str:
            if thing[0] == "slow":
                held.wait(20)
            return thing[0]

        things = [("slow", n) for n in range(10)] + [("quick", n) for n in range(10)]
        ready = at_once(things, do, place=lambda t: t[0], most=4, per_place=2)
        found = chain.from_iterable(ready)
        first = [next(found) for _ in range(10)]
        self.assertEqual(first, ["quick"] * 10)
        held.set()
        self.assertEqual(list(found), ["slow"] * 10)
