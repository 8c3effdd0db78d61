"""The best starts for a few jobs beside others that stay: branch and bound over serial schedules.

A best timetable is left-justified: no job that is not where it was could start earlier with all
others as they are. So jobs are placed in the order of their starts, each at its first free start or
where it was. A job that could have started before the last one has a place only where what comes
after is in its way; a branch in which nothing can be dies.

The bound of a branch: each job that is left at its first free start beside what is placed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from windbreak.core.scheduling.board import NEVER, Board, Taken, Task, first
from windbreak.core.scheduling.patience import ALL, Patience

Vector = tuple[float, float, float, float]
"""What is left unbooked, late, moved, and the sum: the smaller from the left the better."""

NOTHING: Vector = (0, 0, 0, 0)
_FAR = 1 << 60


def plus(a: Vector, b: Vector) -> Vector:
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2], a[3] + b[3])


def cost(board: Board, task: Task, start: int) -> Vector:
    """What one task adds when it has a start; NEVER: when it has none."""
    weight = task.job.weight
    if start == NEVER:
        return (weight, 0, float(task.was != NEVER), 0)
    end = board.end(task, start)
    late = max(0, end - task.due) if task.due is not None else 0
    moved = float(task.was not in (NEVER, start))
    return (0, weight * late / 60, moved, weight * (end - board.at) / 60)


def vector(board: Board, starts: dict[int, int]) -> Vector:
    """What a timetable comes to."""
    whole = NOTHING
    for task in board.tasks:
        whole = plus(whole, cost(board, task, starts.get(task.number, NEVER)))
    return whole


@dataclass(slots=True)
class Schedule:
    """The best starts of some tasks, and whether nothing better can be."""

    starts: dict[int, int]
    vector: Vector
    proven: bool


class Search:
    """One search over some tasks, beside what is taken."""

    def __init__(
        self,
        board: Board,
        taken: Taken,
        tasks: Sequence[Task],
        nodes: int,
        incumbent: Schedule | None,
        patience: Patience = ALL,
    ) -> None:
        self.board, self.left_nodes, self.patience = board, nodes, patience
        self.tasks = list(tasks)
        inside = {task.number for task in tasks}
        # Gates among these tasks, in an order in which those waited for come first.
        self.order = _after_first(board, self.tasks, inside)
        self.best = incumbent.vector if incumbent else (float("inf"),) * 4
        self.best_starts = dict(incumbent.starts) if incumbent else {}
        self.proven = True
        self._go(taken, frozenset(inside), (NEVER, NEVER), NOTHING, {})

    def best_schedule(self) -> Schedule:
        return Schedule(self.best_starts, self.best, self.proven)

    def _go(
        self,
        taken: Taken,
        left: frozenset[int],
        last: tuple[int, int],
        so_far: Vector,
        placed: dict[int, int],
    ) -> None:
        if self.left_nodes <= 0 or not self.patience.lasts():
            self.proven = False
            return
        self.left_nodes -= 1
        board = self.board
        bound, options = so_far, list[tuple[int, int]]()
        soonest: dict[int, int] = {}
        over = _FAR  # the next start lies before
        for task in self.order:
            number = task.number
            if number not in left:
                continue
            ready, waits = self._ready(taken, task, left, soonest)
            starts = 0 if ready is None else taken.beside(task) >> ready << ready
            start = first(starts)
            kept = task.was >= 0 and bool(starts >> task.was & 1) and (task.was, number) > last
            passed = start != NEVER and (start, number) <= last
            if not waits and not kept and start != NEVER and task.job.weight > 0:
                # What starts only after it would have ended leaves it there, or is not the best.
                over = min(over, start + task.length)
            if passed:
                # It could have started before what was placed last; so it starts later only if
                # what is still to come is in its way there.
                after = last[0] + (number < last[1])
                start = first(starts >> after << after)
            soonest[number] = start
            if start == NEVER:
                bound = plus(bound, cost(board, task, NEVER))
                continue
            bound = plus(bound, self._least(task, start, kept))
            if waits:
                continue
            if not passed:
                options.append((start, number))
            if kept:
                options.append((task.was, number))
        if bound > self.best or (bound == self.best and not self._may_tie(placed, soonest)):
            return
        if not options:
            if all(start == NEVER for start in soonest.values()):
                self._leaf(bound, placed)
            return
        for start, number in sorted(set(options)):
            if start >= over:
                break
            task = board.tasks[number]
            taken.add(task, start)
            so_far_now = plus(so_far, cost(board, task, start))
            self._go(taken, left - {number}, (start, number), so_far_now, {**placed, number: start})
            taken.remove(task)

    def _ready(
        self, taken: Taken, task: Task, left: frozenset[int], soonest: dict[int, int]
    ) -> tuple[int | None, bool]:
        """The first cell after the gates of a task, by the soonest ends of what it waits for; None
        where one stays shut; and whether it still waits for a task that has no start.
        """
        board, seconds, waits = self.board, 0, False
        for gate in task.gates:
            for other in board.after[gate]:
                start = taken.starts_of.get(other, NEVER)
                if start == NEVER and other in left:
                    waits, start = True, soonest[other]
                if start == NEVER:
                    return None, waits
                end = board.end(board.tasks[other], start)
                seconds = max(seconds, end + board.quiet[gate])
        return board.cell_from(seconds), waits

    def _least(self, task: Task, start: int, kept: bool) -> Vector:
        """The least that a task adds which starts no sooner."""
        unbooked, late, moved, sum_ = cost(self.board, task, start)
        return (unbooked, late, 0.0 if kept or task.was == start else moved, sum_)

    def _leaf(self, whole: Vector, placed: dict[int, int]) -> None:
        if whole < self.best or (whole == self.best and self._before(placed, self.best_starts)):
            self.best, self.best_starts = whole, dict(placed)

    def _before(self, place: dict[int, int], other: dict[int, int]) -> bool:
        """Whether the lower id starts earlier in one of two timetables that come to the same."""
        numbers = sorted(task.number for task in self.tasks)
        return [place.get(n, _FAR) for n in numbers] < [other.get(n, _FAR) for n in numbers]

    def _may_tie(self, placed: dict[int, int], soonest: dict[int, int]) -> bool:
        """Whether what is left could still make the lower id start earlier."""
        soon = {n: _FAR if start == NEVER else start for n, start in soonest.items()}
        for number, start in soon.items():
            was = self.board.tasks[number].was
            soon[number] = min(start, was) if was >= 0 else start
        return self._before({**soon, **placed}, self.best_starts)


def _after_first(board: Board, tasks: Sequence[Task], inside: set[int]) -> list[Task]:
    """Tasks so that those a gate waits for come before those it holds."""
    ordered: list[Task] = []
    done: set[int] = set()

    def visit(task: Task) -> None:
        if task.number in done:
            return
        done.add(task.number)
        for gate in task.gates:
            for other in board.after[gate]:
                if other in inside:
                    visit(board.tasks[other])
        ordered.append(task)

    for task in tasks:
        visit(task)
    return ordered
