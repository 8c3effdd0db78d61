"""A night book read whole or refused whole, with every fault and its JSON path.

Source of the format: docs/timetable.md.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import date, timedelta

from pydantic import ValidationError

from windbreak.core.errors import BookError, Fault
from windbreak.core.reading import json_of, model_faults, objects
from windbreak.core.scheduling.board import OFF_GRID, Board
from windbreak.core.scheduling.openings import ruled_days
from windbreak.core.values.nightbooks import FORMAT, NightBook

_TAGS = ("hours", "rule")  # the sorts of windows, as pydantic names them in a place
MOST_DAYS = 750  # from ``at`` to ``horizon``


def read_book(text: str | bytes) -> NightBook:
    """Read a night book. Raises BookError with every fault of the document."""
    raw = json_of(text, BookError)
    if not isinstance(raw, dict):
        raise BookError([Fault("$", "a night book is one JSON object")])
    faults: dict[str, Fault] = {}
    book = None
    if "format" not in raw:
        faults["$.format"] = Fault("$.format", f"required; it must be {FORMAT!r}")
    try:
        book = NightBook.model_validate_json(text)
    except ValidationError as error:
        for fault in model_faults(error, without=_TAGS):
            faults.setdefault(fault.path, fault)
    for fault in _cross_faults(raw):
        faults.setdefault(fault.path, fault)
    if book is not None:
        for fault in _faults_of_time(book, faults):
            faults.setdefault(fault.path, fault)
    if book is None or faults:
        raise BookError(list(faults.values()))
    return book


def _cross_faults(raw: Mapping[str, object]) -> Iterator[Fault]:
    """What no single value shows: unknown ids, an id twice, rules, circles. Works on the raw
    document, skipping what is malformed.
    """
    ids: dict[str, set[str]] = {}
    for key in ("hosts", "sites", "jobs", "gates"):
        there = ids.setdefault(key, set())
        for i, item in objects(raw.get(key)):
            id_ = item.get("id")
            if isinstance(id_, str):
                if id_ in there:
                    yield Fault(f"$.{key}[{i}].id", f"{id_!r} stands twice")
                there.add(id_)
    for i, site in objects(raw.get("sites")):
        host = site.get("host")
        if isinstance(host, str) and host not in ids["hosts"]:
            yield Fault(f"$.sites[{i}].host", f"{host!r} is no host of this book")
        yield from _rule_faults(f"$.sites[{i}]", site)
    for i, job in objects(raw.get("jobs")):
        site_id = job.get("site")
        if isinstance(site_id, str) and site_id not in ids["sites"]:
            yield Fault(f"$.jobs[{i}].site", f"{site_id!r} is no site of this book")
        if job.get("pinned") is True and job.get("was") is None:
            yield Fault(f"$.jobs[{i}].pinned", "what is pinned needs `was`: where it stands")
    yield from _gate_faults(raw, ids["jobs"])


def _rule_faults(where: str, site: Mapping[str, object]) -> Iterator[Fault]:
    for j, window in objects(site.get("windows")):
        rule, since = window.get("rrule"), window.get("from")
        if not isinstance(rule, str):
            continue
        try:
            first = date.fromisoformat(str(since))
        except ValueError:
            first = date(
                2000, 1, 3
            )  # the day has a fault of its own; the rule is read all the same
        try:
            ruled_days(rule, first, first, first + timedelta(days=1))
        except (ValueError, TypeError, KeyError, IndexError) as error:
            yield Fault(f"{where}.windows[{j}].rrule", f"{rule!r} can't be read: {error}")


def _gate_faults(raw: Mapping[str, object], jobs: set[str]) -> Iterator[Fault]:
    waits: dict[str, set[str]] = {}
    gates = list(objects(raw.get("gates")))
    for i, gate in gates:
        for side in ("after", "before"):
            for j, id_ in enumerate(_texts(gate.get(side))):
                if id_ not in jobs:
                    yield Fault(f"$.gates[{i}].{side}[{j}]", f"{id_!r} is no job of this book")
        for id_ in _texts(gate.get("before")):
            waits.setdefault(id_, set()).update(_texts(gate.get("after")))
    in_circles = _in_circles(waits)
    for i, gate in gates:
        circle = in_circles.intersection(_texts(gate.get("before")))
        circle = {b for b in circle if in_circles.intersection(_texts(gate.get("after")))}
        if circle:
            named = ", ".join(sorted(circle))
            yield Fault(f"$.gates[{i}]", f"a circle: {named} waits, in the end, for itself")


def _texts(value: object) -> list[str]:
    return [text for text in value if isinstance(text, str)] if isinstance(value, list) else []


def _in_circles(waits: Mapping[str, Iterable[str]]) -> set[str]:
    """The jobs that wait for themselves over some gates, or lie between such."""
    left = {(job, other) for job, others in waits.items() for other in others}
    while True:
        waiting, waited_for = {job for job, _ in left}, {other for _, other in left}
        inside = {(a, b) for a, b in left if a in waited_for and b in waiting}
        if inside == left:
            return waiting
        left = inside


def _faults_of_time(book: NightBook, already: Mapping[str, Fault]) -> Iterator[Fault]:
    if book.horizon < book.at:
        yield Fault("$.horizon", "it lies before `at`")
        return
    if book.horizon - book.at > timedelta(days=MOST_DAYS):
        yield Fault("$.horizon", f"it lies more than {MOST_DAYS} days after `at`")
        return
    for i, site in enumerate(book.sites):
        for j, freeze in enumerate(site.freezes):
            if freeze.to <= freeze.from_:
                where = f"$.sites[{i}].freezes[{j}].to"
                yield Fault(where, "a freeze ends after it begins")
    for i, watch in enumerate(book.watch):
        if watch.to <= watch.from_:
            yield Fault(f"$.watch[{i}].to", "a watch ends after it begins")
    if not already:
        yield from _pin_faults(book)


def _pin_faults(book: NightBook) -> Iterator[Fault]:
    """Jobs that are pinned where they may not stand, whatever else is booked."""
    board = Board(book)
    for i, job in enumerate(book.jobs):
        if not job.pinned:
            continue
        task, where = board.tasks[board.numbers[job.id]], f"$.jobs[{i}].was"
        if task.was == OFF_GRID:
            yield Fault(where, "what is pinned stands on the five-minute grid, within the book")
        elif not task.allowed >> task.was & 1:
            yield Fault(where, f"no opening of {job.site} takes it there, or it is too early")
        elif job.watched and board.unwatched(task, task.was):
            yield Fault(where, "nobody is there to watch it")
