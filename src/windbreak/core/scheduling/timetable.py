"""The best timetable of a night book, with a bound where it is not proven to be the best.

Source: docs/timetable.md. Jobs that nothing ties (no site, host, person or gate that could bind
them together) fall into parts, each with a timetable of its own. A small part is searched whole. A
large one begins with plain rules; then a few jobs at a time are taken off and searched again beside
all others, until that brings nothing more.

It is *anytime*: plain rules give a lawful timetable at once, and how far it is improved is up to
whoever asks. All of it is counted in branches and rounds, never in seconds, so that a timetable
that was improved until it rests is the same on every machine.

    outcome = by_rules(book)                        lawful, at once
    outcome = timetable(book)                       improved until it rests
    outcome = timetable(book, Patience(go_on))      … or until go_on() says no
    outcome.starts[outcome.board.numbers["j1"]]     the cell in which it starts
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from heapq import nsmallest

from windbreak.core.scheduling.board import NEVER, Board, Taken, Task, first, span_mask
from windbreak.core.scheduling.patience import ALL, Patience
from windbreak.core.scheduling.recreating import recreated
from windbreak.core.scheduling.search import NOTHING, Schedule, Search, Vector, cost, plus
from windbreak.core.values.nightbooks import NightBook

SMALL = 10  # jobs of a part that is always searched to its end
WHOLE = 25  # jobs of a part that is searched whole, as far as it goes
MANY = 500  # jobs of a book for which less is tried
_NODES = {SMALL: 1_000_000, WHOLE: 6_000}
_FEW = ((7, 150), (10, 250))  # jobs that are searched anew at a time, in so many branches
_BRANCHES = 5_000  # of all such searches, in a book
_BRANCHES_OF_MANY = 800
_ROUNDS = 4_500  # in which a few jobs are put back in another order, in a book
_ROUNDS_KEPT = 2_000  # the same, where jobs have a booking already
_ALL_ROUNDS = 200  # jobs of a part up to which that is done in all rounds; each takes longer beyond
_FAR = float("inf")


@dataclass(frozen=True)
class Outcome:
    """A timetable: the start of each booked job, by its number; its vector; whether that is the
    best, or else what nothing can beat; and how much of the work of improving it was done, from 0
    to 1: it rests.
    """

    board: Board
    starts: dict[int, int]
    vector: Vector
    bound: Vector
    improved: float = 1.0

    @property
    def proven(self) -> bool:
        return self.bound == self.vector

    @property
    def rests(self) -> bool:
        return self.improved >= 1


def timetable(book: NightBook, patience: Patience = ALL) -> Outcome:
    """The timetable of a book, improved as far as patience goes. It is lawful however far that is,
    and no worse than by plain rules.
    """
    board = Board(book)
    starts: dict[int, int] = {}
    vector = bound = NOTHING
    resting = 0  # jobs whose part was improved until it rests
    for tasks in parts(board):
        part = _Part(board, tasks, len(board.tasks))
        if patience.lasts():
            part.improve(patience)
            resting += len(tasks) * patience.lasts()
        starts |= part.best.starts
        vector, bound = plus(vector, part.best.vector), plus(bound, part.bound)
    improved = resting / len(board.tasks) if board.tasks else 1.0
    return Outcome(board, starts, vector, bound, improved)


def by_rules(book: NightBook) -> Outcome:
    """A lawful timetable of a book at once: each job at its first free start, by plain rules; what
    is booked stays where it can.
    """
    return timetable(book, Patience(lambda: False))


def parts(board: Board) -> list[list[Task]]:
    """The tasks in parts that nothing ties, each in the order of ids."""
    leader = list(range(len(board.tasks)))

    def find(n: int) -> int:
        while leader[n] != n:
            leader[n] = leader[leader[n]]
            n = leader[n]
        return n

    def tie(members: Iterable[int]) -> None:
        every = list(members)
        for n in every[1:]:
            leader[find(n)] = find(every[0])

    for group in board.groups:
        if group.kind == "watch" or len(group.members) > group.cap:
            tie(group.members)
    for after, before in zip(board.after, board.before, strict=True):
        tie([*after, *before])
    together: dict[int, list[Task]] = {}
    for task in board.tasks:
        together.setdefault(find(task.number), []).append(task)
    return list(together.values())


class _Part:
    """One part of a board: by plain rules at first, then improved."""

    def __init__(self, board: Board, part: Sequence[Task], of: int) -> None:
        self.board, self.part = board, part
        self.many, self.share = of > MANY, len(part) / of
        self.new = all(task.was == NEVER for task in part)
        rules = _RULES[:1] if self.many else _RULES
        ways = [(_plain, False), *((rule, True) for rule in rules)]
        if len(part) > 1 and self.new:
            ways = [(rule, False) for rule in _RULES]
        self.best = min(
            (_placed(board, part, *way) for way in ways), key=lambda schedule: schedule.vector
        )
        self.alone = _alone(board, part)
        self.least = NOTHING
        for _, vector in self.alone.values():
            self.least = plus(self.least, vector)

    @property
    def bound(self) -> Vector:
        """What no timetable of this part can beat."""
        return self.best.vector if self.best.proven else min(self.least, self.best.vector)

    def improve(self, patience: Patience) -> None:
        """Look for better starts, as far as patience goes."""
        board, part = self.board, self.part
        if len(part) <= WHOLE:
            nodes = _NODES[SMALL] if len(part) <= SMALL else _NODES[WHOLE]
            search = Search(board, Taken(board), part, nodes, self.best, patience)
            self.best = search.best_schedule()
            if self.best.proven:
                return
        elif not self.many and self.best.vector > self.least:
            share = self.share * min(1.0, _ALL_ROUNDS / len(part))
            rounds = int((_ROUNDS if self.new else _ROUNDS_KEPT) * share)
            self.best = recreated(board, self.best, self.alone, rounds, patience)
        if patience.lasts() and (self.best.vector > self.least or len(part) <= WHOLE):
            branches = (_BRANCHES_OF_MANY if self.many else _BRANCHES) * self.share
            self.best = _improved(board, part, self.best, int(branches), patience)


# Rules: in which order jobs take their first free start.

_Rule = Callable[[Task], tuple[object, ...]]


def _plain(task: Task) -> tuple[object, ...]:
    """Heaviest first, then soonest due, shortest, id."""
    due = _FAR if task.due is None else task.due
    return (-task.job.weight, due, task.job.minutes, task.job.id)


def _dense(task: Task) -> tuple[object, ...]:
    """The most weight for a minute first."""
    return (-task.job.weight / task.job.minutes, task.job.id)


def _pressed(task: Task) -> tuple[object, ...]:
    """The fewest starts first, weighed."""
    return (task.allowed.bit_count() / (task.job.weight or 0.1), task.job.id)


_RULES: tuple[_Rule, ...] = (_plain, _dense, _pressed)


def _placed(board: Board, part: Sequence[Task], rule: _Rule, stay: bool) -> Schedule:
    """Each job at its first free start, by a rule; where it was, where those stay that can."""
    taken, waiting = Taken(board), sorted(part, key=rule)
    if stay:
        # Those that stand somewhere go first, in the order of time, so that gates are open.
        kept = sorted((t for t in waiting if t.was >= 0), key=lambda t: (not t.job.pinned, t.was))
        for task in kept:
            if taken.starts(task) >> task.was & 1:
                taken.add(task, task.was)
    while True:
        later = []
        for task in waiting:
            if task.number in taken.starts_of:
                continue
            start = first(taken.starts(task))
            if start != NEVER:
                taken.add(task, start)
            else:
                later.append(task)
        # What waited for a gate may go now.
        if len(later) == len(waiting) or not any(task.gates for task in later):
            break
        waiting = later
    return _schedule(board, part, taken)


def _schedule(board: Board, part: Sequence[Task], taken: Taken) -> Schedule:
    starts = {t.number: taken.starts_of[t.number] for t in part if t.number in taken.starts_of}
    whole = NOTHING
    for task in part:
        whole = plus(whole, cost(board, task, starts.get(task.number, NEVER)))
    return Schedule(starts, whole, False)


def _alone(board: Board, part: Sequence[Task]) -> dict[int, tuple[int, Vector]]:
    """What no timetable of a part can beat: each job by itself at its first start."""
    alone, least = Taken(board), {}
    soonest: dict[int, int] = {}

    def soon(task: Task) -> int:
        if task.number not in soonest:
            soonest[task.number] = NEVER
            seconds = 0
            for gate in task.gates:
                for other in board.after[gate]:
                    start = soon(board.tasks[other])
                    if start == NEVER:
                        return NEVER
                    end = board.end(board.tasks[other], start) + board.quiet[gate]
                    seconds = max(seconds, end)
            ready = board.cell_from(seconds)
            soonest[task.number] = first(alone.beside(task) >> ready << ready)
        return soonest[task.number]

    for task in part:
        start = soon(task)
        unbooked, late, moved, sum_ = cost(board, task, start)
        if start != NEVER and task.was >= 0 and task.allowed >> task.was & 1:
            moved = 0.0
        least[task.number] = start, (unbooked, late, moved, sum_)
    return least


# A few jobs at a time.


def _improved(
    board: Board, part: Sequence[Task], incumbent: Schedule, branches: int, patience: Patience
) -> Schedule:
    """A timetable in which no few jobs that stand near each other could be better together."""
    taken = Taken(board)
    for number, start in incumbent.starts.items():
        taken.add(board.tasks[number], start)
    near = _neighbours(board, part)
    numbers = [task.number for task in part]
    rounds = [(few, aim, wide) for few in _FEW for aim in _AIMS for wide in (False, True)]
    in_vain: set[tuple[tuple[int, int], ...]] = set()
    quiet, turn = 0, 0
    while branches > 0 and quiet < len(rounds) and patience.lasts():
        (few, most), aim, wide = rounds[turn % len(rounds)]
        turn, quiet = turn + 1, quiet + 1
        for centre in sorted(part, key=lambda t: _gain(board, t, taken), reverse=True):
            here = aim(board, taken, centre)
            if here is None:
                continue
            some = _some(board, taken, centre, here, numbers if wide else near[centre.number], few)
            now = tuple(sorted((t.number, taken.starts_of.get(t.number, NEVER)) for t in some))
            if now in in_vain:
                continue
            if branches <= 0 or not patience.lasts():
                break
            better, used = _anew(board, taken, some, most)
            branches -= used
            if better:
                quiet = 0
            else:
                in_vain.add(now)
    _settle(board, part, taken)
    return _schedule(board, part, taken)


def _at_start(board: Board, taken: Taken, task: Task) -> int | None:
    return taken.starts_of.get(task.number, first(task.allowed)) if task.allowed else None


def _at_due(board: Board, taken: Taken, task: Task) -> int | None:
    """Where a task that is late would have to be."""
    start = taken.starts_of.get(task.number)
    if start is None or task.due is None or board.end(task, start) <= task.due:
        return None
    return max(first(task.allowed), board.cell_from(task.due - task.seconds))


def _at_first(board: Board, taken: Taken, task: Task) -> int | None:
    """Where a task would be by itself, that is not there."""
    start = taken.starts_of.get(task.number)
    soonest = first(task.allowed)
    return None if start is None or start == soonest else soonest


_AIMS = (_at_due, _at_start, _at_first)  # lateness weighs more than the sum


def _settle(board: Board, part: Sequence[Task], taken: Taken) -> None:
    """Give each task by itself the best start beside all others, until none has a better one."""
    again = True
    while again:
        again = False
        for task in sorted(part, key=lambda task: taken.starts_of.get(task.number, board.size)):
            now = taken.starts_of.get(task.number, NEVER)
            if now != NEVER:
                if now == task.was:
                    continue
                taken.remove(task)
            free = taken.starts(task)
            best = task.was if task.was >= 0 and free >> task.was & 1 else first(free)
            if best != NEVER and (now == NEVER or cost(board, task, best) < cost(board, task, now)):
                taken.add(task, best)
                again = True
            elif now != NEVER:
                taken.add(task, now)


def _gain(board: Board, task: Task, taken: Taken) -> tuple[float, float]:
    """What there is to gain by a better start: a start at all, lateness, then time."""
    start = taken.starts_of.get(task.number)
    if start is None:
        return (_FAR if task.allowed else -_FAR, 0)
    late = max(0, board.end(task, start) - task.due) if task.due is not None else 0
    return (task.job.weight * late, task.job.weight * (start - first(task.allowed)))


def _neighbours(board: Board, part: Sequence[Task]) -> dict[int, list[int]]:
    """Which tasks of a part may be in the way of each other, or are tied by a gate."""
    numbers = {task.number for task in part}
    near: dict[int, set[int]] = {number: set() for number in numbers}
    for group in board.groups:
        if group.kind in ("site", "host") or len(group.members) <= WHOLE:
            for number in numbers.intersection(group.members):
                near[number] |= numbers.intersection(group.members)
    for after, before in zip(board.after, board.before, strict=True):
        for number in (*after, *before):
            near[number] |= {*after, *before}
    return {number: sorted(others - {number}) for number, others in near.items()}


def _some(
    board: Board, taken: Taken, centre: Task, here: int, numbers: Sequence[int], few: int
) -> list[Task]:
    """A task and those that stand nearest to a cell, or are left out and could be there."""

    def far(number: int) -> tuple[float, int]:
        start = taken.starts_of.get(number)
        if start is None:
            allowed = board.tasks[number].allowed
            return (abs(first(allowed) - here) if allowed else _FAR, number)
        return (abs(start - here) * (1.0 if start <= here else 1.5), number)

    others = nsmallest(few, numbers, key=far)
    return [centre, *(board.tasks[n] for n in others if n != centre.number)][:few]


def _anew(board: Board, taken: Taken, few: Sequence[Task], most: int) -> tuple[bool, int]:
    """Search a few tasks anew beside all others; whether that was better, and in how many branches.
    Changes what is taken.
    """
    now = _schedule(board, few, taken)
    for number in now.starts:
        taken.remove(board.tasks[number])
    held = []
    tasks = []
    for task in few:
        last = taken.until(task)
        if last < board.size:  # a task that stays waits for it: it must be done by then
            held.append(task.number)
            task = replace(task, allowed=task.allowed & span_mask(0, last + 1))
        tasks.append(task)
    search = Search(board, taken, tasks, most, now)
    best = search.best_schedule()
    if not all(number in best.starts for number in held):
        best = now
    for number, start in best.starts.items():
        taken.add(board.tasks[number], start)
    return best.vector < now.vector, most - search.left_nodes
