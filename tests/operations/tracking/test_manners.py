"""Makers with bad manners, over real HTTP: each is told of, and none does harm."""

import contextlib
import gzip
import http.server
import json
import tempfile
import threading
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from tests.operations.within import look_again
from windbreak.core.values.accounts import Principal
from windbreak.core.values.feeds import FeedChange, NewFeed
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.tracking import asking, catalogue, feeds, polling
from windbreak.operations.views import products as product_views

RHONA = Principal(account="rhona", name="Rhona Vale", via="token")
V = "https://jsonfeed.org/version/1.1"


def item(*, told: dict[str, Any] | None = None, **more: Any) -> dict[str, Any]:
    own = {"product": "plugin/lee", "version": "5.5", **(told or {})}
    return {"title": "Lee 5.5", "date_published": "2026-10-01T00:00:00Z", "_release": own, **more}


def feed(*items: Any, **more: Any) -> bytes:
    return json.dumps({"version": V, "title": "Maker", "items": list(items), **more}).encode()


GOOD = feed(item())
Case = tuple[int, dict[str, str], bytes, str, str]
# What comes back, the state the feed is in then, and a part of what is said.
CASES: dict[str, Case] = {
    "nothing": (200, {}, b"", "failing", "not JSON"),
    "no-content": (204, {}, b"", "failing", "status 204"),
    "a-part": (206, {}, GOOD, "failing", "status 206"),
    "a-page": (200, {}, b"<html>Sign in</html>", "failing", "not JSON"),
    "broken-gzip": (200, {"content-encoding": "gzip"}, b"\x1f\x8bnonsense", "failing", "broke off"),
    "gzip-bomb": (
        200,
        {"content-encoding": "gzip"},
        gzip.compress(b" " * 50_000_000),
        "failing",
        "more than 8 MB",
    ),
    "deep": (200, {}, b'{"a":' * 100_000, "failing", "not JSON"),
    "long-number": (200, {}, b"[" + b"9" * 6000 + b"]", "failing", "not JSON"),
    "loop": (302, {"location": "/loop"}, b"", "failing", "redirected more than"),
    "to-a-file": (302, {"location": "file:///etc/passwd"}, b"", "failing", "gave no answer"),
    "to-nowhere": (302, {"location": "http://[::"}, b"", "failing", "gave no answer"),
    "inwards": (302, {"location": "http://10.20.30.40/"}, b"", "failing", "private network"),
    "busy": (503, {"retry-after": "9" * 300}, b"", "failing", "status 503"),
    "closed": (401, {}, b"", "refused", "wants a credential"),
    "half-characters": (200, {}, feed(item(title="\ud800 Lee")), "fresh", "1 new of 1"),
    "marked": (200, {}, b"\xef\xbb\xbf" + GOOD, "fresh", "1 new of 1"),
    "not-items": (200, {}, feed(1, None, [], {"_release": 5}), "fresh", "4 items were passed over"),
    "odd-addresses": (
        200,
        {},
        feed(item(attachments=[{"url": "http://["}]), item(attachments=[{"url": 5}])),
        "fresh",
        "is no address",
    ),
    "odd-dates": (200, {}, feed(item(date_published="2026-13-40")), "fresh", "passed over"),
    "odd-names": (
        200,
        {},
        feed(item(told={"product": "plugin/../../etc"})),
        "fresh",
        "is not a product id",
    ),
    "long-version": (
        200,
        {},
        feed(item(told={"version": "1" + ".9" * 9999})),
        "fresh",
        "at most 100",
    ),
    "odd-heads": (
        200,
        {},
        feed(
            item(),
            next_url="http://[",
            _release={
                "headline": {"plugin/lee": ["5"], "plugin/x": None, "y": "1"},
                "withdrawn": {"runtime/": "x", "plugin/lee": 5},
                "credential": {"check_url": "javascript:x", "needs": [1, {}]},
            },
        ),
        "fresh",
        "1 new of 1",
    ),
    "in-a-circle": (200, {}, feed(item(), next_url="/in-a-circle"), "fresh", "in a circle"),
    "twice": (200, {}, feed(item(), item(told={"version": "5.5.0"})), "fresh", "listed twice"),
    "long-tag": (200, {"etag": f'"{"x" * 60_000}"'}, GOOD, "fresh", "1 new of 1"),
    "good-for-ever": (200, {"cache-control": f"max-age={'9' * 40}"}, GOOD, "fresh", "1 new of 1"),
}


class _Maker(http.server.BaseHTTPRequestHandler):
    meanwhile: ClassVar[dict[str, Callable[[], object]]] = {}  # done before the answer, by query

    def do_GET(self) -> None:
        path, _, query = self.path.partition("?")
        status, headers, body, _, _ = CASES[path.strip("/")]
        self.meanwhile.get(query, lambda: None)()
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        with contextlib.suppress(OSError):
            self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass


