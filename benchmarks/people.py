"""Many people at once: what an answer costs, right after each kind of write, and fifty who work.

All are ratios within one run: each answer beside ``/session`` (which says next to nothing) asked in
the same moment; ``/session`` beside a bare FastAPI answer with one row read, on the same server;
fifty people beside one. Times of first drafts are told as on a machine whose loop of a million
additions takes 50 ms.
"""

from __future__ import annotations

import json
import os
import random
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx

from benchmarks import rollouts, timetables
from benchmarks.figures import Figure, pace, timed
from benchmarks.views import fleet
from windbreak.core.scheduling.reading import read_book
from windbreak.core.values.rollouts import NewRollout
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.executors import Workers
from windbreak.operations.scheduling import drafts
from windbreak.operations.views.projector import catch_up
from windbreak.standins.demo import Demo, set_up
from windbreak.wording.timetables import improved_document

PEOPLE, SECONDS, THOUGHT = 50, 60.0, 1.0
MANY = 5000
ROUNDS, AGAIN, DEAREST = 5, 25, 8
NORMAL = 0.05  # seconds that a loop of a million additions takes on the machine that is meant

BARE = """
import sqlite3, sys, threading, uvicorn
from fastapi import FastAPI
app, local = FastAPI(), threading.local()
@app.get("/row")
def row():
    if not hasattr(local, "db"):
        local.db = sqlite3.connect(sys.argv[1])
    found = local.db.execute("SELECT id, body FROM account WHERE id = ?", [sys.argv[2]]).fetchone()
    return {"account": found[0], "size": len(found[1])}
uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[3]), log_level="error")
"""


def figures() -> Iterator[Figure]:
    with tempfile.TemporaryDirectory() as folder:
        yield from _of_the_demo(Path(folder))
    with tempfile.TemporaryDirectory() as folder:
        yield from _of_many_sites(Path(folder))
    yield _lock()
    yield from _first_drafts()
    yield _books()


# The demo fleet.


def _of_the_demo(folder: Path) -> Iterator[Figure]:
    demo = Demo(folder)
    try:
        where = demo.start_standins()
        demo.start_service()
        set_up(demo, where)
        token = demo.token("bench")
        with _client(demo.address, token) as client:
            yield _session(client, folder / "service/windbreak.db")
            yield _after_writes(client, DEMO_READS, DEMO_WRITES, "the demo fleet", 3)
        yield from _people(demo.address, token, demo.processes["service"].pid)
    finally:
        demo.stop()


@contextmanager
def _client(address: str, token: str) -> Iterator[httpx.Client]:
    headers = {"authorization": f"Bearer {token}"}
    base = f"{address}/api/v1"
    with httpx.Client(base_url=base, headers=headers, trust_env=False, timeout=120) as client:
        yield client


def _session(client: httpx.Client, database: Path) -> Figure:
    """``/session`` beside a bare answer with one row read, in turn."""
    with _bare(database) as address, httpx.Client(base_url=address, trust_env=False) as bare:
        ours, theirs = [], []
        for _ in range(400):
            ours.append(_asked(client, "session"))
            theirs.append(_asked(bare, "row"))
    ratio = statistics.median(ours) / statistics.median(theirs)
    how = f"{statistics.median(ours) * 1000:.1f} ms and {statistics.median(theirs) * 1000:.1f} ms"
    return Figure("/session beside a bare answer with one row read", ratio, "x", 1.6, how=how)


@contextmanager
def _bare(database: Path) -> Iterator[str]:
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    args = [sys.executable, "-c", BARE, str(database), "rhona", str(port)]
    process = subprocess.Popen(args)
    address = f"http://127.0.0.1:{port}"
    try:
        _until_up(f"{address}/row")
        yield address
    finally:
        process.kill()
        process.wait()


def _until_up(url: str) -> None:
    until = time.monotonic() + 60
    while True:
        try:
            if httpx.get(url, trust_env=False).is_success:
                return
        except httpx.HTTPError:
            pass
        if time.monotonic() > until:
            raise RuntimeError(f"{url} does not answer")
        time.sleep(0.05)


