"""Timetables: how long large books take, and how good they are beside a general solver.

The solver is given the same starts, lengths and limits, and the same vector place by place, on all
cores, for so many seconds in all; it begins from nothing. It is used in benchmarks only.
"""

from __future__ import annotations

import json
import random
import statistics
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

from benchmarks.figures import Figure, timed
from windbreak.core.bits import bits
from windbreak.core.scheduling.board import NEVER, Board
from windbreak.core.scheduling.reading import read_book
from windbreak.core.scheduling.search import Vector
from windbreak.core.scheduling.timetable import timetable
from windbreak.core.values.nightbooks import NightBook
from windbreak.wording.timetables import timetable_document

AT = datetime(2027, 5, 14, 16, 40, tzinfo=UTC)
ZONES = ("Europe/London", "Europe/Berlin", "Atlantic/Canary", "UTC", "America/New_York")
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
SIZES = (25, 30, 40, 60, 80, 100, 150, 200)
BOOKS, SECONDS = 8, 20.0  # in each run, and what the solver has for a book
MANY_BOOKS, MANY_SECONDS = 40, 60.0  # the same, where there is an hour for it


def made(seed: int, jobs: int, hosts: int, days: int, runs: int | None = None) -> dict[str, Any]:
    """A made-up night book, as JSON."""
    chance = random.Random(seed)
    sites = [_site(chance, n, hosts) for n in range(max(2, jobs * 3 // 4))]
    return {
        "format": "windbreak-nightbook/1",
        "at": AT.isoformat(),
        "horizon": (AT + timedelta(days=days)).isoformat(),
        "runs_at_once": runs,
        "hosts": [{"id": f"h{n}", "at_once": chance.choice([1, 1, 2, 3])} for n in range(hosts)],
        "sites": sites,
        "jobs": [_job(chance, n, len(sites), days) for n in range(jobs)],
        "gates": [_gate(chance, n, jobs) for n in range(jobs // 12)],
        "watch": [
            {
                "from": (AT + timedelta(days=day, hours=4)).isoformat(),
                "to": (AT + timedelta(days=day, hours=10)).isoformat(),
                "people": 2,
            }
            for day in range(days)
        ],
    }


def _site(chance: random.Random, n: int, hosts: int) -> dict[str, Any]:
    opens, hours = chance.choice([21, 22, 23, 0, 1, 2]), chance.choice([2, 3, 4, 5])
    start, end = f"{opens:02}:{chance.choice(['00', '30'])}", f"{(opens + hours) % 24:02}:00"
    night = {"days": chance.sample(DAYS, chance.randint(3, 7)), "start": start, "end": end}
    freezes = []
    if chance.random() < 0.15:
        begins = AT + timedelta(hours=chance.randint(1, 60))
        ends = begins + timedelta(days=chance.randint(1, 3))
        freezes = [{"from": begins.isoformat(), "to": ends.isoformat(), "reason": "a sale"}]
    return {
        "id": f"s{n}",
        "host": f"h{chance.randrange(hosts)}",
        "zone": chance.choice(ZONES),
        "windows": [night],
        "freezes": freezes,
    }


def _job(chance: random.Random, n: int, sites: int, days: int) -> dict[str, Any]:
    def within(hours: int) -> str:
        return (AT + timedelta(hours=chance.randint(1, hours))).isoformat()

    job: dict[str, Any] = {
        "id": f"j{n:04}",
        "site": f"s{chance.randrange(sites)}",
        "minutes": chance.choice([10, 17, 25, 33, 40, 55, 70]),
        "back": chance.choice([0, 8, 20]),
        "weight": chance.choice([1, 1, 1, 2, 5, 20]),
        "watched": chance.random() < 0.15,
    }
    if chance.random() < 0.3:
        job["earliest"] = within(days * 12)
    if chance.random() < 0.5:
        job["due"] = within(days * 24)
    return job


def _gate(chance: random.Random, n: int, jobs: int) -> dict[str, Any]:
    first, second = sorted(chance.sample(range(jobs), 2))
    quiet = chance.choice([0, 30, 600])
    return {
        "id": f"g{n}",
        "after": [f"j{first:04}"],
        "quiet": quiet,
        "before": [f"j{second:04}"],
    }


def figures() -> Iterator[Figure]:
    text = json.dumps(made(0, 2000, 40, 28))
    book = read_book(text)
    milliseconds, document = timed(lambda: timetable_document(timetable(book), "made"), rounds=3)
    yield Figure(
        "2,000 jobs on 40 hosts over four weeks, whys included", milliseconds / 1000, "s", 2.0
    )
    changed = _changed(json.loads(text), document)
    milliseconds, _ = timed(lambda: timetable(changed), rounds=3)
    yield Figure("the same after one freeze more", milliseconds / 1000, "s", 0.3)
    small = [read_book(json.dumps(made(seed, 4 + seed % 7, 2, 2, 2))) for seed in range(40)]
    took = [timed(lambda book=book: timetable(book))[0] for book in small]  # type: ignore[misc]
    yield Figure("books of up to 10 jobs, median", statistics.median(took), "ms", 20.0)
    yield from beside_a_solver(BOOKS, SECONDS)


def an_hour() -> Iterator[Figure]:
    """More books and more time for the solver than every run can wait for."""
    yield from beside_a_solver(MANY_BOOKS, MANY_SECONDS)


def _changed(raw: dict[str, Any], document: dict[str, Any]) -> NightBook:
    """The book with its timetable as it was, and a freeze in the middle of one site's nights."""
    starts = {booking["job"]: booking["start"] for booking in document["bookings"]}
    for job in raw["jobs"]:
        job["was"] = starts.get(job["id"])
    first = next(job for job in raw["jobs"] if job["was"])
    begins = datetime.fromisoformat(first["was"])
    freeze = {"from": begins.isoformat(), "to": (begins + timedelta(days=5)).isoformat()}
    site = next(site for site in raw["sites"] if site["id"] == first["site"])
    site["freezes"] = [*site["freezes"], freeze]
    return read_book(json.dumps(raw))


def beside_a_solver(count: int, seconds: float) -> Iterator[Figure]:
    worse, better, took, sums = 0, 0, 0.0, []
    for seed in range(count):
        jobs = SIZES[seed % len(SIZES)]
        book = read_book(json.dumps(made(seed, jobs, max(2, jobs // 15), 7, 4)))
        milliseconds, ours = timed(lambda book=book: timetable(book))  # type: ignore[misc]
        took = max(took, milliseconds / 1000)
        theirs = solved(ours.board, seconds)
        worse += ours.vector[:3] > theirs[:3]
        better += ours.vector[:3] < theirs[:3]
        if ours.vector[:3] == theirs[:3]:
            sums.append(100 * (ours.vector[3] / theirs[3] - 1))
    how = f"{count} books of {SIZES[0]} to {SIZES[-1]} jobs, {seconds:.0f} s each"
    yield Figure("books whose first three places a solver betters", worse, "", 0.5, how=how)
    yield Figure("books whose first three places are better than a solver’s", better, "", how=how)
    yield Figure(
        "the sum over the solver's, median, where these are equal",
        statistics.median(sums),
        "%",
        2.0,
        how=how,
    )
    yield Figure("the same, the most", max(sums), "%", 5.0, how=how)
    yield Figure("the longest that one of these books takes", took, "s", how=how)


def solved(board: Board, seconds: float) -> Vector:
    """The best vector that a general solver finds, place by place."""
    from ortools.sat.python import cp_model

    model = cp_model.CpModel()
    until = time.monotonic() + seconds
    horizon = board.size
    booked, starts, spans = {}, {}, {}
    places: list[list[Any]] = [[], [], [], []]
    for task in board.tasks:
        n, weight = task.number, int(task.job.weight)
        allowed = list(bits(task.allowed))
        booked[n] = model.new_bool_var(f"b{n}")
        places[0].append(weight * (1 - booked[n]))
        if task.was != NEVER and not (task.was >= 0 and task.allowed >> task.was & 1):
            places[2].append(1)  # it can't stay
        if not allowed:
            model.add(booked[n] == 0)
            continue
        domain = cp_model.Domain.from_values(allowed)
        starts[n] = model.new_int_var_from_domain(domain, f"s{n}")
        spans[n] = model.new_optional_interval_var(
            starts[n], task.length, starts[n] + task.length, booked[n], f"i{n}"
        )
        step = board.cell
        end = starts[n] * step + task.job.minutes
        done = model.new_int_var(0, horizon * step * 2, f"e{n}")
        model.add(done == end - board.at // 60).only_enforce_if(booked[n])
        model.add(done == 0).only_enforce_if(booked[n].negated())
        places[3].append(weight * done)
        if task.due is not None:
            late = model.new_int_var(0, horizon * step * 2, f"l{n}")
            model.add(late >= end - task.due // 60).only_enforce_if(booked[n])
            places[1].append(weight * late)
        if task.was >= 0 and task.allowed >> task.was & 1:
            stays = model.new_bool_var(f"w{n}")
            model.add(starts[n] == task.was).only_enforce_if(stays)
            model.add_implication(stays, booked[n])
            places[2].append(1 - stays)
    for group in board.groups:
        inside = [spans[n] for n in group.members if n in spans]
        if group.kind == "watch":
            most, demands = len(group.people), [1] * len(inside)
            for level in range(most):
                there = group.people[level]
                below = group.people[level - 1] if level else board.whole
                missing = _missing(model, below & ~there)
                inside += missing
                demands += [most - level] * len(missing)
            model.add_cumulative(inside, demands, most)
        elif inside:
            model.add_cumulative(inside, [1] * len(inside), group.cap)
    for after, before, quiet in zip(board.after, board.before, board.quiet, strict=True):
        for b in before:
            for a in after:
                model.add_implication(booked[b], booked[a])
                if a in starts and b in starts:
                    model.add(
                        starts[b] * board.cell
                        >= starts[a] * board.cell + board.tasks[a].job.minutes + quiet // 60
                    ).only_enforce_if(booked[b])
    solver = cp_model.CpSolver()
    vector = []
    for place in places:
        model.minimize(sum(place))
        solver.parameters.max_time_in_seconds = max(1.0, until - time.monotonic())
        status = solver.solve(model)
        if status not in (cp_model.OPTIMAL, cp_model.FEASIBLE):
            raise RuntimeError(f"the solver ended {solver.status_name(status)}")
        value = solver.value(sum(place)) if place else 0
        vector.append(float(value))
        if place:
            model.add(sum(place) <= value)
        model.clear_hints()
        for variables in (booked, starts):
            for variable in variables.values():
                model.add_hint(variable, solver.value(variable))
    return vector[0], vector[1], vector[2], vector[3]


def _missing(model: Any, cells: int) -> list[Any]:
    """Fixed stretches of some cells, in which somebody is not there."""
    found, place = [], 0
    while cells >> place:
        first = place + ((cells >> place) & -(cells >> place)).bit_length() - 1
        end = first
        while cells >> end & 1:
            end += 1
        found.append(model.new_fixed_size_interval_var(first, end - first, f"missing {first}"))
        place = end
    return found
