"""A fleet of 5,000 sites: one new release, pages meanwhile, one site's change, the first page."""

from __future__ import annotations

import socket
import statistics
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from pathlib import Path

import httpx
import uvicorn

from benchmarks.figures import Figure, timed
from windbreak.core.values.accounts import Principal
from windbreak.core.values.inventories import Installed, Inventory
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import NewRelease
from windbreak.core.values.sites import Host, NewSite
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.findings import findings
from windbreak.operations.sites import inventories, sites
from windbreak.operations.tracking import catalogue
from windbreak.operations.views.projector import Projector, catch_up
from windbreak.service.app import create_app

RHONA = Principal(account="rhona", name="Rhona Vale", via="service")
SITES, PLUGINS, SITUATIONS = 5000, 30, 200


def fleet(context: Context, count: int = SITES) -> None:
    """So many sites of ten components, in 200 different situations."""
    with context.store.transaction():
        sites.put_host(
            context, Host(id="mole", name="Mole", offers={"runtime/loom": ("8.1",)}), RHONA
        )
        for n in range(PLUGINS):
            product = f"plugin/part-{n}"
            context.store.products.add(
                KnownProduct(
                    id=product, kind="plugin", name=f"Part {n}", access="public", feed=None
                )
            )
            for minor in range(8):
                new = NewRelease(
                    product=product,
                    version=f"1.{minor}",
                    published=date(2026, 1, 1 + minor),
                    source="the benchmark",
                )
                catalogue.type_in(context, new, RHONA)
    now = datetime.now(UTC)
    with context.store.transaction():
        for n in range(count):
            kind = n % SITUATIONS
            new_site = NewSite(label=f"Site {n}", address=f"https://site-{n}.example", host="mole")
            sites.register(context, new_site, RHONA, f"site-{n}")
            parts = [(kind + k * 3) % PLUGINS for k in range(10)]
            inventories.take_in(
                context,
                Inventory(
                    id=f"site-{n}",
                    at=now,
                    components=tuple(
                        Installed(
                            product=f"plugin/part-{part}",
                            version=f"1.{(kind // 7 + part) % 8}",
                            name=f"Part {part}",
                            folder=f"part-{part}",
                        )
                        for part in dict.fromkeys(parts)
                    ),
                    automatic_updates=False,
                    free_mb=1000,
                ),
            )


@contextmanager
def served(context: Context) -> Iterator[httpx.Client]:
    """The service over a context, in this process, and a client that is signed in."""
    accounts.ensure_account(context, "rhona", "Rhona Vale")
    token = accounts.make_token(context, "rhona", "bench").secret
    held = socket.create_server(("127.0.0.1", 0))
    server = uvicorn.Server(uvicorn.Config(create_app(context, drive=False), log_level="error"))
    thread = threading.Thread(target=server.run, kwargs={"sockets": [held]}, daemon=True)
    thread.start()
    with httpx.Client(
        base_url=f"http://127.0.0.1:{held.getsockname()[1]}",
        headers={"authorization": f"Bearer {token}"},
        trust_env=False,
        timeout=60,
    ) as client:
        yield client
    server.should_exit = True  # or its clock would tick through what is measured after it
    thread.join()


def figures() -> Iterator[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Path(folder))
        fleet(context)
        first, _ = timed(lambda: catch_up(context))
        with served(context) as client:
            yield from _measured(context, client, first)
        close(context)


def _measured(context: Context, client: httpx.Client, first: float) -> Iterator[Figure]:
    client.get("/health")
    projector = Projector(context)
    projector.project()
    pages: list[float] = []
    running = threading.Event()
    running.set()

    def read() -> None:
        while running.is_set():
            pages.append(timed(lambda: client.get("/api/v1/sites?limit=100"))[0])
            time.sleep(0.02)

    took = []
    for n in range(3):
        new = NewRelease(
            product="plugin/part-3",
            version=f"1.{20 + n}",
            published=date(2026, 2, 1),
            source="the benchmark",
        )
        catalogue.type_in(context, new, RHONA)
        running.set()
        reader = threading.Thread(target=read, daemon=True)
        reader.start()
        took.append(timed(lambda: _until_still(projector))[0] / 1000)
        running.clear()
        reader.join()
    touched = len(projector.last.rows) if projector.last else 0
    how = f"{SITES} sites in {SITUATIONS} situations"
    yield Figure("every view of 5,000 sites, from nothing", first / 1000, "s", how=how)
    yield Figure(
        f"one new release in 5,000 sites ({touched} it can touch): until every view is right",
        statistics.median(took),
        "s",
        3.0,
        how=how,
    )
    yield Figure("first pages meanwhile, median", statistics.median(pages), "ms", 30.0, how=how)
    yield Figure(
        "first pages meanwhile, the slowest of twenty",
        statistics.quantiles(pages, n=20)[-1],
        "ms",
        how=how,
    )
    site = context.store.sites.get("site-17")
    inventory = context.store.inventories.get("site-17")
    looked = []
    for n in range(5):
        part = inventory.components[0].model_copy(update={"version": f"1.{n}"})
        parts = (part, *inventory.components[1:])
        inventories.take_in(context, inventory.model_copy(update={"components": parts}))
        generation, _ = context.store.views.reached()
        done = projector._pass(generation, context.store.database.generation())
        assert done is not None
        marks = done.touched.marks
        looked.append(timed(lambda marks=marks: findings.look_at(context, marks))[0])
        context.store.views.reach(done.generation, context.clock())
    assert site.id == "site-17"
    yield Figure(
        "findings looked at again after one site's change",
        statistics.median(looked),
        "ms",
        20.0,
        how=how,
    )
    ratios = []
    for _ in range(30):
        nothing, _ = timed(lambda: client.get("/health"))
        page, _ = timed(lambda: client.get("/api/v1/sites?limit=100"))
        ratios.append(page / nothing)
    yield Figure(
        "first page of 5,000 sites, beside an empty answer",
        statistics.median(ratios),
        "x",
        1.3,
        how=how,
    )


def _until_still(projector: Projector) -> None:
    while projector.project():
        pass