def _asked(client: httpx.Client, path: str) -> float:
    """Seconds that an answer takes."""
    began = time.perf_counter()
    client.get(path).raise_for_status()
    return time.perf_counter() - began


# Right after each kind of write.

_MONTH = f"{datetime.now(UTC):%Y-%m}"
READS = (
    *("today", "sites", "products", "licences", "credentials", "forecasts", "coverage", "acts"),
    *("feeds", "hosts", "rules", "accounts", "rollouts", "failed-moves", "bookings", "freezes"),
    *("runs", "ledger?limit=50", "ledger/summary", "nights?days=7&zone=Europe/London"),
)
DEMO_READS = (
    *READS,
    *("sites/tarnsey-harbour", "sites/tarnsey-harbour/plans", "sites/tarnsey-harbour/outlook"),
    *("products/core/millrace", "products/plugin/trestle", "sites?runs=trestle<5.1"),
    *("errands?site=tarnsey-harbour", f"report?client=Tarnsey Borough&month={_MONTH}"),
)
MANY_READS = (*READS, "sites/site-17", "sites/site-17/outlook", "products/plugin/part-3")
_Write = tuple[str, Callable[[int], tuple[str, str, Any]]]


def _writes(site: str, product: str, host: dict[str, Any]) -> tuple[_Write, ...]:
    soon = datetime.now(UTC) + timedelta(days=9)

    def freeze(n: int) -> tuple[str, str, Any]:
        begins = soon + timedelta(hours=n)
        ends = begins + timedelta(hours=1)
        body = {"from": begins.isoformat(), "to": ends.isoformat(), "site": site, "reason": "a try"}
        return "POST", "freezes", body

    return (
        ("a note", lambda n: ("PUT", f"sites/{site}/notes/us", {"text": f"note {n}"})),
        ("a label", lambda n: ("PATCH", f"sites/{site}", {"label": f"A label {n}"})),
        ("a token", lambda n: ("POST", "tokens", {"label": f"a wall screen {n}"})),
        ("a hold", lambda n: ("POST", "holds", {"product": product, "reason": f"a try {n}"})),
        ("a freeze", freeze),
        ("a host", lambda n: ("PUT", f"hosts/{host['id']}", {**host, "name": f"Host {n}"})),
        (
            "an errand",
            lambda n: ("POST", "errands", {"site": site, "text": f"ring them, {n}"}),
        ),
    )


DEMO_WRITES = _writes(
    "heron-lodge",
    "plugin/netloft",
    {"id": "mole", "name": "Mole", "at_once": 4, "offers": {"runtime/loom": ["8.1", "8.2", "8.3"]}},
)
MANY_WRITES = _writes(
    "site-23",
    "plugin/part-9",
    {"id": "mole", "name": "Mole", "at_once": 1, "offers": {"runtime/loom": ["8.1"]}},
)


def _after_writes(
    client: httpx.Client,
    reads: tuple[str, ...],
    writes: tuple[_Write, ...],
    where: str,
    wanted: float,
) -> Figure:
    """The dearest answer right after the dearest kind of write, each beside ``/session`` asked in
    the same state.
    """
    for path in reads:
        client.get(path).raise_for_status()  # somebody works with it
    ratios = [
        (_ratio(client, path, write, ROUNDS), path, name)
        for name, write in writes
        for path in reads
    ]
    # The dearest of many short looks is one that was unlucky, so they are looked at for longer.
    kinds = dict(writes)
    again = [
        (_ratio(client, path, kinds[name], AGAIN), path, name)
        for _, path, name in sorted(ratios, reverse=True)[:DEAREST]
    ]
    ratio, path, name = max(again)
    how = f"{path} after {name}; {len(reads)} answers after {len(writes)} kinds"
    title = f"the dearest answer right after a write beside /session, {where}"
    return Figure(title, ratio, "x", wanted, how=how)


