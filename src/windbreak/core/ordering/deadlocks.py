"""Targets that no order of steps leads to, and as few members as may be that show it.

What is learned is a nogood for the choice: options of some members that can't be reached all at
once, whatever the others do.

    members   {0, 31}       kept from their targets where the search ended
    grown     {0, 31, 33}   33 stays in their way: with nobody but these around there is no way
    fewest    {31, 33}      without 0 there is none either
    nogood    {31: 0b0100, 33: 0b1010}    the same holds for 33's other options in these bits

(1) Growing: the members by themselves have a way, or not. Where they have, somebody else stands in
    it, and joins them (counterexample-guided).
(2) Leaving out one after the other, halves first, while the rest has no way (deletion).
(3) Each one's other options, while none of their combinations has a way.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from itertools import product

from windbreak.core.bits import bits
from windbreak.core.ordering.passage import Allowance, Passage
from windbreak.core.ordering.stops import SearchTooLong
from windbreak.core.resolution.problem import NOBODY, Problem, Rule

_MOST_STATES = 20_000
_MOST_TESTS = 12  # passages looked at to say more of targets that can't be reached


class Deadlock:
    """Members that can't reach their targets, of a choice. ``passage`` was found to have no way."""

    def __init__(self, problem: Problem, choice: Sequence[int], passage: Passage) -> None:
        self.problem = problem
        self.choice = list(choice)
        self.passage = passage
        self.tests = _MOST_TESTS

    @cached_property
    def proof(self) -> list[int] | None:
        """Members that have no way with nobody else around; None where no such are met."""
        where = list(self.problem.start)
        for n, v in enumerate(self.passage.group):
            where[v] = self.passage.option(n, self.passage.furthest[n])
        members = set(self.passage.short)
        while True:
            try:
                alone = self._alone(sorted(members), {})
                if alone.cost is None:
                    return sorted(members)
            except SearchTooLong:
                return None
            more = self._in_the_way(alone, where) or self._in_the_way(alone, self.problem.start)
            if not more:
                return None
            members |= more

    def nogood(self) -> dict[int, int]:
        """Options, as bits, of as few members as may be, of which no combination can be reached."""
        core = self._fewest(self.proof or self._around())
        between = self._between(core)
        options = {v: 1 << self.choice[v] for v in core}
        for v in core:
            others = [u for u in core if u != v]
            for option in bits(self.problem.domains[v] & ~options[v]):
                rows = [
                    {**dict(zip(others, row, strict=True)), v: option}
                    for row in product(*[list(bits(options[u])) for u in others])
                ]
                # What breaks a rule between them is never chosen.
                open_ = [
                    row
                    for row in rows
                    if all(rule.relation.fits(row[rule.p], row[rule.q]) for rule in between)
                ]
                if not open_ or self.tests < len(open_):
                    continue
                self.tests -= len(open_)
                if all(self._dead(core, row) for row in open_):
                    options[v] |= 1 << option
        return options

    def _between(self, members: Sequence[int]) -> list[Rule]:
        """The rules between some members that hold today."""
        return [
            rule
            for v in members
            for n, rule in self.problem.rules_of[v]
            if rule.p == v and rule.q in members and n not in self.problem.broken
        ]

    # Growing

    def _in_the_way(self, alone: Passage, where: Sequence[int]) -> set[int]:
        """Who, standing where it is told, keeps the members from the first step that is kept."""
        here = list(where)
        for v in alone.group:
            here[v] = self.problem.start[v]
        for hops in alone.way(alone.start):
            before = list(here)
            moved = {alone.group[n]: alone.option(n, place) for n, place in hops}
            for v, option in moved.items():
                here[v] = option
            more = self._forbidding(moved, before, here) - set(alone.group)
            if more:
                return more
        return set()

    def _forbidding(
        self, moved: Mapping[int, int], before: Sequence[int], after: Sequence[int]
    ) -> set[int]:
        """Who takes part in what a step adds, or carries what it takes and stands elsewhere."""
        members: set[int] = set()
        for v, option in moved.items():
            for _, rule in self.problem.rules_of[v]:
                if rule.holds(before) and not rule.holds(after):
                    members |= {rule.p, rule.q} - {NOBODY}
            for carriage in self.problem.carried_of[v]:
                if carriage.p == v and carriage.i == option:
                    themes = carriage.themes
                    if not any(mask >> after[t] & 1 for t, mask in themes):
                        members |= {t for t, _ in themes}
        return members

    def _around(self) -> list[int]:
        """The passage's members and everybody that a rule or a bundle ties to them."""
        group = self.passage.group
        members = set(group)
        for v in group:
            for _, rule in self.problem.rules_of[v]:
                members |= {rule.p, rule.q} - {NOBODY}
            for carriage in self.problem.carried_of[v]:
                members |= {theme for theme, _ in carriage.themes}
        return sorted(members)

    # Leaving out

    def _fewest(self, members: list[int]) -> list[int]:
        size = max(1, len(members) // 2)
        while True:
            start = 0
            while start < len(members):
                fewer = members[:start] + members[start + size :]
                if fewer and self._dead(fewer, {}):
                    members = fewer
                else:
                    start += size
            if size == 1:
                return members
            size //= 2

    def _dead(self, members: Sequence[int], options: Mapping[int, int]) -> bool:
        try:
            return self._alone(members, options).cost is None
        except SearchTooLong:
            return False

    def _alone(self, members: Iterable[int], options: Mapping[int, int]) -> Passage:
        target = list(self.choice)
        for v, option in options.items():
            target[v] = option
        allowance = Allowance(_MOST_STATES)
        return Passage(self.problem, target, list(members), alone=True, allowance=allowance)
