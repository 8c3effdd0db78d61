"""200 feeds polled, beside the plain client asking the same addresses, as many at once."""

from __future__ import annotations

import hashlib
import http.server
import json
import statistics
import tempfile
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx

from benchmarks.figures import Figure, timed
from windbreak.core.values.accounts import Principal
from windbreak.core.values.feeds import NewFeed
from windbreak.operations.context import close, open_context
from windbreak.operations.tracking import feeds, polling

RHONA = Principal(account="rhona", name="Rhona Vale", via="service")
FEEDS, HOSTS, RELEASES, ROUNDS = 200, 8, 12, 5


class Maker(http.server.BaseHTTPRequestHandler):
    """A maker with many feeds; ``round`` adds a release, so that each look brings something. Its
    documents are ready before they are asked for.
    """

    round = 0
    documents: dict[str, tuple[bytes, str]] = {}
    protocol_version = "HTTP/1.1"
    wbufsize = 2**16

    def do_GET(self) -> None:
        body, etag = self.documents[self.path.strip("/")]
        unchanged = self.headers.get("if-none-match") == etag
        self.send_response(304 if unchanged else 200)
        self.send_header("content-type", "application/feed+json")
        self.send_header("etag", etag)
        self.send_header("content-length", "0" if unchanged else str(len(body)))
        self.end_headers()
        if not unchanged:
            self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass

    @classmethod
    def prepare(cls, rounds: int) -> None:
        bodies = {f"feed-{n}": document(f"feed-{n}", rounds) for n in range(FEEDS)}
        cls.documents = {
            name: (body, f'"{hashlib.sha256(body).hexdigest()}"') for name, body in bodies.items()
        }


def document(name: str, rounds: int) -> bytes:
    items = [
        {
            "id": f"{name}-{n}",
            "title": f"{name} 1.{n}",
            "date_published": "2026-10-01T09:00:00Z",
            "attachments": [{"url": f"/{name}-1.{n}.zip", "_sha256": f"{n:064x}"}],
            "_release": {
                "product": f"plugin/{name}",
                "version": f"1.{n}",
                "requires": {"core/millrace": ">=6.2"},
                "changes": [{"kind": "fix", "text": f"Fault {k} is gone."} for k in range(6)],
            },
        }
        for n in range(RELEASES + rounds)
    ]
    return json.dumps({"version": "https://jsonfeed.org/version/1.1", "items": items}).encode()


def figures() -> Iterator[Figure]:
    servers = [http.server.ThreadingHTTPServer(("127.0.0.1", 0), Maker) for _ in range(HOSTS)]
    for server in servers:
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
    Maker.prepare(0)
    urls = [f"http://127.0.0.1:{servers[n % HOSTS].server_port}/feed-{n}" for n in range(FEEDS)]
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Path(folder), private_networks="127.0.0.0/8", per_host=4)
        for n, url in enumerate(urls):
            new = NewFeed(id=f"feed-{n}", label=f"Feed {n}", url=url)
            feeds.register(context, new, RHONA)

        def ours() -> None:
            results = list(polling.poll_many(context, context.store.feeds.all()))
            assert all(r.state == "fresh" for r in results), results[0].text

        def plain() -> None:
            with httpx.Client(trust_env=False) as client, ThreadPoolExecutor(HOSTS * 4) as pool:
                assert all(r.status_code == 200 for r in pool.map(client.get, urls))

        ours()
        news, nothing = [], []
        for n in range(ROUNDS):
            Maker.prepare(n + 1)
            bare, _ = timed(plain)
            news.append(timed(ours)[0] / bare)
            bare, _ = timed(plain)
            nothing.append(timed(ours)[0] / bare)
        close(context)
    for server in servers:
        server.shutdown()
    how = f"{FEEDS} feeds of {RELEASES} and more releases on {HOSTS} hosts, median of {ROUNDS}"
    yield Figure(
        "200 feeds, one new release each, beside the plain client",
        statistics.median(news),
        "x",
        1.5,
        how=how,
    )
    yield Figure(
        "200 feeds, nothing new, beside the plain client",
        statistics.median(nothing),
        "x",
        1.2,
        how=how,
    )