def _ratio(
    client: httpx.Client, path: str, write: Callable[[int], tuple[str, str, Any]], rounds: int
) -> float:
    """An answer right after a write beside ``/session`` right after another."""
    own, base = [], []
    for n in range(rounds):
        for asked, taken in ((path, own), ("session", base)):
            method, address, body = write(random.randrange(10**6) + n)
            client.request(method, address, json=body).raise_for_status()
            taken.append(_asked(client, asked))
    return statistics.median(own) / statistics.median(base)


# Fifty people.


def _people(address: str, token: str, pid: int) -> Iterator[Figure]:
    alone, faults = _work(address, token, 1, SECONDS / 3)
    memory: list[float] = []
    watching = threading.Timer(SECONDS / 3, lambda: memory.append(_memory(pid)))
    watching.start()
    many, more = _work(address, token, PEOPLE, SECONDS)
    before, after = memory[0], _memory(pid)
    p95 = [statistics.quantiles(took, n=20)[-1] for took in (alone, many)]
    how = f"{p95[1] * 1000:.0f} ms beside {p95[0] * 1000:.0f} ms; {len(many)} requests"
    title = f"{PEOPLE} people for a minute beside one alone, of twenty answers the slowest"
    yield Figure(title, p95[1] / p95[0], "x", 4, how=how)
    yield Figure("their errors", faults + more, "", 0.5)
    yield Figure(
        "the service's memory at the end of the minute, over that after a third of it",
        100 * (after / before - 1),
        "%",
        5,
        how=f"{after:.0f} MB at the end",
    )


def _work(address: str, token: str, people: int, seconds: float) -> tuple[list[float], int]:
    """Seconds of each answer while so many people work, nine reads and a write in turn, and how
    many went wrong.
    """
    until = time.monotonic() + seconds

    def person(number: int) -> tuple[list[float], int]:
        chance, took, faults = random.Random(number), list[float](), 0
        written = "0"
        with _client(address, token) as client:
            time.sleep(chance.random() * THOUGHT)
            while time.monotonic() < until:
                for n in range(10):
                    began = time.perf_counter()
                    try:
                        if n == 9:
                            text = {"text": f"{number} at {time.time()}"}
                            answer = client.put("sites/heron-lodge/notes/us", json=text)
                            written = answer.headers.get("generation", written)
                        else:
                            path = chance.choice(DEMO_READS)
                            answer = client.get(path, headers={"at-least-generation": written})
                        faults += not answer.is_success
                    except httpx.HTTPError:
                        faults += 1
                    took.append(time.perf_counter() - began)
                    time.sleep(THOUGHT * (0.5 + chance.random()))
                    if time.monotonic() > until:
                        break
        return took, faults

    with ThreadPoolExecutor(people) as pool:
        every = list(pool.map(person, range(people)))
    return [t for took, _ in every for t in took], sum(faults for _, faults in every)


