"""The search for the cheapest way: its bound, what it passes over, and what it says has no way."""

from __future__ import annotations

import unittest
from collections.abc import Iterator, Sequence

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import random_case
from windbreak.core.ordering.order import order
from windbreak.core.ordering.passage import Passage
from windbreak.core.ordering.steps import State
from windbreak.core.ordering.stops import Row, Stops, onward, places
from windbreak.core.resolution.problem import Problem
from windbreak.core.resolution.resolve import Resolution, resolve

seeds = st.integers(min_value=0, max_value=40_000)


def moving(resolution: Resolution) -> list[int]:
    pairs = zip(resolution.problem.start, resolution.choice, strict=True)
    return [v for v, (start, end) in enumerate(pairs) if start != end]


def turned(row: Sequence[int], width: int) -> Row:
    """The same pairs of places seen from the other side."""
    return tuple([sum([1 << i for i, fit in enumerate(row) if fit >> j & 1]) for j in range(width)])


def reached(passage: Passage) -> Iterator[State]:
    """Every state that some steps lead to, the start included."""
    seen, waiting = {passage.start}, [passage.start]
    while waiting:
        state = waiting.pop()
        yield state
        for size in range(1, len(state) + 1):
            for _, after in passage.steps.of_size(state, size):
                if after not in seen:
                    seen.add(after)
                    waiting.append(after)


def cheapest_left(passage: Passage) -> dict[State, tuple[int, int]]:
    """What is left from each state, by going over all steps until nothing changes."""
    states = list(reached(passage))
    steps = {
        s: [step for size in range(1, len(s) + 1) for step in passage.steps.of_size(s, size)]
        for s in states
    }
    left = {passage.target: (0, 0)}
    # A hop goes up, so a state's steps lead to states of a greater sum.
    for state in sorted(states, key=sum, reverse=True):
        ways = [
            (left[after][0] + len(hops) - 1, left[after][1] + len(hops))
            for hops, after in steps[state]
            if after in left
        ]
        if ways and state != passage.target:
            left[state] = min(ways)
    return left


class Searching(unittest.TestCase):
    @settings(max_examples=120, deadline=None, derandomize=True)
    @given(seeds)
    def test_the_way_is_the_cheapest_and_the_bound_is_never_above_what_is_left(
        self, seed: int
    ) -> None:
        resolution = resolve(random_case(seed))
        group = moving(resolution)
        if not group:
            return
        passage = Passage(resolution.problem, resolution.choice, group)
        if not passage.walkable:
            self.assertIsNone(passage.cost)
            return
        cost = passage.cost
        left = cheapest_left(passage)
        self.assertEqual(cost, left.get(passage.start), seed)
        for state in reached(passage):
            bound = passage.bound.of(state)
            if state in left:
                self.assertIsNotNone(bound, seed)
                self.assertLessEqual(bound, left[state], (seed, state))

    @settings(max_examples=120, deadline=None, derandomize=True)
    @given(seeds)
    def test_hops_that_cannot_hurt_cost_nothing_more(self, seed: int) -> None:
        resolution = resolve(random_case(seed))
        group = moving(resolution)
        if not group:
            return
        passage = Passage(resolution.problem, resolution.choice, group)
        if not passage.walkable:
            return
        left = cheapest_left(passage)
        for state in left:
            for n, after in enumerate(passage.steps.glide(state, range(len(state))), 1):
                self.assertIn(after, left, seed)
                self.assertEqual(left[state], (left[after][0], left[after][1] + n), seed)

    @settings(max_examples=60, deadline=None, derandomize=True)
    @given(seeds)
    def test_stops_that_another_stands_in_for_are_not_missed(self, seed: int) -> None:
        resolution = resolve(random_case(seed))
        group = moving(resolution)
        if not group:
            return
        problem, choice = resolution.problem, resolution.choice
        fewer = Passage(problem, choice, group)
        every = [
            [o for o in range(max(choice[v], problem.start[v]) + 1) if problem.domains[v] >> o & 1]
            for v in group
        ]
        whole = Passage(problem, choice, group, stops=every)
        self.assertEqual(fewer.cost, whole.cost, seed)


class Deadlocks(unittest.TestCase):
    def test_members_kept_apart_have_no_way_and_none_of_them_can_be_left_out(self) -> None:
        looked_at = 0
        for seed in range(3_000):
            resolution = resolve(random_case(seed))
            ordered = order(resolution)
            if not ordered.apart:
                continue
            # The first was learned of the best choice itself.
            members = list(ordered.apart[0])
            problem, choice = resolution.problem, resolution.choice
            self.assertIsNone(alone(problem, choice, members), seed)
            for v in members if len(members) > 1 else ():
                fewer = [u for u in members if u != v]
                self.assertIsNotNone(alone(problem, choice, fewer), (seed, v))
            looked_at += 1
        self.assertGreater(looked_at, 5)


def alone(problem: Problem, target: tuple[int, ...], members: list[int]) -> tuple[int, int] | None:
    return Passage(problem, target, members, alone=True).cost


class Tables(unittest.TestCase):
    def test_places_are_the_stops_among_some_options(self) -> None:
        for options, stops, expected in (
            (0b11100, [2, 3, 4], 0b111),
            (0b10100, [2, 3, 4], 0b101),
            (0b10010100, [2, 4, 7], 0b111),
            (0b10000000, [2, 4, 7], 0b100),
            (-1, [1, 5], 0b11),
            (0, [1, 5], 0),
        ):
            with self.subTest(options=bin(options), stops=stops):
                self.assertEqual(places(options, stops), expected)

    @given(st.lists(st.integers(min_value=0, max_value=255), min_size=1, max_size=8))
    def test_where_one_hop_leads_is_where_it_can_be_come_to_from(self, some: list[int]) -> None:
        from_ = [places & (1 << j) - 1 for j, places in enumerate(some)]
        self.assertEqual(tuple(onward(from_)), turned(from_, len(from_)))

    def test_ties_are_the_same_seen_from_both_sides(self) -> None:
        for seed in range(60):
            resolution = resolve(random_case(seed))
            group = moving(resolution)
            if not group:
                continue
            stops = Stops(resolution.problem, resolution.choice, group, alone=False, stops=None)
            for n, row in enumerate(stops.near):
                for near in row:
                    back = [b for b in stops.near[near.other] if b.other == n]
                    want = turned(near.row, len(stops.stops[near.other]))
                    self.assertIn((want, near.broken), [(b.row, b.broken) for b in back], seed)
