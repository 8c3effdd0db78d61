"""Reading the release-feed format, and fetching politely."""

import http.server
import json
import threading
import unittest
from typing import Any

import httpx

from windbreak.feeds.announced import Announced, Asked
from windbreak.feeds.errors import FeedRefused, FeedUnreachable, FeedUnreadable
from windbreak.feeds.fetching import Credential, Fetched, fetch, origin
from windbreak.feeds.release_feed import read

ITEM: dict[str, Any] = {
    "id": "breakwater-5.2",
    "title": "Breakwater 5.2",
    "date_published": "2026-11-14T09:00:00Z",
    "attachments": [{"url": "packages/breakwater-5.2.zip", "_sha256": "9f2c"}],
    "_release": {
        "product": "theme/breakwater",
        "version": "5.2",
        "requires": {"core/millrace": ">=6.3"},
        "from": ">=4.0",
        "bundles": {"plugin/trestle": {"version": "5.1", "need": "required"}},
        "changes": [{"kind": "security", "text": "…"}],
    },
}


def asked(body: bytes) -> Asked:
    return Asked("maker", Fetched("https://maker.example/feed/releases.json", body, {}))


def feed(*items: Any, **more: Any) -> Announced:
    document = {"version": "https://jsonfeed.org/version/1.1", "items": list(items), **more}
    return read(asked(json.dumps(document).encode()))


class Reading(unittest.TestCase):
    def test_an_item_becomes_an_announcement(self) -> None:
        (found,) = feed(ITEM).announcements
        self.assertEqual((found.product, found.version), ("theme/breakwater", "5.2"))
        self.assertEqual(found.from_, ">=4.0")
        self.assertEqual(found.bundles["plugin/trestle"].version, "5.1")
        self.assertEqual(str(found.published), "2026-11-14")
        assert found.package is not None
        self.assertEqual(
            found.package.url, "https://maker.example/feed/packages/breakwater-5.2.zip"
        )

    def test_an_item_that_is_wrong_costs_that_item_and_names_its_place(self) -> None:
        for change, place in [
            ({"version": "six"}, "items[0]._release.version"),
            ({"requires": {"core/millrace": ">=1 <2"}}, "items[0]._release.requires"),
            ({"colour": "green"}, "items[0]._release.colour"),
            ({"product": "breakwater"}, "items[0]._release.product"),
        ]:
            with self.subTest(place=place):
                bad = {**ITEM, "_release": {**ITEM["_release"], **change}}
                found = feed(bad, ITEM)
                self.assertEqual(len(found.announcements), 1)
                self.assertTrue(found.faults[0].startswith(place), found.faults)

    def test_an_item_of_something_else_is_no_release_and_no_fault(self) -> None:
        self.assertEqual(feed({"id": "news", "title": "We moved"}), feed())
        own = {**ITEM, "_release": {**ITEM["_release"], "_colour": "green"}}
        self.assertEqual(feed(own).faults, ())

    def test_what_is_no_such_feed_is_refused(self) -> None:
        for body in (b"<html>", b"[]", b'{"items": []}', b"[" * 100_000):
            with self.subTest(body=body[:10]), self.assertRaises(FeedUnreadable):
                read(asked(body))


class _Maker(http.server.BaseHTTPRequestHandler):
    """A maker with manners of every kind, by path."""

    seen: list[tuple[str, str | None]] = []
    elsewhere = ""

    def do_GET(self) -> None:
        self.seen.append((self.path, self.headers.get("authorization")))
        if self.path == "/loop":
            self._answer(302, b"", location="/loop")
        elif self.path == "/away":
            self._answer(302, b"", location=f"{self.elsewhere}/there")
        elif self.path == "/refused":
            self._answer(403, b"no")
        elif self.path == "/busy":
            self._answer(503, b"", **{"retry-after": "120"})
        elif self.path == "/endless":
            self._answer(200, b"x" * 200_000)
        elif self.headers.get("if-none-match") == '"one"':
            self._answer(304, b"")
        else:
            self._answer(200, b"hello", etag='"one"')

    def _answer(self, status: int, body: bytes, **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass


class Fetching(unittest.TestCase):
    def setUp(self) -> None:
        self.servers = [http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Maker) for _ in "ab"]
        for server in self.servers:
            thread = threading.Thread(target=server.serve_forever)
            thread.start()
            self.addCleanup(thread.join)
            self.addCleanup(server.server_close)
            self.addCleanup(server.shutdown)
        self.home, _Maker.elsewhere = (f"http://127.0.0.1:{s.server_port}" for s in self.servers)
        _Maker.seen = []
        self.client = httpx.Client(trust_env=False)
        self.addCleanup(self.client.close)

    def ask(self, path: str, **more: Any) -> Fetched:
        return fetch(self.client, f"{self.home}{path}", credential=self.credential(), **more)

    def credential(self) -> Credential:
        return Credential("bearer", "", "secret", frozenset([origin(self.home)]))

    def test_a_credential_goes_to_its_own_origin_and_not_along_a_redirect(self) -> None:
        self.assertEqual(self.ask("/away").body, b"hello")
        self.assertEqual(_Maker.seen, [("/away", "Bearer secret"), ("/there", None)])

    def test_an_attachment_elsewhere_is_asked_without_the_credential(self) -> None:
        where = f"{_Maker.elsewhere}/package.zip"
        fetch(self.client, where, credential=self.credential())
        self.assertEqual(_Maker.seen, [("/package.zip", None)])

    def test_nothing_new_is_said_as_such(self) -> None:
        self.assertTrue(self.ask("/feed", headers={"if-none-match": '"one"'}).unchanged)

    def test_bad_manners_are_told_and_do_no_harm(self) -> None:
        for path, error, part in [
            ("/loop", FeedUnreachable, "redirected more than"),
            ("/refused", FeedRefused, "403"),
            ("/busy", FeedUnreachable, "503"),
        ]:
            with self.subTest(path=path), self.assertRaises(error) as caught:
                self.ask(path)
            self.assertIn(part, str(caught.exception))
        with self.assertRaises(FeedUnreachable):
            self.ask("/endless", limit=100_000)

    def test_how_long_to_wait_is_remembered(self) -> None:
        with self.assertRaises(FeedUnreachable) as caught:
            self.ask("/busy")
        self.assertEqual(caught.exception.retry_after, 120)
