"""500 sites updated together, beside the least time that their own slowness allows.

The sites are other processes and sleep for a fixed time at each call (see ``sleepers``). Bookings
of all of them are due at once; each host bears so many at a time. The ideal is what the sites slept
in all, over how many may be worked on at a time.
"""

from __future__ import annotations

import contextlib
import json
import statistics
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx

from benchmarks.figures import Figure
from benchmarks.sleepers import CAN, RUNS, running
from windbreak.client import Windbreak
from windbreak.core.values.accounts import Principal
from windbreak.core.values.bookings import Booking
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.plans import ApprovePlan
from windbreak.core.values.products import ProductChange
from windbreak.core.values.sites import Host, Link, NewSite, Window
from windbreak.links import signing
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.planning import planning
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites
from windbreak.operations.tracking import catalogue as catalogue_of
from windbreak.operations.tracking import feeds, polling
from windbreak.operations.views import projector
from windbreak.standins.demo import Demo

SITES, PROCESSES, HOSTS, AT_ONCE = 500, 2, 25, 2
MOVES = "plugin/oarlock"
RHONA = Principal(account="rhona", name="Rhona Vale", via="service")


def figures() -> Iterator[Figure]:
    with contextlib.ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        demo = Demo(folder, few=True)
        stack.callback(demo.stop)
        makers = demo.start_standins()["feeds"]
        key = signing.new_key()
        ports: list[int] = []
        for _ in range(PROCESSES):
            process = stack.enter_context(running(SITES // PROCESSES, key))
            assert process.stdout is not None
            ports += json.loads(process.stdout.readline())
        context = open_context(demo.service_folder, private_networks="127.0.0.0/8")
        _fleet(context, makers, ports, signing.public_text(key))
        close(context)
        demo.start_service()
        took, looks = _until_ended(demo)
        memory = _most_memory(demo.processes["service"].pid)
        told = [httpx.get(f"http://127.0.0.1:{p}/slept").json() for p in (ports[0], ports[-1])]
        ideal = sum(sum(slept.values()) for slept in told) / (HOSTS * AT_ONCE)
    yield Figure(
        f"{SITES} sites updated together, beside the ideal",
        took / ideal,
        "x",
        1.15,
        how=f"{took:.0f} s, ideal {ideal:.0f} s: {HOSTS * AT_ONCE} at a time",
    )
    yield Figure("the service's memory meanwhile", memory, "MB", 300)
    yield Figure(
        "pages answered meanwhile, of 100 the slowest but one",
        statistics.quantiles(looks, n=100)[-1] * 1000,
        "ms",
        200,
        how="today, runs, sites and a run in turn",
    )


def _fleet(context: Context, makers: str, ports: list[int], public: str) -> None:
    """Sites that are linked, each with an approved plan and a booking that is due."""
    accounts.ensure_account(context, "rhona", "Rhona Vale")
    new = NewFeed(id="commons", label="Commons", url=f"{makers}/commons/releases.json")
    feeds.register(context, new, RHONA)
    polling.poll(context, "commons")
    catalogue_of.change_product(context, "core/millrace", ProductChange(major_place=2), RHONA)
    offers = {"runtime/loom": (RUNS["runtime/loom"],)}
    for n in range(HOSTS):
        host = Host(id=f"host-{n}", name=f"Host {n}", offers=offers, at_once=AT_ONCE)
        context.store.hosts.put(host)
    now = context.clock()
    for n, port in enumerate(ports):
        site = sites.register(
            context,
            NewSite(
                label=f"Site {n}",
                address=f"http://127.0.0.1:{port}",
                client=f"Client {n}",
                host=f"host-{n % HOSTS}",
                windows=(Window(start="00:00", end="00:00"),),
            ),
            RHONA,
        )
        context.store.agents.set_key(site.id, f"agent-{n}", public)
        link = Link(state="linked", agent_version="1.2", agent_can=CAN, looked_at=now)
        context.store.sites.change(site.id, link=link)
    list(sites.refresh_many(context, context.store.sites.live()))
    projector.catch_up(context)
    with ThreadPoolExecutor(AT_ONCE * HOSTS) as pool:
        list(pool.map(lambda site: _booked(context, site.id), context.store.sites.live()))


def _booked(context: Context, site: str) -> None:
    """An approved plan of a site, and a booking that is due: at its instant, since the timetable
    would otherwise give each its own, five minutes apart, and that would be measured.
    """
    plan = planning.draft(context, site, only=frozenset({MOVES}))
    approving.approve(context, plan.id, ApprovePlan(fetch=False), RHONA)
    booking = Booking(
        id=0,
        plan=plan.id,
        site=site,
        starts_at=context.clock(),
        why="all at once",
        made_by=RHONA.name,
        pinned=True,
    )
    context.store.bookings.add(booking)
    context.store.close()


def _until_ended(demo: Demo) -> tuple[float, list[float]]:
    """Seconds until every run has ended well, and what pages took meanwhile."""
    began, looks = time.monotonic(), []
    with Windbreak(demo.address, demo.token("bench")) as windbreak:
        headers = {"authorization": f"Bearer {windbreak.token}"}
        with httpx.Client(base_url=demo.address, headers=headers, timeout=60) as client:
            while True:
                for path in ("today", "runs", "sites", "runs/1"):
                    asked = time.monotonic()
                    client.get(f"/api/v1/{path}").raise_for_status()
                    looks.append(time.monotonic() - asked)
                states = _states(demo)
                if not states.keys() & {"running", None} and sum(states.values()) == SITES:
                    break
                time.sleep(0.5)
    took = time.monotonic() - began
    if states != {"done": SITES}:
        raise RuntimeError(f"not all ended well: {states}")
    return took, looks


def _states(demo: Demo) -> dict[str, int]:
    import sqlite3

    with contextlib.closing(sqlite3.connect(demo.service_folder / "windbreak.db")) as database:
        return dict(database.execute("SELECT state, count(*) FROM run GROUP BY state"))


def _most_memory(pid: int) -> float:
    """The most that a process and its children held at a time, in MB."""
    most = 0
    for status in Path("/proc").glob("[0-9]*/status"):
        with contextlib.suppress(OSError):
            lines = dict(line.split(":", 1) for line in status.read_text().splitlines())
            if pid in (int(lines["Pid"]), int(lines["PPid"])):
                most = max(most, int(lines.get("VmHWM", "0 kB").split()[0]) // 1024)
    return most
