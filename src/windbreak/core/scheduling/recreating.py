"""Ruin and recreate: a few jobs are taken off and put back in another order, again and again.

After Schrimpf et al., "Record breaking optimization results using the ruin and recreate principle"
(2000). What is a little worse is gone on from too, the less the longer it goes on (a threshold that
cools). First it looks for what is left out or late that need not be, then, of the best it met, for
what need not end so late in all.
All chance comes from one seed: the same book gives the same timetable.
"""

from __future__ import annotations

import random
from bisect import bisect
from collections.abc import Callable, Mapping, Sequence
from math import log

from windbreak.core.scheduling.board import NEVER, Board, Taken, Task, first
from windbreak.core.scheduling.patience import ALL, Patience
from windbreak.core.scheduling.search import Schedule, Vector, cost, plus

_OF_WORSE = 0.6  # how often it is one that could be better
_FEW = (3, 12)  # jobs that are taken off at a time
_REACHES = (4, 8, 12, 20)  # how many on each side they are chosen from
# How much worse may be gone on from, at first and in the end: by lateness, and by the sum.
_HEATS = {2: (300.0, 3.0), 4: (10_000.0, 100.0)}
_OF_SUM = 1e-3  # what the sum counts beside lateness
_FOR_LATE = 0.7
_FAR = float("inf")

_Order = Callable[[Task, random.Random], float]
_ORDERS: tuple[_Order, ...] = (
    lambda task, _: _FAR if task.due is None else float(task.due),
    lambda task, _: -task.job.weight / task.job.minutes,
    lambda _, chance: chance.random(),
    lambda task, chance: -task.job.weight * (1 + chance.random()),
)


def recreated(
    board: Board,
    incumbent: Schedule,
    least: Mapping[int, tuple[int, Vector]],
    rounds: int,
    patience: Patience = ALL,
) -> Schedule:
    """The best timetable of some tasks that is met in so many rounds, from an incumbent on.

    ``least`` are the tasks, each with its soonest start by itself and what it then costs.
    """
    return _Recreating(board, incumbent, least, patience).best_of(rounds)


