"""The steps in one row: what closes an advisory comes as early as its steps let it."""

from __future__ import annotations

import unittest
from collections.abc import Iterator, Sequence
from functools import cache

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import random_case
from windbreak.core.case.candidates import Member
from windbreak.core.ordering.order import order
from windbreak.core.ordering.passage import Passage
from windbreak.core.ordering.steps import State
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.basics import SEVERITY
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version

seeds = st.integers(min_value=0, max_value=40_000)


def gravity(member: Member, now: Version | None, then: Version | None) -> int:
    """How grave the gravest advisory is that a move leaves behind."""
    return max(
        (
            SEVERITY[a.severity]
            for a in member.line.advisories
            if now
            and then
            and now in parse_range(a.affected)
            and then not in parse_range(a.affected)
        ),
        default=0,
    )


class Urgent(unittest.TestCase):
    @given(seeds)
    @settings(max_examples=400, deadline=None)
    def test_the_gravest_advisory_is_closed_as_early_as_the_steps_can_be_put(
        self, seed: int
    ) -> None:
        found = order(resolve(random_case(seed)))
        problem, choice = found.resolution.problem, found.resolution.choice
        moved = [v for v, i in enumerate(choice) if i != problem.start[v]]
        closed = [
            max(gravity(problem.members[m.v], m.start, m.end) if m.start else 0 for m in step.moves)
            for step in found.steps
        ]
        if not closed or not max(closed) or closed.count(max(closed)) > 1:
            return  # of two as grave the house's habit says which is first
        whole = Passage(problem, choice, moved)
        made = {tuple(sorted((m.v, step.after[m.v]) for m in step.moves)) for step in found.steps}

        def steps(state: State) -> Iterator[tuple[Sequence[tuple[int, int]], State]]:
            for size in range(1, len(state) + 1):
                for hops, after in whole.steps.of_size(state, size):
                    named = ((whole.group[n], whole.option(n, place)) for n, place in hops)
                    if tuple(sorted(named)) in made:
                        yield hops, after

        @cache
        def left(state: State) -> tuple[int, int] | None:
            """What a cheapest way from a state costs."""
            if state == whole.target:
                return (0, 0)
            costs = []
            for hops, after in steps(state):
                more = left(after)
                if more is not None:
                    costs.append((more[0] + len(hops) - 1, more[1] + 1))
            return min(costs, default=None)

        @cache
        def soonest(state: State) -> int | None:
            """After how many steps of some cheapest way the gravest can be closed."""
            found_at = []
            for hops, after in steps(state):
                more, cost = left(after), left(state)
                if more is None or cost != (more[0] + len(hops) - 1, more[1] + 1):
                    continue
                closes = max(
                    gravity(
                        problem.members[whole.group[n]],
                        problem.members[whole.group[n]].version(whole.option(n, state[n])),
                        problem.members[whole.group[n]].version(whole.option(n, place)),
                    )
                    for n, place in hops
                )
                if closes == max(closed):
                    return 1
                later = soonest(after)
                if later is not None:
                    found_at.append(later + 1)
            return min(found_at, default=None)

        best = soonest(whole.start)
        if best is not None:
            self.assertEqual(closed.index(max(closed)) + 1, best)
