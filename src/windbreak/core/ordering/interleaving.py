"""The steps of several passages in one row: what closes an advisory first, then the house's habit.

Source of the rules: docs/reasoning.md, "The order of the moves". Passages tie nobody to each other,
so whichever has a step ready may go on. Among the steps that a cheapest way can begin with, the one
comes first that closes the gravest advisory, or without which one that does can't be done; then the
one whose product's kind the policy names first, then by product id, then the higher hop.

    ready    [(rank, 0, (step, state after it, the rest of a way)), …]   of each passage the next
    urgent   {((0, 2),): 16, ((1, 1),): 16}     how grave what a step closes or makes way for is

What a closing step needs before it is what is left when every step of a cheapest way that can as
well come after it was put after it.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator, Sequence
from itertools import combinations
from typing import Literal, NamedTuple

from windbreak.core.case.candidates import Member
from windbreak.core.ordering.passage import Passage
from windbreak.core.ordering.steps import Hop, Hops, State
from windbreak.core.resolution.resolve import Resolution
from windbreak.core.values.reasons import Way
from windbreak.core.versions.version import Version

_Rank = tuple[int, tuple[tuple[int, str, int], ...]]
_Ready = tuple[Hops, State, list[Hops]]  # a step, the state after it, a cheapest way from there


class Move(NamedTuple):
    """One member's change in a step; ``start`` None: it was absent. ``by``: how it is had."""

    v: int
    product: str
    start: Version | None
    end: Version
    by: Way | None


class Step(NamedTuple):
    """One stage of the plan: usually one move, several where they must go together."""

    moves: tuple[Move, ...]
    before: tuple[int, ...]  # the whole choice before this step
    after: tuple[int, ...]


def interleaved(resolution: Resolution, passages: Sequence[Passage]) -> Iterator[Step]:
    """The passages' steps in one row."""
    rows = [_Row(resolution, passage) for passage in passages]
    whole = list(resolution.problem.start)
    ready: list[tuple[_Rank, int, _Ready]] = []  # a heap: of each passage its next step
    for n, row in enumerate(rows):
        step = row.first(row.state, row.passage.way(row.state))
        if step is not None:
            ready.append((row.rank(step[0]), n, step))
    heapq.heapify(ready)
    while ready:
        _, n, (hops, after, way) = ready[0]
        row = rows[n]
        before = tuple(whole)
        for member, place in hops:
            whole[row.passage.group[member]] = row.passage.option(member, place)
        yield Step(tuple([row.move(hop) for hop in hops]), before, tuple(whole))
        row.go_on(hops, after)
        step = row.first(after, way)
        if step is None:
            heapq.heappop(ready)
        else:
            heapq.heapreplace(ready, (row.rank(step[0]), n, step))


def _after(state: State, hops: Hops) -> State:
    """The state that a step leads to."""
    if len(hops) == 1:
        ((n, place),) = hops
        return (*state[:n], place, *state[n + 1 :])
    after = list(state)
    for n, place in hops:
        after[n] = place
    return tuple(after)


