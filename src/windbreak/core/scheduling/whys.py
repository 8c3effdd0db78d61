"""Why a job starts when it does, why others have no start, and what would help those.

Each stretch of time before a start tells one thing that keeps the job from every start in it, with
all other bookings as they are. What would help is tried before it is told.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any, Literal

from windbreak.core.scheduling.board import NEVER, Board, Taken, Task, first, free_for, span_mask
from windbreak.core.scheduling.openings import Span, openings, within, without
from windbreak.core.scheduling.timetable import Outcome

Kind = Literal["closed", "freeze", "too-short", "earliest", "site", "host", "runs", "watch", "gate"]
HelpAct = Literal[
    "widen", "lift-freeze", "add-window", "watcher", "horizon", "unpin", "raise-at-once"
]
_MOST_JOBS = 4  # that are named for one stretch
_FURTHER = timedelta(days=56)  # beyond the horizon, in which an opening is looked for
_OF_GROUP: dict[str, Kind] = {"site": "site", "host": "host", "all": "runs", "watch": "watch"}


@dataclass(frozen=True)
class Stretch:
    """What keeps a job from every start from one instant up to another. ``more`` are its
    particulars: a freeze's reason, the minutes there, the jobs in the way, the gate.
    """

    start: datetime
    end: datetime
    kind: Kind
    more: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Help:
    """A change after which a job that is left out has a start, all others as they are."""

    act: HelpAct
    more: dict[str, Any]


class Whys:
    """The reasons of one timetable."""

    def __init__(self, outcome: Outcome) -> None:
        self.outcome, self.board = outcome, outcome.board
        self.taken = Taken(self.board)
        for number, start in outcome.starts.items():
            self.taken.add(self.board.tasks[number], start)
        board = self.board
        self.from_at = board.from_(board.book.at)
        self._sites: dict[str, tuple[int, int]] = {}
        self._booked = [self._of_group(group.members) for group in board.groups]

    def _of_group(self, members: Sequence[int]) -> tuple[list[tuple[int, int]], int]:
        """The booked members of a group by their starts, and the greatest length among them."""
        starts = self.outcome.starts
        booked = sorted((starts[number], number) for number in members if number in starts)
        lengths = (self.board.tasks[number].length for _, number in booked)
        return booked, max(lengths, default=0)

    def of_booking(self, task: Task) -> list[Stretch]:
        """Why a job does not start sooner: stretches from ``at`` to its start; nothing where it
        could have no sooner one, or stays where it was.
        """
        start = self.outcome.starts[task.number]
        if start == task.was:
            return []
        self.taken.remove(task)
        stretches = list(self._stretches(task, start))
        self.taken.add(task, start)
        return stretches

    def of_left_out(self, task: Task) -> list[Stretch]:
        """Why a job has no start: what binds in its openings, or that there is none."""
        every = list(self._stretches(task, self.board.size - 1))
        return [stretch for stretch in every if stretch.kind != "closed"] or every[:1]

    def _open(self, site: str) -> tuple[int, int]:
        """The cells that lie in openings of a site, and in those that it would have unfrozen."""
        if site not in self._sites:
            board = self.board
            cells = []
            for frozen in (True, False):
                mask = 0
                for opens, closes in board.opened(site, frozen=frozen):
                    last = board.cell_from(-((board.origin - closes) // timedelta(seconds=1)))
                    mask |= span_mask(board.from_cell(opens), last)
                cells.append(mask)
            self._sites[site] = (cells[0], cells[1])
        return self._sites[site]

    def _stretches(self, task: Task, until: int) -> Iterator[Stretch]:
        """What keeps a job from each start before a cell, the longest stretches first chosen."""
        board = self.board
        open_, unfrozen = self._open(task.job.site)
        takes = board.starts_in(board.opened(task.job.site), task.job)
        late = board.from_(task.job.earliest)
        allowed = takes & late
        kinds: list[tuple[Kind, int, int]] = [  # its kind, where it holds, the group it is of
            ("closed", ~unfrozen, NEVER),
            ("freeze", unfrozen & ~open_, NEVER),
            ("too-short", open_ & ~takes, NEVER),
            ("earliest", ~late, NEVER),
        ]
        for group in task.groups:
            full = self.taken.full(group)
            if full:
                free = free_for(board.whole & ~full, task.length)
                kinds.append((_OF_GROUP[board.groups[group].kind], allowed & ~free, group))
        ready = self.taken.ready(task)
        shut = board.size if ready is None else ready
        if shut:
            kinds.append(("gate", allowed & span_mask(0, shut), NEVER))
        between = ~board.grid  # cells at which nothing may start at all
        place = first(self.from_at)
        kinds = [
            (kind, ((mask | between) & board.whole) >> place, group) for kind, mask, group in kinds
        ]
        begun = board.book.at
        while place < until:
            longest, best = 0, None
            for kind, mask, group in kinds:
                length = first(~mask)
                if length > longest:
                    longest, best = length, (kind, group)
            if best is None:
                return  # it could start here: no reason is made up
            end = min(until, place + longest)
            end = first(board.grid >> end << end) if end < board.size else end
            end = until if end == NEVER else min(end, until)
            more = self._more(task, best[0], best[1], place, end)
            closes = board.instant(end)
            yield Stretch(begun, closes, best[0], more)
            kinds = [(kind, mask >> (end - place), group) for kind, mask, group in kinds]
            place, begun = end, closes

    def _more(self, task: Task, kind: Kind, group: int, place: int, end: int) -> dict[str, Any]:
        board, job = self.board, task.job
        here, last = board.instant(place), board.instant(end)
        match kind:
            case "freeze":
                frozen = board.sites[job.site].freezes
                reasons = [f.reason for f in frozen if f.from_ < last and here < f.to]
                return {"reason": "; ".join(dict.fromkeys(filter(None, reasons)))}
            case "too-short":
                spans = board.opened(job.site)
                there = next((b - max(a, here) for a, b in spans if a < last and here < b), None)
                return {"minutes": int(there / timedelta(minutes=1)) if there else 0}
            case "earliest":
                return {"earliest": job.earliest}
            case "site" | "host" | "runs" | "watch":
                parts: dict[str, Any] = self._in_the_way(task, group, place, end)
                return {"host": board.hosts[job.site], **parts} if kind == "host" else parts
            case "gate":
                return self._gate(task)
        return {}

    def _in_the_way(self, task: Task, group: int, place: int, end: int) -> dict[str, Any]:
        """The jobs of a group that run while the job would, and when the first of them ends: those
        whose end makes room first, the last of these before others. Nothing where nobody runs.
        """
        booked, longest = self._booked[group]
        room = end * self.board.cell * 60
        over = []
        for start, number in booked[bisect_left(booked, (place - longest, NEVER)) :]:
            if start >= end - 1 + task.length:
                break
            other = self.board.tasks[number]
            if number != task.number and place < start + other.length:
                ends = self.board.end(other, start)
                over.append((ends > room, -ends, other.job.id))
        named = sorted(over)[:_MOST_JOBS]
        until = {"until": self.board.origin - timedelta(seconds=named[0][1])} if named else {}
        return {"jobs": [id_ for _, _, id_ in named], **until}

    def _gate(self, task: Task) -> dict[str, Any]:
        """The gate that opens last, the jobs it waits for, and when it opens; None: never."""
        board, last = self.board, (-1.0, 0)
        for gate in task.gates:
            ends = [self._end(number) for number in board.after[gate]]
            opens = max(ends, default=0) + board.quiet[gate]
            last = max(last, (opens, gate))
        opens, gate = last
        never = opens == float("inf")
        until = None if never else board.origin + timedelta(seconds=opens)
        waits = [n for n in board.after[gate] if not never or self._end(n) == float("inf")]
        jobs = [board.tasks[number].job.id for number in waits]
        return {"gate": board.book.gates[gate].id, "jobs": jobs, "until": until}

    def shut(self, task: Task) -> dict[str, Any] | None:
        """The gate that keeps a job out for good, and the jobs that are left out themselves."""
        return self._gate(task) if self.taken.ready(task) is None else None

    def _end(self, number: int) -> float:
        start = self.taken.starts_of.get(number)
        return float("inf") if start is None else self.board.end(self.board.tasks[number], start)

    # What would help.

    def helps(self, task: Task) -> list[Help]:
        """The smallest changes of each sort after which a job would have a start."""
        ready = self.taken.ready(task)
        if ready is None:
            return []  # nothing of its own opens a gate that stays shut
        return [
            *self._unpin(task),
            *self._raise(task),
            *self._lift(task),
            *self._window(task),
            *self._watcher(task),
            *self._horizon(task, ready),
        ]

    def _starts(self, task: Task, *, but: str = "") -> int:
        """The starts of a task, one of its groups aside."""
        groups = tuple(g for g in task.groups if self.board.groups[g].kind != but)
        return self.taken.starts(replace(task, groups=groups))

    def _unpinned(self, task: Task) -> Task:
        board, job = self.board, task.job
        allowed = board.starts_in(board.opened(job.site), job) & board.from_(job.earliest)
        return replace(task, allowed=allowed)

    def _unpin(self, task: Task) -> Iterator[Help]:
        if task.job.pinned and self.taken.starts(self._unpinned(task)):
            yield Help("unpin", {"job": task.job.id})

    def _raise(self, task: Task) -> Iterator[Help]:
        if self._starts(task, but="host"):
            yield Help("raise-at-once", {"host": self.board.hosts[task.job.site]})

    def _lift(self, task: Task) -> Iterator[Help]:
        board, job = self.board, task.job
        place = board.sites[job.site]
        for freeze in place.freezes:
            spans = openings(place.windows, place.zone, board.book.at, board.book.horizon)
            others = [(f.from_, f.to) for f in place.freezes if f is not freeze]
            spans = within(without(spans, others), board.book.at, board.book.horizon)
            allowed = board.starts_in(spans, job) & board.from_(job.earliest) & self._pin(task)
            if self.taken.starts(replace(task, allowed=allowed)):
                document = {"site": job.site, "from": freeze.from_, "to": freeze.to}
                yield Help("lift-freeze", {**document, "reason": freeze.reason})

    def _pin(self, task: Task) -> int:
        pinned = task.job.pinned and task.was >= 0
        return 1 << task.was if pinned else self.board.grid

    def _window(self, task: Task) -> Iterator[Help]:
        """An opening made longer, by the fewest minutes; or one of its own, the first there is."""
        board, job = self.board, task.job
        frozen = [(f.from_, f.to) for f in board.sites[job.site].freezes]
        unfrozen = without([(board.book.at, board.book.horizon)], frozen)
        anywhere = board.starts_in(unfrozen, job) & board.from_(job.earliest) & self._pin(task)
        free = self.taken.starts(replace(task, allowed=anywhere))
        best: tuple[int, datetime, Help] | None = None
        for opens, closes in board.opened(job.site):
            for start in self._around(task, free, opens, closes):
                begins = board.instant(start)
                ends = begins + timedelta(minutes=job.minutes + job.back)
                more = max(opens - begins, timedelta()) + max(ends - closes, timedelta())
                minutes = -(-more // timedelta(minutes=1))
                document = {"site": job.site, "opening": [opens, closes], "minutes": minutes}
                if best is None or (minutes, opens) < best[:2]:
                    best = (minutes, opens, Help("widen", document))
        if best is not None:
            yield best[2]
        start = first(free)
        if start != NEVER:
            begins = board.instant(start)
            ends = begins + timedelta(minutes=job.minutes + job.back)
            yield Help("add-window", {"site": job.site, "from": begins, "to": ends})

    def _around(self, task: Task, free: int, opens: datetime, closes: datetime) -> Iterator[int]:
        """The starts nearest to an opening at which it would have to be least longer."""
        board = self.board
        length = timedelta(minutes=task.job.minutes + task.job.back)
        first_in, last_in = board.from_cell(opens), board.from_cell(closes)
        inside = first(free & span_mask(first_in, last_in))
        if inside != NEVER:
            yield inside
        before = free & span_mask(board.from_cell(max(opens - length, board.book.at)), first_in)
        if before:
            yield before.bit_length() - 1

    def _watcher(self, task: Task) -> Iterator[Help]:
        start = first(self._starts(task, but="watch")) if task.job.watched else NEVER
        if start != NEVER:
            begins = self.board.instant(start)
            ends = begins + timedelta(minutes=task.job.minutes)
            yield Help("watcher", {"from": begins, "to": ends})

    def _horizon(self, task: Task, ready: int) -> Iterator[Help]:
        """A later end of the book, where an opening beyond it takes the job."""
        board, job = self.board, task.job
        if job.pinned or job.watched:
            return
        place, book = board.sites[job.site], board.book
        spans = openings(place.windows, place.zone, book.at, book.horizon + _FURTHER)
        frozen = [(f.from_, f.to) for f in place.freezes]
        spans = without(spans, frozen)
        length = timedelta(minutes=job.minutes + job.back)
        after = max(book.at, board.instant(ready), job.earliest or book.at)
        for start in _later_starts(spans, length, after, board):
            if start + length > book.horizon and self._free_at(task, start):
                yield Help("horizon", {"to": start + length})
                return

    def _free_at(self, task: Task, start: datetime) -> bool:
        """Whether nothing that runs up to the horizon is in the way of a start near its end."""
        board = self.board
        cell = board.from_cell(start)
        taken = 0
        for group in task.groups:
            taken |= self.taken.full(group)
        return not taken & span_mask(cell, cell + task.length)


def _later_starts(
    spans: Sequence[Span], length: timedelta, after: datetime, board: Board
) -> Iterator[datetime]:
    step = timedelta(minutes=5)
    for opens, closes in spans:
        start = max(opens, after)
        start = board.origin - (board.origin - start) // step * step
        while start + length <= closes:
            yield start
            if start > board.book.horizon:
                break
            start += step
