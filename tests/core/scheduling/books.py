"""Made-up night books, what must hold of a timetable, and the best one by trying every order."""

from __future__ import annotations

import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from itertools import combinations, permutations
from typing import Any

from windbreak.core.scheduling.openings import openings, within, without
from windbreak.core.values.nightbooks import Job, NightBook

AT = datetime(2027, 5, 14, 16, 40, tzinfo=UTC)
GRID = timedelta(minutes=5)
ZONES = ("Europe/London", "Europe/Berlin", "Atlantic/Canary", "UTC", "America/New_York")
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
FOREVER = datetime.max.replace(tzinfo=UTC)

Vector = tuple[float, float, float, float]
Starts = dict[str, datetime]


def made(seed: int, jobs: int, days: float = 1.0) -> NightBook:
    """A book of so many jobs at fewer sites on two hosts, tight enough that they compete."""
    chance = random.Random(seed)
    sites = [_site(chance, n) for n in range(max(2, jobs * 3 // 4))]
    raw = {
        "format": "windbreak-nightbook/1",
        "at": AT.isoformat(),
        "horizon": (AT + timedelta(days=days)).isoformat(),
        "runs_at_once": chance.choice([None, 2, 3]),
        "hosts": [{"id": f"h{n}", "at_once": chance.choice([1, 1, 2])} for n in range(2)],
        "sites": sites,
        "jobs": [_job(chance, n, len(sites), days) for n in range(jobs)],
        "gates": [_gate(chance, n, jobs) for n in range(chance.choice([0, 1, 1, 2]))],
        "watch": [_watch(chance, n) for n in range(2)],
    }
    return NightBook.model_validate(raw, strict=False)


def _site(chance: random.Random, n: int) -> dict[str, Any]:
    opens, hours = chance.choice([20, 21, 22, 23, 0, 1]), chance.choice([1, 2, 3])
    half = chance.choice(["00", "30"])
    hours_of = {"start": f"{opens:02}:{half}", "end": f"{(opens + hours) % 24:02}:00"}
    windows: list[dict[str, Any]] = [{"days": chance.sample(DAYS, 5), **hours_of}]
    if chance.random() < 0.2:
        windows.append({"rrule": "FREQ=DAILY;INTERVAL=2", "from": "2027-05-01", "start": "12:00",
                        "minutes": 75})  # fmt: skip
    freezes = []
    if chance.random() < 0.3:
        begins = AT + timedelta(minutes=chance.randrange(0, 900))
        ends = begins + timedelta(minutes=chance.randrange(10, 300))
        freezes.append({"from": begins.isoformat(), "to": ends.isoformat(), "reason": "a sale"})
    return {
        "id": f"s{n}",
        "host": chance.choice(["h0", "h0", "h1", None]),
        "zone": chance.choice(ZONES),
        "windows": windows,
        "freezes": freezes,
    }


def _job(chance: random.Random, n: int, sites: int, days: float) -> dict[str, Any]:
    def instant() -> str:
        return (AT + GRID * chance.randrange(int(days * 288))).isoformat()

    job: dict[str, Any] = {
        "id": f"j{n}",
        "site": f"s{chance.randrange(sites)}",
        "minutes": chance.choice([10, 17, 25, 33, 40, 55, 70]),
        "back": chance.choice([0, 8, 20]),
        "weight": chance.choice([1, 1, 2, 5]),
        "watched": chance.random() < 0.25,
    }
    for key, share in (("earliest", 0.3), ("due", 0.5), ("was", 0.35)):
        if chance.random() < share:
            job[key] = instant()
    return job


def _gate(chance: random.Random, n: int, jobs: int) -> dict[str, Any]:
    first, *rest = sorted(chance.sample(range(jobs), 3))
    after = [f"j{first}"] if chance.random() < 0.5 else [f"j{first}", f"j{rest[0]}"]
    return {
        "id": f"g{n}",
        "after": after,
        "quiet": chance.choice([0, 30, 90]),
        "before": [f"j{rest[1]}"],
    }


def _watch(chance: random.Random, n: int) -> dict[str, Any]:
    begins = AT + timedelta(minutes=chance.choice([180, 200, 303]) + 240 * n)
    ends = begins + timedelta(minutes=chance.choice([120, 200, 300]))
    return {"from": begins.isoformat(), "to": ends.isoformat(), "people": chance.choice([1, 2])}


# What must hold, written down as it is said.


def end(job: Job, start: datetime) -> datetime:
    return start + timedelta(minutes=job.minutes)


def opened(book: NightBook, site: str) -> list[tuple[datetime, datetime]]:
    (place,) = [s for s in book.sites if s.id == site]
    spans = openings(place.windows, place.zone, book.at, book.horizon)
    frozen = [(freeze.from_, freeze.to) for freeze in place.freezes]
    return within(without(spans, frozen), book.at, book.horizon)


def alone(book: NightBook, job: Job, start: datetime) -> bool:
    """Whether a job may start at an instant as far as it alone is asked."""
    whole = end(job, start) + timedelta(minutes=job.back)
    day = book.at.replace(hour=0, minute=0, second=0, microsecond=0)
    return (
        (start - day) % GRID == timedelta()
        and any(opens <= start and whole <= closes for opens, closes in opened(book, job.site))
        and (job.earliest is None or start >= job.earliest)
        and (not job.pinned or start == job.was)
    )


def together(book: NightBook, starts: Starts) -> bool:
    """Whether jobs that may each start so may do so together."""
    jobs = {job.id: job for job in book.jobs}
    hosts = {site.id: site.host for site in book.sites}
    caps = {host.id: host.at_once for host in book.hosts}
    for id_, start in starts.items():
        # The most is reached where somebody starts, or where somebody who watches leaves.
        job = jobs[id_]
        running = [jobs[o] for o, s in starts.items() if s <= start < end(jobs[o], s)]
        if sum(one.site == job.site for one in running) > 1:
            return False
        host = hosts[job.site]
        if host is not None and sum(hosts[one.site] == host for one in running) > caps[host]:
            return False
        if book.runs_at_once is not None and len(running) > book.runs_at_once:
            return False
    edges = {*starts.values(), *(w.from_ for w in book.watch), *(w.to for w in book.watch)}
    for edge in edges:
        watched = sum(jobs[o].watched and s <= edge < end(jobs[o], s) for o, s in starts.items())
        if watched > sum(w.people for w in book.watch if w.from_ <= edge < w.to):
            return False
    for gate in book.gates:
        for id_ in gate.before:
            if id_ not in starts:
                continue
            if any(other not in starts for other in gate.after):
                return False
            last = max(end(jobs[other], starts[other]) for other in gate.after)
            if starts[id_] < last + timedelta(minutes=gate.quiet):
                return False
    return True


def vector(book: NightBook, starts: Starts) -> Vector:
    """What a timetable comes to."""
    unbooked = late = moved = total = 0.0
    for job in book.jobs:
        start = starts.get(job.id)
        moved += job.was is not None and start != job.was
        if start is None:
            unbooked += job.weight
            continue
        minutes = (end(job, start) - book.at) / timedelta(minutes=1)
        total += job.weight * minutes
        if job.due is not None:
            over = (end(job, start) - job.due) / timedelta(minutes=1)
            late += job.weight * max(0.0, over)
    return unbooked, late, moved, total


def best(book: NightBook) -> tuple[Vector, list[datetime]]:
    """The best vector and, of all starts that reach it, those in which the lower id is earlier: by
    every order of the jobs, each at its first free start, some of them where they were.
    """
    free = {job.id: [s for s in _grid(book) if alone(book, job, s)] for job in book.jobs}
    could_stay = [j.id for j in book.jobs if j.was is not None and alone(book, j, j.was)]
    found = None
    for count in range(len(could_stay) + 1):
        for stay in combinations(could_stay, count):
            for starts in _orders(book, stay, free):
                told = [
                    starts.get(job.id, FOREVER) for job in sorted(book.jobs, key=lambda j: j.id)
                ]
                found = min(found or (vector(book, starts), told), (vector(book, starts), told))
    assert found is not None
    return found


def _grid(book: NightBook) -> list[datetime]:
    day = book.at.replace(hour=0, minute=0, second=0, microsecond=0)
    return [day + GRID * n for n in range(int((book.horizon - day) / GRID) + 1)]


def _orders(
    book: NightBook, stay: tuple[str, ...], free: dict[str, list[datetime]]
) -> Iterator[Starts]:
    jobs = {job.id: job for job in book.jobs}
    kept = {id_: jobs[id_].was for id_ in stay}
    for order in permutations(set(jobs) - set(stay)):
        starts: Starts = {id_: was for id_, was in kept.items() if was is not None}
        for id_ in order:
            waits = [other for gate in book.gates if id_ in gate.before for other in gate.after]
            for start in free[id_] if all(other in starts for other in waits) else ():
                if _may(book, {**starts, id_: start}):
                    starts[id_] = start
                    break
        if together(book, starts):
            yield starts


def _may(book: NightBook, starts: Starts) -> bool:
    """Whether jobs may start so, whatever gates still wait for."""
    there = set(starts)
    gates = tuple(
        gate.model_copy(update={"after": tuple(a for a in gate.after if a in there)})
        for gate in book.gates
    )
    gates = tuple(gate for gate in gates if gate.after)
    return together(book.model_copy(update={"gates": gates}), starts)
