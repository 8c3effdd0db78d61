"""The steps from a state, and those of them that a cheapest way can do without.

A *state* holds the place each member has reached. A *step* makes one hop, or as many together as
it must, adds no violation, and can't be split in two. Steps of one state are made by size, each
size from what the one below it left unfinished:

    state      (0, 0, 1)
    level 1    steps [((0, 1),)]          open: the hop of 1 alone, which 2 forbids
    level 2    steps [((1, 1), (2, 2))]   open: …

Three rules of dominance keep the search small: a hop that can't hurt is made at once, a member that
can wait for all others waits, and a waypoint that gains nothing is passed over. Nothing here knows
what a way costs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from windbreak.core.bits import bits
from windbreak.core.ordering.stops import Arrival, Stops

State = tuple[int, ...]  # the place each member of a group has reached among its stops
Hop = tuple[int, int]  # member of the group, place it goes to
Hops = tuple[Hop, ...]
Step = tuple[Hops, State]  # the hops of a step, and the state after it


@dataclass(slots=True)
class _Levels:
    """What was made of one state so far: its steps by size, and the sets of hops that may grow.

    ``open`` are hops, the state after them, and those of whom one may, or must, hop too.
    """

    open: list[tuple[Hops, State, frozenset[int]]]
    steps: list[list[Step]] = field(default_factory=list)
    seen: set[State] = field(default_factory=set)


class Steps:
    """The steps of one group's stops to a target."""

    def __init__(self, stops: Stops) -> None:
        self.stops = stops
        self.hops, self.fewest, self.near = stops.hops, stops.fewest, stops.near
        self.target: State = tuple([len(row) - 1 for row in stops.stops])
        self.everybody = frozenset(range(len(self.target)))
        self.arriving = {(a.plugin, a.place): a for a in stops.arrivals}
        self.carrying: list[list[Arrival]] = [[] for _ in self.target]
        for arrival in stops.arrivals:
            for theme, _ in arrival.themes:
                self.carrying[theme].append(arrival)
        self.neighbours = [
            {near.other for near in row}
            | {theme for a in stops.arrivals if a.plugin == n for theme, _ in a.themes}
            | {a.plugin for a in self.carrying[n]}
            for n, row in enumerate(self.near)
        ]
        self._levels: dict[State, _Levels] = {}
        self._leading: dict[tuple[int, int, int], bool] = {}

    # Steps by size

    def of_size(self, state: State, size: int) -> list[Step]:
        """Every step from a state of so many hops."""
        levels = self._levels.get(state)
        if levels is None:
            levels = self._levels[state] = _Levels([((), state, self.everybody)])
        while len(levels.steps) < size:
            self._grow(state, levels)
        return levels.steps[size - 1]

    def _grow(self, state: State, levels: _Levels) -> None:
        """Add a hop to each set of hops that may grow.

        While a set adds a violation, or comes by a bundle that nobody carries, somebody who takes
        part in that must hop too; while it repairs one, somebody who takes part may hop too, since
        what is repaired may not be broken again later.
        """
        steps: list[Step] = []
        left: list[tuple[Hops, State, frozenset[int]]] = []
        for others, before, partners in levels.open:
            for n in partners:
                if before[n] != state[n]:
                    continue
                for place in self.hops[n][state[n]]:
                    after = (*before[:n], place, *before[n + 1 :])
                    if after in levels.seen:
                        continue
                    levels.seen.add(after)
                    hops = tuple(sorted((*others, (n, place))))
                    more = self.must_join(hops, state, after)
                    if more is None:
                        steps.append((hops, after))
                        more = self._may_join(hops, state, after)
                    if more:
                        left.append((hops, after, more))
        steps.sort()
        levels.steps.append(steps)
        levels.open = left

    def must_join(self, hops: Hops, state: State, after: State) -> frozenset[int] | None:
        """Somebody of whom one must hop too; None where the step can be made as it is."""
        if self.arriving:
            for hop in hops:
                arrival = self.arriving.get(hop)
                if arrival and not any([mask >> after[t] & 1 for t, mask in arrival.themes]):
                    return frozenset([t for t, _ in arrival.themes])
        for n, place in hops:
            for m, row, broken, _ in self.near[n]:
                if not row[place] >> after[m] & 1 and (not broken or row[state[n]] >> state[m] & 1):
                    return frozenset((n, m))
        return None

    def _may_join(self, hops: Hops, state: State, after: State) -> frozenset[int]:
        """Who takes part in what a step repairs."""
        return frozenset(
            [
                m
                for n, place in hops
                for m, row, broken, _ in self.near[n]
                if broken and row[place] >> after[m] & 1 and not row[state[n]] >> state[m] & 1
            ]
        )

    def hopped(self, n: int, place: int, state: State) -> State | None:
        """The state after one hop; None where it adds a violation or nobody carries it."""
        after = (*state[:n], place, *state[n + 1 :])
        return after if self.must_join(((n, place),), state, after) is None else None

    # Dominance

    def glide(self, state: State, changed: Iterable[int]) -> list[State]:
        """The states passed while hops that can't hurt are made, one after the other.

        Any way from here can be changed to begin with such a hop. Whether a hop can hurt hangs on
        its member and its neighbours alone: ``changed`` are those for whom it was not looked at.
        """
        passed: list[State] = []
        waiting = list(changed)
        while waiting:
            n = waiting.pop()
            place = self._harmless(n, state) if state[n] != self.target[n] else None
            after = self.hopped(n, place, state) if place is not None else None
            if after is not None:
                passed.append(after)
                state = after
                waiting.extend([n, *self.neighbours[n]])
        return passed

    def worth_trying(self, state: State, size: int) -> Iterator[Step]:
        """The steps of so many hops that a cheapest way can do with, after gliding.

        A member that stands, where it is, all that its neighbours may still become, and may hop
        when they have, waits for the rest.
        """
        moving = [n for n, place in enumerate(state) if place != self.target[n]]
        now = [n for n in moving if not self._may_wait(n, state)] or moving
        if size == 1:
            for n in now:
                for place in self.hops[n][state[n]]:
                    if not self._idle(state, n, place):
                        after = self.hopped(n, place, state)
                        if after is not None:
                            yield ((n, place),), after
            return
        steps = self.of_size(state, size)
        if len(now) < len(moving):
            later = set(moving).difference(now)
            steps = [step for step in steps if not any([n in later for n, _ in step[0]])]
        idle = {hop for hops, _ in steps for hop in hops if self._idle(state, *hop)}
        yield from [step for step in steps if idle.isdisjoint(step[0])] if idle else steps

    def _harmless(self, n: int, state: State) -> int | None:
        """The highest hop of a member, if it stands all there that it would at what it passes."""
        here = state[n]
        high = self.hops[n][here][0]
        passed = (1 << high) - (1 << here)
        if not self._stands(n, state, high, passed) or not self._leads_on(n, passed, high):
            return None
        return high

    def _may_wait(self, n: int, state: State) -> bool:
        """Whether a member can do its one hop when all others are done."""
        here, end = state[n], self.target[n]
        if self.fewest[n][here] != 1 or (n, end) in self.arriving:
            return False
        above = (1 << end + 1) - (2 << here)
        if not self._stands(n, state, here, above):
            return False
        for m, row, _, _ in self.near[n]:
            lost = row[here] & ~row[end]
            if lost and (lost >> state[m] | lost >> self.target[m]) & 1:
                return False
        return True

    def _leads_on(self, n: int, passed: int, place: int) -> bool:
        """Whether a place allows each hop beyond it that those passed over allow."""
        leads = self._leading.get((n, passed, place))
        if leads is None:
            own = self.hops[n][place]
            leads = all(j <= place or j in own for i in bits(passed) for j in self.hops[n][i])
            self._leading[n, passed, place] = leads
        return leads

    def _idle(self, state: State, n: int, place: int) -> bool:
        """Whether a waypoint gains nothing over staying: it stands no more and leads no further."""
        here = state[n]
        if place == self.target[n] or self.fewest[n][place] < self.fewest[n][here]:
            return False
        return self._leads_on(n, 1 << place, here) and self._stands(n, state, here, 1 << place)

    def _stands(self, n: int, state: State, place: int, others: int) -> bool:
        """Whether a member at a place stands all that it would at any of the others."""
        for near in self.near[n]:
            m, row, broken, _ = near
            open_ = (1 << self.target[m] + 1) - (1 << state[m])
            own = row[place] & open_
            if broken and not row[state[n]] >> state[m] & 1:
                if own and own != open_:
                    return False
            elif own != open_ and near.any_of(others) & open_ & ~own:
                return False
        for arrival in self.carrying[n]:
            if state[arrival.plugin] >= arrival.place:
                continue
            for theme, mask in arrival.themes:
                if theme == n and not mask >> place & 1 and mask & others:
                    return False
        return True
