"""A night book on a board of bits: which starts a job may have, and what is taken.

Time is cut into cells of five minutes from 00:00 UTC of the book's day on, or of one where somebody
who watches comes or goes between two starts. All starts lie on the five-minute grid, so what runs
in a cell runs at its beginning: whole cells are exact. A set of cells is an integer, a cell a bit.

    board = Board(book)
    taken = Taken(board)
    taken.add(task, first(taken.starts(task)))     for each task of board.tasks that has a start
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache

from windbreak.core.bits import bits
from windbreak.core.scheduling.openings import Span, opening_seconds, openings, within, without
from windbreak.core.values.nightbooks import Job, NightBook

_GRID = 5
_SECOND = timedelta(seconds=1)
NEVER = -1


@dataclass(slots=True, eq=False)
class Task:
    """A job on the board. ``length`` in cells, ``seconds`` its real length; ``allowed`` the starts
    at which an opening takes it, not before its earliest; ``was`` a cell, NEVER where it has none,
    OFF_GRID where what it has is no start. ``groups`` number what it takes a share of and what can
    run short, ``gates`` those it waits for, ``opens`` those that wait for it.
    """

    number: int
    job: Job
    length: int
    seconds: int
    allowed: int
    due: int | None
    was: int
    groups: tuple[int, ...]
    gates: tuple[int, ...] = ()
    opens: tuple[int, ...] = ()
    shifts: tuple[int, ...] = ()


@dataclass(slots=True)
class Group:
    """What bears so many jobs at one time: a site, a host, everything, or who watches."""

    kind: str  # site, host, all, watch
    cap: int
    members: list[int]
    people: tuple[int, ...] = ()  # of who watches: the cells with 1, 2, … people or more
    places: tuple[int, ...] = ()  # of the bits of ``cap``: no count is over it, so a cell is full
    # exactly where the count has all of these bits

    @property
    def runs_short(self) -> bool:
        """Whether its members could ever be more than it bears."""
        return self.kind == "watch" or len(self.members) > self.cap


OFF_GRID = -2


class Board:
    """The jobs of a book as tasks, in the order of their ids."""

    def __init__(self, book: NightBook) -> None:
        self.book = book
        self.origin = book.at.replace(hour=0, minute=0, second=0, microsecond=0)
        edges = [edge for watch in book.watch for edge in (watch.from_, watch.to)]
        on_grid = all(
            (edge - self.origin) % timedelta(minutes=_GRID) == timedelta() for edge in edges
        )
        self.cell = _GRID if on_grid else 1
        self.size = max(1, self.from_cell(book.horizon) + 1)
        self.whole = (1 << self.size) - 1
        self.grid = self.whole if self.cell == _GRID else _every(_GRID, self.size)
        self.at = int((book.at - self.origin).total_seconds())
        self.sites = {site.id: site for site in book.sites}
        self.hosts = {site.id: site.host for site in book.sites}
        self._openings: dict[object, list[Span]] = {}
        self._opened: dict[str, tuple[list[tuple[int, int]], int | None]] = {}
        self._groups()
        jobs = sorted(book.jobs, key=lambda job: job.id)
        self.numbers = {job.id: number for number, job in enumerate(jobs)}
        self.tasks = [self._task(number, job) for number, job in enumerate(jobs)]
        for task in self.tasks:
            task.groups = tuple(g for g in task.groups if self.groups[g].runs_short)
        self._gates()

    # Instants and cells.

    def seconds(self, instant: datetime) -> int:
        """An instant in seconds from the board's first cell; what is less than one is cut off."""
        return (instant - self.origin) // _SECOND

    def instant(self, cell: int) -> datetime:
        return self.origin + timedelta(minutes=cell * self.cell)

    def end(self, task: Task, start: int) -> int:
        """When a task ends, in seconds from the board's first cell."""
        return start * self.cell * 60 + task.seconds

    def cell_from(self, seconds: int) -> int:
        """The first cell that begins at or after so many seconds."""
        return -(-seconds // (self.cell * 60))

    def cells(self, opens: datetime, closes: datetime) -> int:
        """The cells that lie wholly in a stretch of time."""
        last = self.seconds(closes) // (self.cell * 60)
        return span_mask(max(0, self.from_cell(opens)), min(self.size, last))

    def from_cell(self, instant: datetime) -> int:
        """The first cell that begins at or after an instant."""
        return self.cell_from(-((self.origin - instant) // _SECOND))

    # Openings.

    def opened(self, site: str, *, frozen: bool = True) -> list[Span]:
        """The openings of a site between ``at`` and ``horizon``, freezes cut out of them."""
        place = self.sites[site]
        key = (place.windows, place.zone, place.freezes if frozen else ())
        if key not in self._openings:
            at, horizon = self.book.at, self.book.horizon
            spans = openings(place.windows, place.zone, at, horizon)
            if frozen:
                spans = without(spans, [(freeze.from_, freeze.to) for freeze in place.freezes])
            self._openings[key] = within(spans, at, horizon)
        return self._openings[key]

    def starts_in(self, spans: Sequence[Span], job: Job) -> int:
        """The starts at which stretches of time take a job and its way back."""
        return self._starts(self._in_seconds(spans), job)

    def _in_seconds(self, spans: Sequence[Span]) -> list[tuple[int, int]]:
        return [(-((self.origin - a) // _SECOND), self.seconds(b)) for a, b in spans]

    def _starts(self, spans: Sequence[tuple[int, int]], job: Job) -> int:
        whole, step, starts = (job.minutes + job.back) * 60, self.cell * 60, 0
        for opens, closes in spans:
            starts |= span_mask(-(-opens // step), (closes - whole) // step + 1)
        return starts & self.grid

    def _own_starts(self, job: Job) -> int:
        """The starts at which the openings of its site take a job and its way back."""
        if job.site not in self._opened:
            self._opened[job.site] = self._open_cells(job.site)
        spans, cells = self._opened[job.site]
        if cells is None:
            return self._starts(spans, job)
        whole = job.minutes + job.back
        return free_for(cells, -(-whole // self.cell)) & self.grid

    def _open_cells(self, site: str) -> tuple[list[tuple[int, int]], int | None]:
        """The openings of a site in seconds, and the cells that lie in them; None where one closes
        in the middle of a cell.
        """
        place, step = self.sites[site], self.cell * 60
        if place.freezes:
            spans = self._in_seconds(self.opened(site))
        else:
            book, zero = self.book, int(self.origin.timestamp())
            every = opening_seconds(place.windows, place.zone, book.at, book.horizon)
            spans = [(a - zero, b - zero) for a, b in every]
        if any(closes % step for _, closes in spans):
            return spans, None
        cells = 0
        for opens, closes in spans:
            cells |= span_mask(-(-opens // step), closes // step)
        return spans, cells

    def from_(self, instant: datetime | None) -> int:
        """The starts from an instant on; all, where there is none."""
        if instant is None:
            return self.grid
        return self.grid & ~span_mask(0, min(self.size, max(0, self.from_cell(instant))))

    def unwatched(self, task: Task, start: int) -> bool:
        """Whether nobody who watches is there for the whole of a task."""
        watch = self.groups[self._group["watch", ""]].people
        there = watch[0] if watch else 0
        return bool(span_mask(start, start + task.length) & ~there)

    def _task(self, number: int, job: Job) -> Task:
        allowed = self._own_starts(job) & self.from_(job.earliest)
        if job.pinned and job.was is not None:
            allowed &= 1 << max(0, self.seconds(job.was) // (self.cell * 60))
        groups = [self._group[("site", job.site)]]
        host = self.sites[job.site].host
        if host is not None:
            groups.append(self._group[("host", host)])
        if ("all", "") in self._group:
            groups.append(self._group[("all", "")])
        if job.watched:
            groups.append(self._group[("watch", "")])
        for group in groups:
            self.groups[group].members.append(number)
        was = NEVER
        if job.was is not None:
            off = (job.was - self.origin) % timedelta(minutes=_GRID)
            was = self.seconds(job.was) // (self.cell * 60) if not off else OFF_GRID
            if not 0 <= was < self.size:
                was = OFF_GRID
        return Task(
            number=number,
            job=job,
            length=-(-job.minutes // self.cell),
            seconds=job.minutes * 60,
            allowed=allowed,
            due=None if job.due is None else self.seconds(job.due),
            was=was,
            groups=tuple(groups),
            shifts=shifts_for(-(-job.minutes // self.cell)),
        )

    def _groups(self) -> None:
        self.groups: list[Group] = []
        self._group: dict[tuple[str, str], int] = {}
        book = self.book
        for site in book.sites:
            self._add("site", site.id, 1)
        for host in book.hosts:
            self._add("host", host.id, host.at_once)
        if book.runs_at_once is not None:
            self._add("all", "", book.runs_at_once)
        self._add("watch", "", 0, self._people())

    def _add(self, kind: str, id_: str, cap: int, people: tuple[int, ...] = ()) -> None:
        self._group[kind, id_] = len(self.groups)
        self.groups.append(Group(kind, cap, [], people, tuple(bits(cap))))

    def _people(self) -> tuple[int, ...]:
        """The cells with one person or more who watch, with two or more, and so on."""
        levels: list[int] = []
        for watch in self.book.watch:
            there = self.cells(watch.from_, watch.to)
            for _ in range(min(watch.people, len(self.book.jobs))):
                levels.append(0)
                for n in range(len(levels) - 1, 0, -1):
                    levels[n] |= levels[n - 1] & there
                levels[0] |= there
        return tuple(level for level in levels if level)

    def _gates(self) -> None:
        """Which gates each task waits for, and which wait for it."""
        self.after: list[tuple[int, ...]] = []
        self.before: list[tuple[int, ...]] = []
        self.quiet: list[int] = []
        waits: dict[int, list[int]] = {}
        opens: dict[int, list[int]] = {}
        for n, gate in enumerate(self.book.gates):
            self.after.append(tuple(self.numbers[id_] for id_ in gate.after))
            self.before.append(tuple(self.numbers[id_] for id_ in gate.before))
            self.quiet.append(gate.quiet * 60)
            for id_ in gate.before:
                waits.setdefault(self.numbers[id_], []).append(n)
            for id_ in gate.after:
                opens.setdefault(self.numbers[id_], []).append(n)
        for task in self.tasks:
            task.gates = tuple(waits.get(task.number, ()))
            task.opens = tuple(opens.get(task.number, ()))


def span_mask(first: int, end: int) -> int:
    """The cells from the first up to, and without, the end."""
    return ((1 << (end - first)) - 1) << first if end > first >= 0 else 0


def _every(step: int, size: int) -> int:
    mask, reach = 1, step
    while reach < size:
        mask |= mask << reach
        reach *= 2
    return mask & ((1 << size) - 1)


@cache
def shifts_for(length: int) -> tuple[int, ...]:
    """By how much free cells are to be laid over themselves, one shift after the other, so that
    those are left from which on so many are free: (1, 2, 1) for 5.
    """
    shifts, have = [], 1
    while have < length:
        shifts.append(min(have, length - have))
        have += shifts[-1]
    return tuple(shifts)


def free_for(free: int, length: int) -> int:
    """The cells from which on so many are free."""
    for step in shifts_for(length):
        free &= free >> step
    return free


def first(cells: int) -> int:
    """The first of some cells; NEVER where there is none."""
    return (cells & -cells).bit_length() - 1


class Taken:
    """What is taken on a board by the tasks that have a start. ``planes[g]`` count how many members
    of a group run in each cell: the n-th plane holds the cells whose count has bit n.
    """

    __slots__ = ("board", "planes", "starts_of")

    def __init__(self, board: Board) -> None:
        self.board = board
        self.planes: list[list[int]] = [[] for _ in board.groups]
        self.starts_of: dict[int, int] = {}

    def add(self, task: Task, start: int) -> None:
        whole = ((1 << task.length) - 1) << start
        for group in task.groups:
            planes, carry = self.planes[group], whole
            for n, plane in enumerate(planes):
                planes[n], carry = plane ^ carry, plane & carry
                if not carry:
                    break
            else:
                planes.append(carry)
        self.starts_of[task.number] = start

    def remove(self, task: Task) -> int:
        """Take a task off again; its start."""
        start = self.starts_of.pop(task.number)
        whole = ((1 << task.length) - 1) << start
        for group in task.groups:
            planes, borrow = self.planes[group], whole
            for n, plane in enumerate(planes):
                planes[n], borrow = plane ^ borrow, ~plane & borrow
                if not borrow:
                    break
        return start

    def at_least(self, group: int, count: int) -> int:
        """The cells in which so many members of a group run, or more."""
        planes = self.planes[group]
        if count >> len(planes):
            return 0
        more, equal = 0, self.board.whole
        for n in range(len(planes) - 1, -1, -1):
            if count >> n & 1:
                equal &= planes[n]
            else:
                more |= equal & planes[n]
                equal &= ~planes[n]
        return more | equal

    def full(self, group: int) -> int:
        """The cells in which no more members of a group may run."""
        of, planes = self.board.groups[group], self.planes[group]
        if of.kind == "watch":
            free = 0
            for n, there in enumerate(of.people):
                # Where not more than n run, and somebody more is there.
                free |= there & ~self.at_least(group, n + 1)
            return self.board.whole & ~free
        if of.cap >> len(planes):
            return 0
        full = self.board.whole
        for n in of.places:
            full &= planes[n]
        return full

    def beside(self, task: Task) -> int:
        """The starts that a task may have beside what is taken, its gates aside."""
        full = 0
        for group in task.groups:
            full |= self.full(group)
        free = self.board.whole & ~full
        for step in task.shifts:
            free &= free >> step
        return task.allowed & free

    def ready(self, task: Task) -> int | None:
        """The first cell after the gates that a task waits for; None where one stays shut."""
        seconds = 0
        for gate in task.gates:
            for other in self.board.after[gate]:
                start = self.starts_of.get(other)
                if start is None:
                    return None
                end = self.board.end(self.board.tasks[other], start)
                seconds = max(seconds, end + self.board.quiet[gate])
        return self.board.cell_from(seconds)

    def until(self, task: Task) -> int:
        """The last cell at which a task may start for those that wait for it and have a start."""
        board, last = self.board, self.board.size
        for gate in task.opens:
            for other in board.before[gate]:
                start = self.starts_of.get(other)
                if start is not None:
                    spare = start * board.cell * 60 - board.quiet[gate] - task.seconds
                    last = min(last, spare // (board.cell * 60))
        return last

    def starts(self, task: Task) -> int:
        """The starts that a task may have beside what is taken; none where a gate stays shut."""
        if not task.gates and not task.opens:
            return self.beside(task)
        ready = self.ready(task)
        if ready is None:
            return 0
        return (self.beside(task) & span_mask(0, self.until(task) + 1)) >> ready << ready
