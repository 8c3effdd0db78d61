"""Ruin and recreate: never worse, by every rule, the same each time, and better where it can be."""

import unittest
from datetime import timedelta
from typing import Any

from tests.core.scheduling import books
from windbreak.core.scheduling.board import NEVER, Board, Taken, Task, first
from windbreak.core.scheduling.recreating import recreated
from windbreak.core.scheduling.search import NOTHING, Schedule, Vector, cost, plus
from windbreak.core.scheduling.timetable import timetable
from windbreak.core.values.nightbooks import NightBook

ROUNDS = 400


def gated() -> dict[str, Any]:
    """A canary's site has one start only, a heavier job wants it, and who waits for the canary
    stands two nights away, beyond many that have room.
    """
    between = [f"m{n:02}" for n in range(60)]
    sites = [
        _site("s0", "fri", "21:00", "21:30"),
        _site("s1", "sun", "21:00", "21:30"),
        *(_site(id_, "sat", "12:00", "20:00") for id_ in between),
    ]
    jobs = [_job("a", "s0", 1), _job("b", "s1", 2), _job("c", "s0", 50)]
    return {
        "format": "windbreak-nightbook/1",
        "at": books.AT.isoformat(),
        "horizon": (books.AT + timedelta(days=3)).isoformat(),
        "runs_at_once": None,
        "hosts": [],
        "sites": sites,
        "jobs": [*jobs, *(_job(id_, id_, 1) for id_ in between)],
        "gates": [{"id": "g0", "after": ["a"], "quiet": 0, "before": ["b"]}],
        "watch": [],
    }


def _site(id_: str, day: str, opens: str, closes: str) -> dict[str, Any]:
    night = {"days": [day], "start": opens, "end": closes}
    return {"id": id_, "host": None, "zone": "UTC", "windows": [night], "freezes": []}


def _job(id_: str, site: str, weight: float) -> dict[str, Any]:
    return {"id": id_, "site": site, "minutes": 30, "back": 0, "weight": weight}


def backwards(board: Board, but: str = "") -> Schedule:
    """Each job but one at its first free start, the last first: a poor timetable by every rule."""
    taken, others = Taken(board), [task for task in board.tasks if task.job.id != but]
    waiting = sorted(others, key=lambda task: task.job.id, reverse=True)
    for _ in board.tasks:  # what waits for a gate may go in a later pass
        for task in [task for task in waiting if task.number not in taken.starts_of]:
            if free := taken.starts(task):
                taken.add(task, first(free))
    vector = NOTHING
    for task in board.tasks:
        vector = plus(vector, cost(board, task, taken.starts_of.get(task.number, NEVER)))
    return Schedule(dict(taken.starts_of), vector, False)


def alone(board: Board) -> dict[int, tuple[int, Vector]]:
    """Each task's soonest start by itself and what it then costs."""

    def soonest(task: Task) -> int:
        return first(task.allowed) if task.allowed else NEVER

    return {t.number: (soonest(t), cost(board, t, soonest(t))) for t in board.tasks}


def starts_of(board: Board, schedule: Schedule) -> books.Starts:
    return {board.tasks[n].job.id: board.instant(cell) for n, cell in schedule.starts.items()}


class Recreated(unittest.TestCase):
    def outcome(self, book: NightBook) -> tuple[Board, Schedule, Schedule]:
        board = Board(book)
        incumbent = backwards(board)
        return board, incumbent, recreated(board, incumbent, alone(board), ROUNDS)

    def test_it_is_never_worse_and_its_vector_is_the_one_of_its_starts(self) -> None:
        better = 0
        for seed in range(12):
            with self.subTest(seed=seed):
                book = books.made(seed, 20 + seed, days=2.0)
                board, incumbent, schedule = self.outcome(book)
                starts = starts_of(board, schedule)
                self.assertLessEqual(schedule.vector, incumbent.vector)
                self.assertEqual(schedule.vector, books.vector(book, starts))
                better += schedule.vector < incumbent.vector
        self.assertGreaterEqual(better, 10)

    def test_it_keeps_every_rule_gates_too(self) -> None:
        for seed in range(20, 60):
            with self.subTest(seed=seed):
                book = books.made(seed, 14, days=0.7)  # too tight for all
                board, _, schedule = self.outcome(book)
                starts = starts_of(board, schedule)
                jobs = [job for job in book.jobs if job.id in starts]
                self.assertTrue(all(books.alone(book, job, starts[job.id]) for job in jobs))
                self.assertTrue(books.together(book, starts))

    def test_nobody_stays_behind_a_gate_that_is_never_opened(self) -> None:
        board = Board(NightBook.model_validate(gated(), strict=False))
        incumbent = backwards(board, but="c")
        self.assertEqual(len(incumbent.starts), len(board.tasks) - 1)
        schedule = recreated(board, incumbent, alone(board), 4_000)
        stand = {board.tasks[n].job.id for n in schedule.starts}
        self.assertTrue("a" in stand or "b" not in stand)

    def test_it_is_as_good_as_trying_every_order_in_small_books(self) -> None:
        for seed in range(100, 120):
            with self.subTest(seed=seed):
                book = books.made(seed, 5, days=0.6)
                self.assertEqual(self.outcome(book)[2].vector[:2], books.best(book)[0][:2])

    def test_from_the_best_there_is_it_comes_back_with_no_other(self) -> None:
        for seed in range(200, 212):
            with self.subTest(seed=seed):
                best = timetable(books.made(seed, 10, days=0.7))
                self.assertTrue(best.proven)
                incumbent = Schedule(best.starts, best.vector, False)
                schedule = recreated(best.board, incumbent, alone(best.board), ROUNDS)
                self.assertEqual(schedule.vector, best.vector)

    def test_the_same_book_gives_the_same_timetable(self) -> None:
        book = books.made(3, 40, days=2.0)
        self.assertEqual(self.outcome(book)[2].starts, self.outcome(book)[2].starts)
