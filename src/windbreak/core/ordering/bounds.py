"""What is left from a state at least: the admissible bound of the joint-path search.

Members that wait for each other in a ring, and others found to be in each other's way, are a
*knot*: what it costs with nobody around is found exactly, by a search of its own. Knots share no
member, so what they cost adds up with the fewest hops of the rest. For five members of whom 1 and
3 keep each other waiting, so that they go together in one step:

    fewest   [{0: 1, 1: 0}, …]     the fewest hops from each place of each member
    knots    [Knot((1, 3))]        costs (1, 2) from (0, 0): combined, hops

    of((0, 0, 0, 0, 0)) == (1, 5)

Pattern databases with disjoint patterns: see Korf and Felner, "Disjoint pattern database
heuristics" (2002); here the patterns are looked for on demand.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Protocol

from windbreak.core.ordering.steps import State, Steps
from windbreak.core.ordering.stops import Row
from windbreak.core.solver.graphs import strongly_connected

Cost = tuple[int, int]  # combined, hops


class Alone(Protocol):
    """Some members' own search, with nobody around them."""

    @property
    def cost(self) -> Cost | None:
        """What their whole way costs; None where there is none."""

    def left(self, state: State) -> Cost | None:
        """What is left from a state of theirs; None where there is no way."""


@dataclass(frozen=True, slots=True)
class Knot:
    """Members that cost more together than each by itself."""

    places: tuple[int, ...]
    alone: Alone
    cost: Cost


class Bound:
    """The bound for one group; ``alone`` gives the search of some of its members."""

    def __init__(self, steps: Steps, alone: Callable[[tuple[int, ...]], Alone]) -> None:
        self.steps = steps
        self.fewest = steps.fewest
        self.alone = alone
        self.knots: list[Knot] = []
        self.dead: tuple[int, ...] | None = None  # members that have no way by themselves
        self._tried: set[tuple[int, ...]] = set()

    def of(self, state: State) -> Cost | None:
        """What is left from a state at least; None where there is no way."""
        combined = hopped = 0
        for knot in self.knots:
            rest = knot.alone.left(tuple([state[n] for n in knot.places]))
            if rest is None:
                return None
            combined += rest[0]
            hopped += rest[1]
            for n in knot.places:
                hopped -= self.fewest[n][state[n]]
        return combined, hopped + sum(map(dict.__getitem__, self.fewest, state))

    def tie(self, members: Iterable[int]) -> bool:
        """Look at some members with nobody around them; False where they have no way even then.

        They become a knot if they cost more than the knots among them and the fewest hops.
        """
        places = tuple(sorted(members))
        if places in self._tried:
            return True
        self._tried.add(places)
        alone = self.alone(places)
        cost = alone.cost
        if cost is None:
            self.dead = places
            return False
        inside = [knot for knot in self.knots if set(knot.places) <= set(places)]
        others = [knot for knot in self.knots if knot not in inside]
        if any(set(places) & set(knot.places) for knot in others):
            return True
        knotted = {n for knot in inside for n in knot.places}
        combined = sum(knot.cost[0] for knot in inside)
        hopped = sum(knot.cost[1] for knot in inside)
        hopped += sum(self.fewest[n][0] for n in places if n not in knotted)
        if cost > (combined, hopped):
            self.knots = [*others, Knot(places, alone, cost)]
        return True

    def tie_nearby(self, size: int) -> bool:
        """Look for knots of a size around what is tied; False where somebody has no way."""
        neighbours = self.steps.neighbours
        if size <= 3:
            seeds = {frozenset((n, m)) for n, near in enumerate(neighbours) for m in near}
        else:
            seeds = {frozenset(knot.places) for knot in self.knots}
        for seed in sorted(seeds, key=sorted):
            for n in sorted(set[int]().union(*[neighbours[m] for m in seed]) - seed):
                if not self.tie(seed | {n}):
                    return False
        return True


def rings(steps: Steps) -> list[list[int]]:
    """The members in rings of who has to wait for whom, each going a shortest way of its own."""
    if len(steps.everybody) == 1:
        return []
    chains = [_chain(steps, n) for n in steps.everybody]
    waits: dict[int, list[int]] = {n: [] for n in steps.everybody}
    for n, row in enumerate(steps.near):
        for near in row:
            if not near.broken and not _can_follow(near.row, chains[n], chains[near.other]):
                waits[n].append(near.other)
    for arrival in steps.stops.arrivals:
        if arrival.place in chains[arrival.plugin] and len(arrival.themes) == 1:
            theme, mask = arrival.themes[0]
            if not mask & 1:
                waits[arrival.plugin].append(theme)
            if not mask >> steps.target[theme] & 1:
                waits[theme].append(arrival.plugin)
    return [ring for ring in strongly_connected(waits) if len(ring) > 1]


def _chain(steps: Steps, n: int) -> list[int]:
    """A shortest way of one member by itself, both ends included."""
    fewest = steps.fewest[n]
    chain = [0]
    while chain[-1] != steps.target[n]:
        left = fewest[chain[-1]] - 1
        chain.append(next(j for j in steps.hops[n][chain[-1]] if fewest.get(j) == left))
    return chain


def _can_follow(row: Row, first: Sequence[int], second: Sequence[int]) -> bool:
    """Whether one member can go all its way, and another all of its own after it."""
    ends = row[first[-1]]
    return all([row[i] & 1 for i in first]) and all([ends >> j & 1 for j in second])
