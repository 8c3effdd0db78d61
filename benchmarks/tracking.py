"""How long tracking takes, as ratios within one run.

1. 200 feeds polled, against the plain client asking the same addresses, as many at once.
2. The first page of 5,000 sites, against the bare query of the same rows.

    python benchmarks/tracking.py [--feeds N] [--sites N]
"""

from __future__ import annotations

import argparse
import http.server
import json
import socket
import statistics
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

import httpx
import uvicorn

from windbreak.core.values.accounts import Principal
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.inventories import Installed, Inventory
from windbreak.core.values.sites import Host, NewSite
from windbreak.operations import accounts, findings, sites, tracking
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.views import products as product_views
from windbreak.service.app import create_app

RHONA = Principal(account="rhona", name="Rhona Vale", via="service")
HOSTS = 8
RELEASES = 12
ROUNDS = 5


class Maker(http.server.BaseHTTPRequestHandler):
    """A maker with many feeds; ``round`` adds a release, so that each look brings something."""

    round = 0
    protocol_version = "HTTP/1.1"
    wbufsize = 2**16

    def do_GET(self) -> None:
        body = document(self.path.strip("/"), self.round)
        self.send_response(200)
        self.send_header("content-type", "application/feed+json")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass


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


def timed(do: Callable[[], object]) -> float:
    start = time.perf_counter()
    do()
    return time.perf_counter() - start


def poll_feeds(context: Context, count: int) -> None:
    servers = [http.server.ThreadingHTTPServer(("127.0.0.1", 0), Maker) for _ in range(HOSTS)]
    for server in servers:
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
    urls = [f"http://127.0.0.1:{servers[n % HOSTS].server_port}/feed-{n}" for n in range(count)]
    for n, url in enumerate(urls):
        new = NewFeed(id=f"feed-{n}", label=f"Feed {n}", url=url)
        tracking.register(context, new, RHONA)
    feeds = context.store.feeds.all()

    def ours() -> None:
        results = list(tracking.poll_many(context, feeds, fresh=True))
        assert all(r.state == "fresh" for r in results), results[0].text

    def plain() -> None:
        with httpx.Client(trust_env=False) as client, ThreadPoolExecutor(HOSTS * 4) as pool:
            assert all(r.status_code == 200 for r in pool.map(client.get, urls))

    first = timed(ours)
    ratios, nothing_new, bare = [], [], []
    for n in range(ROUNDS):
        Maker.round = n
        bare.append(timed(plain))
        nothing_new.append(timed(ours))
        ratios.append(nothing_new[-1] / bare[-1])
    print(f"{count} feeds of {RELEASES}+ releases on {HOSTS} hosts")
    print(f"  plain client, medians        {statistics.median(bare) * 1000:8.0f} ms  x1.0")
    print(
        f"  polled, one new release each {statistics.median(nothing_new) * 1000:8.0f} ms  "
        f"x{statistics.median(ratios):.1f}"
    )
    print(f"  polled the first time        {first * 1000:8.0f} ms  x{first / bare[0]:.1f}")
    for server in servers:
        server.shutdown()


def list_sites(context: Context, count: int) -> None:
    sites.put_host(context, Host(id="mole", name="Mole", offers={"runtime/loom": ("8.1",)}), RHONA)
    now = datetime.now(UTC)
    components = tuple(
        Installed(
            product=f"plugin/feed-{n}", version=f"1.{n}", name=f"Feed {n}", folder=f"feed-{n}"
        )
        for n in range(10)
    )
    start = time.perf_counter()
    with context.store.transaction():
        for n in range(count):
            new = NewSite(label=f"Site {n}", address=f"https://site-{n}.example", host="mole")
            sites.register(context, new, RHONA, f"site-{n}")
            context.store.inventories.put(
                Inventory(
                    id=f"site-{n}",
                    at=now,
                    components=components,
                    automatic_updates=False,
                    free_mb=1000,
                )
            )
    made = time.perf_counter() - start
    start = time.perf_counter()
    projector.catch_up(context)
    settled = time.perf_counter() - start
    accounts.ensure_account(context, "rhona", "Rhona Vale")
    token = accounts.make_token(context, "rhona", "bench").secret
    held = socket.create_server(("127.0.0.1", 0))
    server = uvicorn.Server(uvicorn.Config(create_app(context, drive=False), log_level="error"))
    threading.Thread(target=server.run, kwargs={"sockets": [held]}, daemon=True).start()
    client = httpx.Client(
        base_url=f"http://127.0.0.1:{held.getsockname()[1]}",
        headers={"authorization": f"Bearer {token}"},
        trust_env=False,
        timeout=60,
    )
    client.get("/health")
    looked = timed(lambda: findings.look_again(context))
    again = timed(lambda: findings.look_again(context))
    products = timed(lambda: product_views.products(context))
    order = "lead_rank, lead_label, lead, follows, site"
    sql = f"SELECT body FROM row WHERE made ORDER BY {order} LIMIT 100"
    bare, page, whole = [], [], []
    for _ in range(20):
        bare.append(timed(lambda: context.store.database.ask(sql)))
        page.append(timed(lambda: client.get("/api/v1/sites?limit=100")))
    for _ in range(3):
        whole.append(timed(lambda: client.get("/api/v1/sites?limit=10000")))
    assert len(client.get("/api/v1/sites?limit=10000").json()) == count
    ratio = statistics.median(p / b for p, b in zip(page, bare, strict=True))
    print(f"{count} sites of 10 components")
    print(f"  registered {made:.1f} s; every row worked out {settled:.1f} s, once")
    print(f"  findings looked for {looked:.1f} s, again {again:.1f} s; products {products:.1f} s")
    print(f"  bare query of 100 rows       {statistics.median(bare) * 1000:8.1f} ms  x1.0")
    print(f"  first page over HTTP         {statistics.median(page) * 1000:8.1f} ms  x{ratio:.1f}")
    nothing = statistics.median(timed(lambda: client.get("/health")) for _ in range(20))
    print(f"  an empty answer over HTTP    {nothing * 1000:8.1f} ms")
    many, one = statistics.median(whole), statistics.median(bare)
    print(f"  all of them over HTTP        {many * 1000:8.0f} ms  x{many / one:.0f}")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--feeds", type=int, default=200)
    parser.add_argument("--sites", type=int, default=5000)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Path(folder), private_networks="127.0.0.0/8", per_host=4)
        poll_feeds(context, args.feeds)
        list_sites(context, args.sites)
        close(context)


if __name__ == "__main__":
    main()