class _Exposure(NamedTuple):
    """What advisories there are against the places of a member: how grave each, gravest last, and
    for each place those that affect it, as bits.
    """

    gravities: tuple[int, ...]
    affecting: tuple[int, ...]

    @classmethod
    def of(cls, member: Member, stops: Sequence[int]) -> _Exposure:
        line = member.line
        against = [line.against(member.version(option), option) for option in stops]
        return cls(
            tuple([gravity for gravity, _, _ in line.weaknesses]),
            tuple([sum([1 << k for k in places]) for places in against]),
        )

    def closed(self, start: int, end: int) -> int:
        """How grave the gravest advisory is that a hop leaves behind; 0 for none."""
        behind = self.affecting[start] & ~self.affecting[end]
        return self.gravities[behind.bit_length() - 1] if behind else 0

    def left(self, place: int) -> bool:
        """Whether some hop closes an advisory, from a place on."""
        ahead = self.affecting[place:]
        return any([now & ~then for now, then in combinations(ahead, 2)])


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
        self._exposed = {
            n: _Exposure.of(m, passage.stops.stops[n])
            for n, m in enumerate(members)
            if m.installed is not None and m.line.repaired_from(m.installed)
        }
        self._urgent: dict[Hops, int] = {}
        self._seen: list[Hops] = []  # the way for which that was worked out
        self._habits: dict[Hops, tuple[tuple[int, str, int], ...]] = {}

    def go_on(self, hops: Hops, state: State) -> None:
        """Make a step, and come to a state."""
        self.state = state
        for n, place in hops:
            if n in self._exposed and not self._exposed[n].left(place):
                del self._exposed[n]

    def rank(self, hops: Hops) -> _Rank:
        """The place of a step: what it closes, then the house's habit."""
        habit = self._habits.get(hops)
        if habit is None:
            places = sorted([(self._places[n], self._products[n], -place) for n, place in hops])
            habit = self._habits[hops] = tuple(places)
        if not self._exposed:
            return 0, habit
        return -max(self._urgent.get(hops, 0), self._closes(self.state, hops)), habit

    def _closes(self, state: Sequence[int], hops: Hops) -> int:
        """How grave the gravest advisory is that a step closes; 0 for none."""
        gravest = 0
        for n, place in hops:
            if n in self._exposed:
                gravest = max(gravest, self._exposed[n].closed(state[n], place))
        return gravest

    def _with_urgent_first(self, state: State, way: list[Hops]) -> list[Hops]:
        """A cheapest way with what closes an advisory, and what that needs, as early as may be."""
        if way == self._seen:
            return way
        self._urgent = {}
        closing: list[tuple[int, Hops]] = []
        here = list(state)
        for hops in way:
            gravity = self._closes(here, hops)
            if gravity:
                closing.append((-gravity, hops))
            for n, place in hops:
                here[n] = place
        done = 0
        for gravity, hops in sorted(closing):
            at = way.index(hops)
            if at < done:
                continue
            needed, rest = self._needed(state, way, done, at)
            way = [*way[:done], *needed, hops, *rest]
            done += len(needed) + 1
            if needed and self._may_close(state, hops, way):
                needed = []  # it can be done without them, by another cheapest way
            for step in (*needed, hops):
                self._urgent[step] = max(self._urgent.get(step, 0), -gravity)
        self._seen = way
        return way

    def _needed(
        self, state: State, way: list[Hops], done: int, at: int
    ) -> tuple[list[Hops], list[Hops]]:
        """What of a way has to come before one of its steps, and all that can come after it."""
        before = [state]
        for hops in way[:at]:
            before.append(_after(before[-1], hops))
        needed, rest, loose = [way[at]], way[at + 1 :], False
        starts = {way[i]: before[i] for i in range(done, at)}
        for i in reversed(range(done, at)):
            ties = self._ties_to(starts[way[i]], way[i], needed)
            if not ties:
                rest = [way[i], *rest]
            else:
                needed = [way[i], *needed]
                loose = loose or "firmly" not in ties
        needed.pop()
        while loose:
            loose = False
            for n in reversed(range(len(needed))):
                step = needed[n]
                if "firmly" in self._ties_to(starts[step], step, [*needed[n + 1 :], way[at]]):
                    continue
                start = before[done]
                for hops in needed[:n]:
                    start = _after(start, hops)
                put_off = self._put_off(start, [*needed[n + 1 :], way[at]], step, rest)
                if put_off is not None:
                    needed, rest, loose = [*needed[:n], *needed[n + 1 :]], put_off, True
        return needed, rest

    def _ties_to(self, state: State, hops: Hops, others: Iterable[Hops]) -> set[str]:
        """How a step, made from a state, is tied to others that come after it."""
        ties: set[str] = set()
        for later in others:
            tie = self._ties(state, hops, later)
            if tie is not None:
                ties.add(tie)
                if tie == "firmly":
                    break
        return ties

    def _ties(self, state: State, hops: Hops, later: Hops) -> Literal["firmly", "loosely"] | None:
        """Whether a step, made from a state, can't be made after another: firmly, where a rule
        would be broken; loosely, where it hangs on what else has moved by then.
        """
        steps, loose = self.passage.steps, False
        for n, place in hops:
            for m, to in later:
                if m == n:
                    return "firmly"
                if m not in steps.neighbours[n]:
                    continue
                for other, row, broken, _ in steps.near[n]:
                    if other == m and broken:
                        loose = True
                    elif other == m and not row[state[n]] >> to & 1:
                        return "firmly"
                for plugin, theme in (((n, place), m), ((m, to), n)):
                    arrival = steps.arriving.get(plugin)
                    if arrival and any(t == theme for t, _ in arrival.themes):
                        loose = True
        return "loosely" if loose else None

    def _single(self, state: State) -> Iterator[tuple[Hops, State]]:
        """The steps of one hop from a state, by their ranks."""
        urgent: list[Hops] = []
        if self._exposed:
            urgent = [hops for hops in self._urgent if len(hops) == 1]
            hops_of = self.passage.steps.hops
            urgent += [
                ((n, place),)
                for n in self._exposed
                for place in hops_of[n][state[n]]
                if self._exposed[n].closed(state[n], place) and ((n, place),) not in self._urgent
            ]
            urgent.sort(key=self.rank)
            for hops in urgent:
                ((n, place),) = hops
                if place in hops_of[n][state[n]]:
                    after = self.passage.steps.hopped(n, place, state)
                    if after is not None:
                        yield hops, after
        for hops, after in self.passage.single(state, self.habit):
            if hops not in urgent:
                yield hops, after

    def _may_close(self, state: State, hops: Hops, way: list[Hops]) -> bool:
        """Whether a cheapest way can begin with a hop that closes what a step closes."""
        members = {n for n, _ in hops}
        costs = self._costs(way)
        rest = (costs[0], costs[1] - 1)
        return any(
            hop[0][0] in members and self._closes(state, hop) and self.passage.costs(after, rest)
            for hop, after in self.passage.single(state, self.habit)
        )

    def _costs(self, way: Iterable[Hops]) -> tuple[int, int]:
        """What a way costs: hops beyond the first of each step, and all hops."""
        every = [len(hops) for hops in way]
        return sum(every) - len(every), sum(every)

    def _put_off(
        self, state: State, first: list[Hops], step: Hops, rest: list[Hops]
    ) -> list[Hops] | None:
        """The rest of a way with a step put into it, as early as it can be made there; None where
        it can't.
        """
        here = self._walked(state, first)
        for k in range(len(rest) + 1):
            if here is None:
                return None
            late = [step, *rest[k:]]
            if self._walked(here, late) is not None:
                return [*rest[:k], *late]
            here = self._walked(here, rest[k : k + 1])
        return None

    def _walked(self, state: State, way: Iterable[Hops]) -> State | None:
        """The state to which steps lead; None where they can't be made in this order."""
        steps = self.passage.steps
        for hops in way:
            for n, place in hops:
                if place not in steps.hops[n][state[n]]:
                    return None
            after = _after(state, hops)
            if steps.must_join(hops, state, after) is not None:
                return None
            state = after
        return state

    def first(self, state: State, way: list[Hops]) -> _Ready | None:
        """The first step, by the house's habit, that a cheapest way from a state can begin with,
        one such way being given, and the rest of such a way; None at the target.
        """
        if not way:
            return None
        if len(way) == 1:
            return way[0], _after(state, way[0]), []  # to the target at once
        passage = self.passage
        if self._exposed:
            way = self._with_urgent_first(state, way)
        combined, hopped = self._costs(way)
        steps: Iterable[tuple[Hops, State]] = self._single(state)
        if combined:
            sizes = range(1, combined + 2)
            every = [step for size in sizes for step in passage.steps.of_size(state, size)]
            steps = sorted(every, key=lambda step: self.rank(step[0]))
        for hops, after in steps:
            if hops == way[0] or (len(hops) == 1 and passage.may_begin(state, way, hops[0])):
                rest = [other for other in way if other != hops]
                self._seen = rest if hops == way[0] else []
                return hops, after, rest
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
