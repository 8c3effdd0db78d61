"""A timetable as a document and in words: why then, why not, what would help.

Source of the format: docs/timetable.md. Times are told in the zone of the site.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from windbreak.core.scheduling.board import Board, Task
from windbreak.core.scheduling.openings import Span
from windbreak.core.scheduling.patience import Patience
from windbreak.core.scheduling.search import Vector
from windbreak.core.scheduling.timetable import Outcome, by_rules, timetable
from windbreak.core.scheduling.whys import Help, Stretch, Whys
from windbreak.core.values.nightbooks import Job, NightBook
from windbreak.wording.words import counted, listed

FORMAT = "windbreak-timetable/1"
_NAMES = ("unbooked", "late", "moved", "sum")
_MOST_REASONS = 3


def improved_document(book: NightBook, names: Mapping[str, str], seconds: float) -> dict[str, Any]:
    """The timetable of a book as a document, improved until it rests, or for so many seconds at the
    most: work for a process of its own.
    """
    until = time.monotonic() + seconds
    patience = Patience(lambda: time.monotonic() < until)
    return timetable_document(timetable(book, patience), "", names)


def first_document(book: NightBook) -> dict[str, Any]:
    """A lawful timetable of a book at once, by plain rules, as a document without reasons."""
    outcome = by_rules(book)
    board = outcome.board
    booked = {board.tasks[n].job.id: board.instant(start) for n, start in outcome.starts.items()}
    return {
        "bookings": [
            {"job": id_, "start": instant(start), "text": FIRST_TEXT}
            for id_, start in booked.items()
        ],
        "left_out": [
            {"job": job.id, "text": FIRST_TEXT} for job in book.jobs if job.id not in booked
        ],
        "improved": 0.0,
    }


FIRST_TEXT = "A first draft by plain rules. Windbreak is still looking for a better time."


def timetable_document(
    outcome: Outcome, file: str, names: Mapping[str, str] | None = None
) -> dict[str, Any]:
    """The answer to a night book; its texts call jobs, hosts and gates by ``names``."""
    names = names or {}
    whys, board = Whys(outcome), outcome.board
    booked = sorted(outcome.starts, key=lambda n: (outcome.starts[n], board.tasks[n].job.id))
    left = [task for task in board.tasks if task.number not in outcome.starts]
    return {
        "format": FORMAT,
        "file": file,
        "objective": _objective(outcome.vector),
        "proven": outcome.proven,
        "bound": _objective(outcome.bound),
        "bookings": [_booking(whys, board.tasks[n], outcome.starts[n], names) for n in booked],
        "left_out": [_left_out(whys, task, names) for task in left],
        # Only where it does not rest yet: how much of the work was done, from 0 to 1.
        **({} if outcome.rests or outcome.proven else {"improved": round(outcome.improved, 3)}),
    }


def _objective(vector: Vector) -> dict[str, float]:
    return {name: _plain(value) for name, value in zip(_NAMES, vector, strict=True)}


def _plain(value: float) -> float:
    return int(value) if value == int(value) else round(value, 6)


def _booking(whys: Whys, task: Task, start: int, names: Mapping[str, str]) -> dict[str, Any]:
    board = whys.board
    job, begins = task.job, board.instant(start)
    ends = board.origin + timedelta(seconds=board.end(task, start))
    late = max(0, board.end(task, start) - task.due) / 60 if task.due is not None else 0
    stretches = whys.of_booking(task)
    why = [stretch_document(stretch) for stretch in stretches]
    if start == task.was:
        why = [{"from": instant(board.book.at), "to": instant(begins), "kind": "kept"}]
    opening = _opening(board, job, begins)
    return {
        "job": job.id,
        "start": instant(begins),
        "end": instant(ends),
        "opening": [instant(edge) for edge in opening],
        "late": _plain(late),
        "why": why,
        "text": _booking_text(_Telling(board, job.site, names), board, task, start, stretches),
    }


def _opening(board: Board, job: Job, begins: datetime) -> Span:
    return next(span for span in board.opened(job.site) if span[0] <= begins < span[1])


def _left_out(whys: Whys, task: Task, names: Mapping[str, str]) -> dict[str, Any]:
    tell = _Telling(whys.board, task.job.site, names)
    stretches, helps = whys.of_left_out(task), whys.helps(task)
    return {
        "job": task.job.id,
        "why": [stretch_document(stretch) for stretch in stretches],
        "would_help": [help_document(help_) for help_ in helps],
        "text": _left_out_text(tell, whys.board, task, stretches, helps, whys.shut(task)),
    }


def instant(when: datetime) -> str:
    """An instant as it is written: "2026-11-24T01:10:00Z"."""
    return when.isoformat().replace("+00:00", "Z")


def stretch_document(stretch: Stretch) -> dict[str, Any]:
    """A stretch with its particulars."""
    document = {"from": instant(stretch.start), "to": instant(stretch.end), "kind": stretch.kind}
    return {**document, **{key: _json(value) for key, value in stretch.more.items()}}


def help_document(help_: Help) -> dict[str, Any]:
    """What would help, with its particulars."""
    return {"act": help_.act, **{key: _json(value) for key, value in help_.more.items()}}


def _json(value: Any) -> Any:
    if isinstance(value, datetime):
        return instant(value)
    return [_json(item) for item in value] if isinstance(value, list) else value


# In words.


class _Telling:
    """Times of day at a site, with the day where it is another than that told last; and names of
    jobs, hosts and gates, where they have any but their ids.
    """

    def __init__(self, board: Board, site: str, names: Mapping[str, str]) -> None:
        self.zone = ZoneInfo(board.sites[site].zone)
        self.day: object = None
        self.names = names

    def name(self, id_: str) -> str:
        return self.names.get(id_, id_)

    def listed(self, ids: Sequence[str]) -> str:
        return listed([self.name(id_) for id_ in ids])

    def __call__(self, when: datetime) -> str:
        local = when.astimezone(self.zone)
        day, self.day = self.day, local.date()
        hour = f"{local:%H:%M}"
        return hour if day == self.day else f"{local:%a} {local.day} {local:%b} {hour}"


def _booking_text(
    tell: _Telling, board: Board, task: Task, start: int, stretches: Sequence[Stretch]
) -> str:
    opening = _opening(board, task.job, board.instant(start))
    head = tell(board.instant(start))
    if start == task.was:
        return f"{head}: it is pinned there." if task.job.pinned else f"{head}: it stays."
    if not stretches:
        return f"{head}: at once."
    last, rest = stretches[-1], stretches[:-1]
    parts = [_last(board, task, last, tell)]
    if last.kind != "closed" and board.instant(start) == opening[0]:
        parts.append(f"the window opens {tell(opening[0])}")
    before = _distinct(rest, but=last)[:_MOST_REASONS]
    sooner = "; ".join(_of(board, task, stretch, tell) for stretch in before)
    return f"{head}: {' and '.join(parts)}{f'; not sooner: {sooner}' if sooner else ''}."


# What tells most of why a job is not sooner, first.
_TELLING = ("gate", "freeze", "earliest", "watch", "runs", "host", "site", "too-short")


def _distinct(stretches: Sequence[Stretch], but: Stretch | None = None) -> list[Stretch]:
    """The stretches that tell something of their own: what tells most first, of its like the
    latest. A closed one tells nothing, nor does the end of an opening that something else kept
    from being used.
    """
    seen, kept = {(but.kind, str(but.more)) if but else None}, []
    for number in reversed(range(len(stretches))):
        stretch = stretches[number]
        key = (stretch.kind, str(stretch.more))
        if stretch.kind == "closed" or key in seen or _is_tail(stretches, number):
            continue
        seen.add(key)
        kept.append(stretch)
    return sorted(kept, key=lambda stretch: _TELLING.index(stretch.kind))


def _is_tail(stretches: Sequence[Stretch], number: int) -> bool:
    """Whether a stretch is only the last of an opening, in which a job would have had room
    before."""
    stretch, before = stretches[number], stretches[number - 1] if number else None
    return (
        stretch.kind == "too-short"
        and before is not None
        and before.end == stretch.start
        and before.kind not in ("closed", "freeze", "too-short")
    )


def _last(board: Board, task: Task, stretch: Stretch, tell: _Telling) -> str:
    """What ended just then."""
    if stretch.kind == "closed":
        return f"the window opens {tell(stretch.end)}"
    if stretch.kind == "watch" and not stretch.more.get("jobs"):
        return f"somebody is there to watch it from {tell(stretch.end)} on"
    if stretch.kind == "too-short":
        return f"the next opening begins {tell(stretch.end)}; {_of(board, task, stretch, tell)}"
    return _of(board, task, stretch, tell)


def _of(board: Board, task: Task, stretch: Stretch, tell: _Telling) -> str:
    """What keeps a job from a stretch."""
    more, job = stretch.more, task.job
    jobs = list(more.get("jobs", ()))
    match stretch.kind:
        case "closed":
            return f"no window is open until {tell(stretch.end)}"
        case "freeze":
            reason = f" ({more['reason']})" if more["reason"] else ""
            return f"frozen{reason} until {tell(stretch.end)}"
        case "too-short":
            takes = f"{job.minutes + job.back} min with the way back"
            return f"only {more['minutes']} min are left of an opening, and it takes {takes}"
        case "earliest":
            why = tell.names.get(f"earliest {job.id}", "it may not begin before")
            return f"{why} {tell(more['earliest'])}"
        case "site":
            return f"{_done(more, tell)} at the site"
        case "host":
            cap = next(h.at_once for h in board.book.hosts if h.id == more["host"])
            return f"{tell.name(more['host'])} bears {cap} at once, and {_done(more, tell)}"
        case "runs":
            cap = board.book.runs_at_once or 0
            return f"no more than {cap} run at once in all, and {_done(more, tell)}"
        case "watch":
            if not jobs:
                return f"nobody is there to watch it in the window of {tell(stretch.start)}"
            return f"nobody else is there to watch it beside {tell.listed(jobs)}"
        case "gate":
            if more["until"] is None:
                return _shut(more, tell)
            named = more["gate"] in tell.names  # what it waits for is told by its name
            waits = "" if named else f" waits for {tell.listed(jobs)} and"
            return f"{_gate(more, tell)}{waits} opens {tell(more['until'])}"


def _done(more: dict[str, Any], tell: _Telling) -> str:
    """Who makes room, and when: "j3 is done 22:40"."""
    if not more["jobs"]:
        return "none more is to begin"
    return f"{tell.name(more['jobs'][0])} is done {tell(more['until'])}"


def _gate(gate: dict[str, Any], tell: _Telling) -> str:
    return tell.names.get(gate["gate"]) or f"gate {gate['gate']}"


def _are(jobs: Sequence[str]) -> str:
    return "is" if len(jobs) == 1 else "are"


def _shut(gate: dict[str, Any], tell: _Telling) -> str:
    jobs = gate["jobs"]
    return f"{_gate(gate, tell)} stays shut, as {tell.listed(jobs)} {_are(jobs)} left out"


def _left_out_text(
    tell: _Telling,
    board: Board,
    task: Task,
    stretches: Sequence[Stretch],
    helps: Sequence[Help],
    shut: dict[str, Any] | None,
) -> str:
    if shut is not None:
        return f"Left out: {_shut(shut, tell)}."
    nearest = _distinct(stretches)[:_MOST_REASONS]
    why = "; ".join(_of(board, task, stretch, tell) for stretch in nearest)
    if not why:
        why = "no window opens" if not board.opened(task.job.site) else "no opening takes it"
    if not helps:
        return f"Left out: {why}. Nothing by itself would help."
    first, *others = (_help(help_, tell) for help_ in helps)
    more = f", or {' or '.join(others[:2])}" if others else ""
    return f"Left out: {why}. It would help to {first}{more}."


def _help(help_: Help, tell: _Telling) -> str:
    more = help_.more
    match help_.act:
        case "widen":
            opens = tell(more["opening"][0])
            return f"make the opening of {opens} {counted(more['minutes'], 'minute')} longer"
        case "lift-freeze":
            return f"lift the freeze{f' ({reason})' if (reason := more['reason']) else ''}"
        case "add-window":
            return f"add a window from {tell(more['from'])} to {tell(more['to'])}"
        case "watcher":
            return f"have somebody watch from {tell(more['from'])} to {tell(more['to'])}"
        case "horizon":
            return f"look as far as {tell(more['to'])}"
        case "unpin":
            return "unpin it"
        case "raise-at-once":
            return f"let one more run at once on {tell.name(more['host'])}"