class _Recreating:
    """State: what is taken, what each task costs there, who could be better, the best so far."""

    def __init__(
        self,
        board: Board,
        incumbent: Schedule,
        least: Mapping[int, tuple[int, Vector]],
        patience: Patience,
    ) -> None:
        self.board, self.least, self.patience = board, least, patience
        self.tasks = [board.tasks[number] for number in least]
        self.taken = Taken(board)
        for number, start in incumbent.starts.items():
            self.taken.add(board.tasks[number], start)
        self.costs = {t.number: self._cost(t) for t in self.tasks}
        self.vector, self.best = incumbent.vector, incumbent
        self.worse: dict[int, Task] = {}
        self.line: list[tuple[int, int]] = []  # starts with who has them, in order
        self.left_out: list[int] = []
        self.chance = random.Random(0)

    def _cost(self, task: Task) -> Vector:
        return cost(self.board, task, self.taken.starts_of.get(task.number, NEVER))

    def best_of(self, rounds: int) -> Schedule:
        left = rounds - self._search(int(rounds * _FOR_LATE), 2)
        self._back_to_best()
        self._search(left, 4)
        return self.best

    def _search(self, rounds: int, places: int) -> int:
        """Search by so many places of the vector; in how many rounds."""
        hot, cold = _HEATS[places]
        self._line_up()
        self.worse = {t.number: t for t in self.tasks if self._could_be_better(t, places)}
        for n in range(rounds):
            if not self.worse or not self.patience.lasts():
                return n
            self._once(hot * (cold / hot) ** (n / rounds), places)
        return rounds

    def _could_be_better(self, task: Task, places: int) -> bool:
        """Whether a task costs more than it would by itself. One that is where it was stays there
        for the sum's sake.
        """
        if places > 2 and self.taken.starts_of.get(task.number) == task.was:
            return False
        return self.costs[task.number][:places] > self.least[task.number][1][:places]

    def _back_to_best(self) -> None:
        for number in list(self.taken.starts_of):
            self.taken.remove(self.board.tasks[number])
        for number, start in self.best.starts.items():
            self.taken.add(self.board.tasks[number], start)
        self.costs = {t.number: self._cost(t) for t in self.tasks}
        self.vector = self.best.vector

    def _once(self, heat: float, places: int) -> None:
        """Take a few off around one that could be better, or any, and put them back."""
        taken, chance = self.taken, self.chance
        centre = self._centre(places)
        first_of_all = self._waited_for(centre)
        around = chance.choice(first_of_all)
        soonest = self.least[around.number][0]
        if soonest == NEVER:
            return
        here = soonest if chance.random() < 0.7 else taken.starts_of.get(around.number, soonest)
        few = self._near(first_of_all, here)
        before = {t.number: taken.remove(t) for t in few if t.number in taken.starts_of}
        shut = self._put_back(few, first_of_all, places)
        costs = {t.number: self._cost(t) for t in few}
        change = self._change(costs)
        if not shut and self._goes_on(change, heat, places):
            self.costs |= costs
            self._line_up()
            for task in few:
                if self._could_be_better(task, places):
                    self.worse[task.number] = task
                else:
                    self.worse.pop(task.number, None)
            self.vector = plus(self.vector, change)
            if self.vector < self.best.vector:
                self.best = Schedule(dict(taken.starts_of), self.vector, False)
            return
        for task in few:
            if task.number in taken.starts_of:
                taken.remove(task)
        for number, start in before.items():
            taken.add(self.board.tasks[number], start)

    def _line_up(self) -> None:
        """Put the tasks in the order of their starts."""
        starts = self.taken.starts_of
        self.line = sorted([(start, number) for number, start in starts.items()])
        self.left_out = [t.number for t in self.tasks if t.number not in starts]

    def _centre(self, places: int) -> Task:
        """Who is looked at: most often one that could be better; for the sum, by what there is."""
        chance, worse = self.chance, list(self.worse.values())
        if chance.random() >= _OF_WORSE:
            return chance.choice(self.tasks)
        if places == 2:
            return chance.choice(worse)
        gains = [max(1.0, self.costs[t.number][3] - self.least[t.number][1][3]) for t in worse]
        return chance.choices(worse, gains)[0]

    def _waited_for(self, centre: Task) -> list[Task]:
        """What a task waits for by its gates, however far, the first first; and the task itself."""
        waited_for: dict[int, Task] = {}

        def visit(task: Task) -> None:
            for gate in task.gates:
                for number in self.board.after[gate]:
                    if number not in waited_for:
                        visit(self.board.tasks[number])
            waited_for[task.number] = task

        visit(centre)
        return list(waited_for.values())

    def _near(self, some: Sequence[Task], here: int) -> list[Task]:
        """Some tasks, and others that stand near a cell."""
        chance, tasks = self.chance, self.board.tasks
        reach, count = chance.choice(_REACHES), chance.randint(*_FEW)
        place = bisect(self.line, (here, 0))
        pool = [n for _, n in self.line[max(0, place - reach) : place + reach]]
        pool += self.left_out
        near = [tasks[n] for n in chance.sample(pool, min(count, len(pool)))]
        return [*some, *(task for task in near if task not in some)]

    def _put_back(self, few: Sequence[Task], first_of_all: Sequence[Task], places: int) -> bool:
        """Give each its first free start, one after the other; whether a gate then stays shut for
        somebody who stands.
        """
        taken, chance = self.taken, self.chance
        order = chance.choice(_ORDERS if places == 2 else _ORDERS[1:])
        waiting = sorted(few, key=lambda task: order(task, chance))
        if chance.random() < 0.9:
            waiting = [*first_of_all, *(task for task in waiting if task not in first_of_all)]
        while True:
            later = []
            for task in waiting:
                free = taken.starts(task)
                if free:
                    stays = task.was >= 0 and free >> task.was & 1
                    taken.add(task, task.was if stays else first(free))
                else:
                    later.append(task)
            if len(later) == len(waiting):
                break
            waiting = later  # what waited for a gate may go now
        return any(
            number in taken.starts_of
            for task in later
            for gate in task.opens
            for number in self.board.before[gate]
        )

    def _change(self, costs: Mapping[int, Vector]) -> Vector:
        change = [0.0, 0.0, 0.0, 0.0]
        for number, now in costs.items():
            for place, was in enumerate(self.costs[number]):
                change[place] += now[place] - was
        return change[0], change[1], change[2], change[3]

    def _goes_on(self, change: Vector, heat: float, places: int) -> bool:
        unbooked, late, moved, sum_ = change
        if unbooked:
            return unbooked < 0
        if places > 2 and (late or moved):
            return (late, moved) < (0, 0)
        if moved > 0:
            return late < 0
        worse = late + _OF_SUM * sum_ if places == 2 else sum_
        return worse < -heat * log(1 - self.chance.random())
