"""The steps of several passages in one row, by the house's habit.

Source of the rules: docs/reasoning.md, "The order of the moves". Passages tie nobody to each other,
so whichever has a step ready may go on. Among the steps that a cheapest way can begin with, the one
comes first whose product's kind the policy names first, then by product id, then the higher hop.

    ready    {0: (step, state after it, the rest of a way), 1: None}     for each passage
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from windbreak.core.ordering.passage import Passage
from windbreak.core.ordering.steps import Hop, Hops, State
from windbreak.core.resolution.resolve import Resolution
from windbreak.core.values.reasons import Way
from windbreak.core.versions.version import Version

_Rank = tuple[tuple[int, str, int], ...]
_Ready = tuple[Hops, State, list[Hops]]  # a step, the state after it, a cheapest way from there


@dataclass(frozen=True, slots=True)
class Move:
    """One member's change in a step; ``start`` None: it was absent. ``by``: how it is had."""

    v: int
    product: str
    start: Version | None
    end: Version
    by: Way | None


@dataclass(frozen=True, slots=True)
class Step:
    """One stage of the plan: usually one move, several where they must go together."""

    moves: tuple[Move, ...]
    before: tuple[int, ...]  # the whole choice before this step
    after: tuple[int, ...]


def interleaved(resolution: Resolution, passages: Sequence[Passage]) -> Iterator[Step]:
    """The passages' steps in one row."""
    rows = [_Row(resolution, passage) for passage in passages]
    whole = list(resolution.problem.start)
    ready = {n: row.first(row.state, row.passage.way(row.state)) for n, row in enumerate(rows)}
    waiting = {n: (rows[n].rank(step[0]), n) for n, step in ready.items() if step}
    while waiting:
        _, n = min(waiting.values())
        row, step = rows[n], ready[n]
        assert step is not None  # it waited
        hops, after, way = step
        before = tuple(whole)
        for member, place in hops:
            whole[row.passage.group[member]] = row.passage.option(member, place)
        yield Step(tuple([row.move(hop) for hop in hops]), before, tuple(whole))
        row.state = after
        following = ready[n] = row.first(after, way)
        if following is None:
            del waiting[n]
        else:
            waiting[n] = (row.rank(following[0]), n)


class _Row:
    """One passage, and the state that its steps have come to."""

    def __init__(self, resolution: Resolution, passage: Passage) -> None:
        self.resolution = resolution
        self.passage = passage
        self.state = passage.start
        habit = resolution.case.policy.order
        members = [resolution.problem.members[v] for v in passage.group]
        kinds = [m.line.product.kind for m in members]
        self._places = [habit.index(k) if k in habit else len(habit) for k in kinds]
        self._products = [m.product for m in members]
        self.habit = sorted(range(len(members)), key=lambda n: (self._places[n], self._products[n]))

    def rank(self, hops: Iterable[Hop]) -> _Rank:
        """The place of a step in the house's habit."""
        return tuple(sorted([(self._places[n], self._products[n], -place) for n, place in hops]))

    def first(self, state: State, way: list[Hops]) -> _Ready | None:
        """The first step, by the house's habit, that a cheapest way from a state can begin with,
        one such way being given, and the rest of such a way; None at the target.
        """
        if not way:
            return None
        passage = self.passage
        combined = sum([len(hops) - 1 for hops in way])
        hopped = sum(map(len, way))
        steps: Iterable[tuple[Hops, State]] = passage.single(state, self.habit)
        if combined:
            sizes = range(1, combined + 2)
            every = [step for size in sizes for step in passage.steps.of_size(state, size)]
            steps = sorted(every, key=lambda step: self.rank(step[0]))
        for hops, after in steps:
            if hops == way[0] or (len(hops) == 1 and passage.may_begin(state, way, hops[0])):
                return hops, after, [other for other in way if other != hops]
            if passage.costs(after, (combined - len(hops) + 1, hopped - len(hops))):
                return hops, after, passage.way(after)
        raise AssertionError("a state with a way to the target has a first step on it")

    def move(self, hop: Hop) -> Move:
        n, place = hop
        passage = self.passage
        member = self.resolution.problem.members[passage.group[n]]
        option = passage.option(n, place)
        end = member.version(option)
        assert end is not None  # nothing moves to being absent
        start = member.version(passage.option(n, self.state[n]))
        return Move(passage.group[n], member.product, start, end, member.ways.first(option))