def _memory(pid: int) -> float:
    """What a process and its child, the service, hold now, in MB: the largest of them."""
    most = 0
    for status in Path("/proc").glob("[0-9]*/status"):
        try:
            lines = dict(line.split(":", 1) for line in status.read_text().splitlines())
        except OSError:
            continue
        if pid in (int(lines["Pid"]), int(lines["PPid"])):
            most = max(most, int(lines.get("VmRSS", "0 kB").split()[0]) // 1024)
    return most


# 5,000 sites.


def _of_many_sites(folder: Path) -> Iterator[Figure]:
    context = open_context(folder)
    fleet(context, MANY)
    catch_up(context)
    accounts.ensure_account(context, "rhona", "Rhona Vale")
    token = accounts.make_token(context, "rhona", "bench").secret or ""
    close(context)
    args = [sys.executable, "-m", "windbreak", "serve", "--data", str(folder), "--port", "0"]
    args += ["--refresh-minutes", "0", "--pages-minutes", "0", "--account", "rhona"]
    (folder / "address").unlink(missing_ok=True)
    process = subprocess.Popen(args, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        while not (folder / "address").exists():
            time.sleep(0.1)
        address = (folder / "address").read_text()
        _until_up(f"{address}/ready")
        time.sleep(20)  # until what stands is there
        with _client(address, token) as client:
            yield _after_writes(client, MANY_READS, MANY_WRITES, f"{MANY} sites", 6)
    finally:
        process.terminate()
        process.wait(30)


# What a timetable keeps from others, and how soon it is there.


def _lock() -> Figure:
    """The longest that another thread waits for its turn while a worker improves a book of 200
    jobs: the middle of some rounds, less what it waits while nothing is done.
    """
    book = read_book(json.dumps(timetables.made(7, 200, 13, 7, 4)))
    workers = Workers(1)
    try:
        workers.submit(os.getpid).result()
        idle = [_longest_wait(lambda: time.sleep(1)) for _ in range(ROUNDS)]
        busy = [
            _longest_wait(lambda: workers.submit(improved_document, book, {}, 60.0).result())
            for _ in range(ROUNDS)
        ]
    finally:
        workers.shutdown()
    how = f"{statistics.median(idle):.1f} ms while nothing is done"
    title = "the longest that the service's lock is held while 200 jobs are improved"
    return Figure(title, statistics.median(busy), "ms", 20, how=how)


def _longest_wait(work: Callable[[], object]) -> float:
    """Milliseconds that a thread which sleeps for one is late at the most, while work is done."""
    done, longest = threading.Event(), 0.0

    def tick() -> None:
        nonlocal longest
        while not done.is_set():
            began = time.perf_counter()
            time.sleep(0.001)
            longest = max(longest, time.perf_counter() - began - 0.001)

    thread = threading.Thread(target=tick)
    thread.start()
    work()
    done.set()
    thread.join()
    return longest * 1000


def _first_drafts() -> Iterator[Figure]:
    for sites, wanted in ((37, 0.3), (500, 0.8), (2000, 1.5)):
        with tempfile.TemporaryDirectory() as folder:
            context = open_context(Path(folder))
            rollouts.linked(context, sites)
            drafts.catch_up(context)  # a service has worked it out for its calendar
            yield _first_draft(context, sites, wanted)
            close(context)


def _first_draft(context: Context, sites: int, wanted: float) -> Figure:
    took = []
    for n in range(3):
        new = NewRollout(product="plugin/part-3", version="1.7", quiet_minutes=60 + n)
        before = pace()
        milliseconds, draft = timed(lambda new=new: drafts.asked(context, new))  # type: ignore[misc]
        took.append(milliseconds / 1000 * NORMAL / (min(before, pace()) / 1000))
        drafts.shown(context, draft.id, 60)
    whole, _ = timed(lambda: drafts.finished(context, NewRollout(quiet_minutes=61)))
    how = f"{len(draft.members)} go; everything ready, final: {whole / 1000:.1f} s as it is here"
    title = f"the first answer of a draft of one release, {sites} sites, as with a loop of 50 ms"
    return Figure(title, statistics.median(took), "s", wanted, how=how)


def _books() -> Figure:
    """The longest that a book of 26 to 200 jobs takes, beside one of 2,000."""
    large = read_book(json.dumps(timetables.made(0, 2000, 40, 28)))
    small = [
        read_book(json.dumps(timetables.made(seed, jobs, max(2, jobs // 15), 7, 4)))
        for seed, jobs in enumerate((26, 60, 100, 200))
    ]
    ratios, longest = [], ""
    for _ in range(3):
        base, _ = timed(lambda: improved_document(large, {}, 600.0))
        took = [timed(lambda book=book: improved_document(book, {}, 600.0))[0] for book in small]  # type: ignore[misc]
        ratios.append(max(took) / base)
        longest = f"{max(took) / 1000:.2f} s beside {base / 1000:.2f} s"
    title = "the longest of books of 26 to 200 jobs beside one of 2,000"
    return Figure(title, statistics.median(ratios), "x", 1.0, how=longest)