class Manners(unittest.TestCase):
    server: ClassVar[http.server.ThreadingHTTPServer]

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Maker)
        thread = threading.Thread(target=cls.server.serve_forever)
        thread.start()
        cls.addClassCleanup(thread.join)
        cls.addClassCleanup(cls.server.server_close)
        cls.addClassCleanup(cls.server.shutdown)

    def context(self) -> Context:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        context = open_context(Path(folder.name), private_networks="127.0.0.0/8")
        self.addCleanup(close, context)
        return context

    def test_each_is_told_of_and_none_does_harm(self) -> None:
        for name, (_, _, _, state, part) in CASES.items():
            with self.subTest(name=name):
                context = self.context()
                url = f"http://127.0.0.1:{self.server.server_port}/{name}"
                feeds.register(context, NewFeed(id=name, label=name, url=url), RHONA)
                for _ in range(2):
                    result = polling.poll(context, name, fresh=True)
                    self.assertEqual(result.state, state, result.text)
                    feed = context.store.feeds.get(name)
                    assert feed.next_poll_at is not None
                    wait = (feed.next_poll_at - context.clock()).total_seconds()
                    self.assertTrue(0 < wait <= 86_400 + 1, wait)
                    if "new of" not in part:
                        self.assertIn(part, result.text)
                # What is kept can be read back, and every page can be made of it.
                context.store.releases.all()
                product_views.products(context)
                look_again(context)

    def test_what_was_new_once_is_not_new_again(self) -> None:
        context = self.context()
        url = f"http://127.0.0.1:{self.server.server_port}/marked"
        feeds.register(context, NewFeed(id="marked", label="Marked", url=url), RHONA)
        self.assertEqual(polling.poll(context, "marked").taken, ("plugin/lee@5.5",))
        self.assertEqual(polling.poll(context, "marked", fresh=True).taken, ())

    def test_one_release_by_many_routes_at_once_is_one(self) -> None:
        context = self.context()
        good = f"http://127.0.0.1:{self.server.server_port}/marked"
        for n in range(30):
            feeds.register(context, NewFeed(id=f"good-{n}", label="Good", url=good), RHONA)
        results = list(polling.poll_many(context, context.store.feeds.all()))
        self.assertEqual({r.state for r in results}, {"fresh"})
        self.assertEqual(len(context.store.releases.all()), 1)
        self.assertEqual(len(context.store.releases.get("plugin/lee@5.5").routes), 30)

    def test_a_feed_dropped_or_changed_while_it_is_asked_is_passed_over(self) -> None:
        context = self.context()
        good = f"http://127.0.0.1:{self.server.server_port}/marked"
        for name in ("dropped", "changed", "left"):
            url = f"{good}?{name}"
            feeds.register(context, NewFeed(id=name, label="Good", url=url), RHONA)
        elsewhere = FeedChange(url=f"{good}?elsewhere")
        self.addCleanup(_Maker.meanwhile.clear)
        _Maker.meanwhile["dropped"] = lambda: feeds.drop(context, "dropped", RHONA)
        _Maker.meanwhile["changed"] = lambda: feeds.change(context, "changed", elsewhere, RHONA)
        results = {r.feed: r for r in polling.poll_many(context, context.store.feeds.all())}
        for name in ("dropped", "changed"):
            self.assertEqual(results[name].state, "failing")
            self.assertIn(name, results[name].text)
        self.assertEqual(context.store.releases.get("plugin/lee@5.5").routes, ("left",))
        changed = context.store.feeds.get("changed")
        self.assertEqual((changed.etag, changed.next_poll_at), (None, None))  # asked again at once

    def test_a_fault_of_ours_in_one_look_keeps_back_no_other(self) -> None:
        context = self.context()
        good = f"http://127.0.0.1:{self.server.server_port}/marked"
        for n in range(12):
            feeds.register(context, NewFeed(id=f"good-{n}", label="Good", url=good), RHONA)
        take_in = catalogue.take_in

        def faulty(*args: Any) -> catalogue.Taken:
            taken = take_in(*args)
            if args[1].id == "good-5":
                raise RuntimeError("a fault of ours")
            return taken

        results = []
        with (
            mock.patch.object(catalogue, "take_in", faulty),
            self.assertRaisesRegex(RuntimeError, "a fault of ours"),
        ):
            results += polling.poll_many(context, context.store.feeds.all())
        routes = context.store.releases.get("plugin/lee@5.5").routes
        self.assertEqual(set(routes), {f"good-{n}" for n in range(12)} - {"good-5"})
        self.assertIsNone(context.store.feeds.get("good-5").polled_at)

    def test_two_that_list_one_product_and_come_together_are_compared_anew(self) -> None:
        context = self.context()
        where = f"http://127.0.0.1:{self.server.server_port}"
        for name in ("marked", "half-characters"):  # both list plugin/lee
            new = NewFeed(id=name, label=name, url=f"{where}/{name}")
            feeds.register(context, new, RHONA)
        list(polling.poll_many(context, context.store.feeds.all()))
        looks = asking.last_looks(context)
        self.assertEqual(
            {name: look.announced for name, look in looks.items()},
            {
                "marked": None,
                "half-characters": None,
            },
        )
        polling.poll(context, "marked", fresh=True)
        self.assertIsNotNone(looks["marked"].announced)
