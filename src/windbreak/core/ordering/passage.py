"""The cheapest way of some members from where they stand to their targets, others standing still.

Source of the rules: docs/reasoning.md, "The order of the moves". A joint-path search: a state holds
the place of each member among its stops (see stops), steps lead from one to the next (see steps),
and A* goes over (combined, hops) by the bound of ``bounds``:

    spent    {state: cost so far}
    heap     (hope, left at least, size of steps to try, state, cost so far)
    onward   {state: the next one on a cheapest way}, for each state whose rest is known

(1) Members that wait for each other in rings are knots of the bound from the beginning.
(2) From the state of least hope: hops that can't hurt are made at once, then the steps of one hop;
    it comes up again for those of two when nothing cheaper is left, and so on. A step that leaves
    the hope as it was is gone on from at once, and the others of its state wait: nothing can be
    cheaper (partial expansion; see Yoshizumi, Miura and Ishida, 2000).
(3) Where that takes long, the bound is too low: some knot is missing. Members near each other are
    tried in threes, and knots grow by a neighbour, for one that costs more or has no way at all.
"""

from __future__ import annotations

import heapq
from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.ordering.bounds import Bound, Cost, rings
from windbreak.core.ordering.steps import Hop, Hops, State, Step, Steps
from windbreak.core.ordering.stops import SearchTooLong, Stops
from windbreak.core.resolution.problem import Problem


@dataclass(slots=True)
class Allowance:
    """How many states may still be looked at; shared by a passage and its knots."""

    states: int

    def spend(self) -> None:
        """Raise SearchTooLong when nothing is left."""
        if self.states <= 0:
            raise SearchTooLong
        self.states -= 1


class Passage:
    """One group of members that move, and the cheapest way for them.

    ``target`` is an option for every member; who is not of the group stays where it stands today.
    With ``alone`` the others don't count at all. ``stops`` may be given where they are known.
    Members that go ``straight`` stop nowhere on their way, if one hop leads to their target.
    """

    def __init__(
        self,
        problem: Problem,
        target: Sequence[int],
        group: Sequence[int],
        *,
        alone: bool = False,
        stops: Sequence[Sequence[int]] | None = None,
        straight: Container[int] = (),
        allowance: Allowance | None = None,
    ) -> None:
        self.problem = problem
        self.aim = target
        self.group = list(group)
        self.allowance = allowance or Allowance(1 << 62)
        self.stops = Stops(problem, target, self.group, alone=alone, stops=stops, straight=straight)
        self.steps = Steps(self.stops)
        self.bound = Bound(self.steps, self._alone)
        self.start: State = (0,) * len(self.group)
        self.target = self.steps.target
        self.furthest = self.start  # where no way leads on, the state nearest the target
        self._left: dict[State, Cost | None] = {self.target: (0, 0)}
        self._onward: dict[State, State] = {}
        if self.stops.at_once:
            self._left[self.start], self._onward[self.start] = (0, 1), self.target

    def option(self, n: int, place: int) -> int:
        """The option that a place of a member stands for."""
        return self.stops.stops[n][place]

    @cached_property
    def cost(self) -> Cost | None:
        """What the whole way costs; None when the target can't be reached."""
        if not self.walkable:
            return None
        for ring in self.rings if len(self.group) > 2 else ():
            if len(ring) < len(self.group) and not self.bound.tie(ring):
                return None
        return self.left(self.start)

    @property
    def walkable(self) -> bool:
        """Whether everybody's hops lead to the target, whatever the others do."""
        return all(0 in fewest for fewest in self.steps.fewest)

    @cached_property
    def rings(self) -> list[list[int]]:
        """The places of members that wait for each other."""
        return rings(self.steps)

    @property
    def least(self) -> bool:
        """Whether it costs what its bound says, so that more stops could not make it cheaper."""
        return self.cost is not None and self.cost == self.bound.of(self.start)

    @property
    def short(self) -> list[int]:
        """Where there is no way: members that are kept from their targets."""
        if self.bound.dead is not None:
            return [self.group[n] for n in self.bound.dead]
        lost = [v for v, f in zip(self.group, self.steps.fewest, strict=True) if 0 not in f]
        ends = zip(self.group, self.furthest, self.target, strict=True)
        return lost or [v for v, place, end in ends if place != end]

    def _alone(self, places: tuple[int, ...]) -> Passage:
        """Some members with nobody around them, at the stops that others leave."""
        return Passage(
            self.problem,
            self.aim,
            [self.group[n] for n in places],
            alone=True,
            stops=[self.stops.stops[n] for n in places],
            allowance=self.allowance,
        )

    # The search

    def left(self, state: State) -> Cost | None:
        """The cheapest cost from a state to the target, None where there is no way."""
        if state not in self._left:
            self._left[state] = self._cheapest(state, None)
        return self._left[state]

    def costs(self, state: State, cost: Cost) -> bool:
        """Whether the cheapest cost from a state is this one, which it can't be below."""
        if state in self._left:
            return self._left[state] == cost
        bound = self.bound.of(state)
        if bound is None or bound > cost:
            return False
        return self._cheapest(state, cost) == cost

    def _cheapest(self, state: State, limit: Cost | None) -> Cost | None:
        """The cost of the cheapest way, None where there is none, or none within the limit."""
        size = 3
        patience = 40 + 4 * len(self.group)
        while True:
            try:
                return self._search(state, limit, patience)
            except _Impatient:
                if size <= len(self.group) // 2 + 1:
                    if not self.bound.tie_nearby(size):
                        return None
                    size += 1
                patience *= 8

    def _search(self, start: State, limit: Cost | None, patience: int) -> Cost | None:
        """A* over (combined, hops).

        A step of k hops counts k - 1 as combined, so the steps are the hops less the combined,
        and where combined is least, fewest hops means fewest steps. Among equals the state
        nearest the target is looked at first.
        """
        tree = _Tree(start)
        heap: list[tuple[Cost, int, int, State, Cost]] = []
        untried: dict[tuple[State, int], Iterator[Step]] = {}
        self._reach(tree, heap, start, (0, 0), self.steps.everybody)
        while heap:
            hope, togo, size, here, cost = heapq.heappop(heap)
            if limit is not None and hope > limit:
                return None
            if cost != tree.spent[here]:
                continue  # a cheaper way to this state was found since
            rest = self._left.get(here)
            if rest is not None:
                return self._reached(tree, here, rest)
            self.allowance.spend()
            patience -= 1
            if patience < 0:
                raise _Impatient
            combined, hopped = cost
            steps = untried.pop((here, size), None)
            if steps is None:
                steps = self.steps.worth_trying(here, size)
                if size < len(start):
                    again = (max(hope[0], combined + size), hope[1])
                    heapq.heappush(heap, (again, togo, size + 1, here, cost))
            for hops, after in steps:
                further = (combined + len(hops) - 1, hopped + len(hops))
                if after not in tree.spent or further < tree.spent[after]:
                    tree.before[after] = here
                    changed = {m for n, _ in hops for m in (n, *self.steps.neighbours[n])}
                    if self._reach(tree, heap, after, further, changed) == hope:
                        untried[here, size] = steps
                        heapq.heappush(heap, (hope, togo, size, here, cost))
                        break
        for here in tree.spent:
            self._left[here] = None
        self.furthest = min(tree.spent, key=self._togo)
        return None

    def _reach(
        self,
        tree: _Tree,
        heap: list[tuple[Cost, int, int, State, Cost]],
        state: State,
        cost: Cost,
        changed: Iterable[int],
    ) -> Cost | None:
        """Note a state that was reached, and go on from it as far as hops can't hurt; what the
        whole way costs at least by way of it, where it is to be looked at.
        """
        tree.spent[state] = cost
        for after in self.steps.glide(state, changed):
            cost = (cost[0], cost[1] + 1)
            if after in tree.spent and tree.spent[after] <= cost:
                return None
            tree.spent[after] = cost
            tree.before[after] = state
            state = after
        rest = self._left[state] if state in self._left else self.bound.of(state)
        if rest is None:
            return None
        hope = (cost[0] + rest[0], cost[1] + rest[1])
        heapq.heappush(heap, (hope, rest[1], 1, state, cost))
        return hope

    def _togo(self, state: State) -> int:
        return sum(map(dict.__getitem__, self.steps.fewest, state))

    def _reached(self, tree: _Tree, here: State, rest: Cost) -> Cost:
        """Note what is left from each state of the way that was found, back to its start."""
        spent = tree.spent
        total = (spent[here][0] + rest[0], spent[here][1] + rest[1])
        while here != tree.start:
            before = tree.before[here]
            self._onward[before] = here
            here = before
            self._left[here] = (total[0] - spent[here][0], total[1] - spent[here][1])
        return total

    # What was found

    def way(self, state: State) -> list[Hops]:
        """The steps of a cheapest way from a state whose cost is known."""
        way = []
        while state != self.target:
            after = self._onward[state]
            way.append(tuple([(n, j) for n, j in enumerate(after) if j != state[n]]))
            state = after
        return way

    def single(self, state: State, habit: Sequence[int]) -> Iterator[tuple[Hops, State]]:
        """The steps of one hop from a state, by members in the order of a habit."""
        for n in habit:
            for place in self.steps.hops[n][state[n]]:
                after = self.steps.hopped(n, place, state)
                if after is not None:
                    yield ((n, place),), after

    def may_begin(self, state: State, way: Sequence[Hops], hop: Hop) -> bool:
        """Whether a way can as well begin with a hop that it makes later, by itself."""
        n, place = hop
        here = (*state[:n], place, *state[n + 1 :])
        near = self.steps.neighbours[n]
        for hops in way:
            if hops == (hop,):
                return True
            after = list(here)
            tied = False
            for m, to in hops:
                if m == n:
                    return False
                after[m] = to
                tied = tied or m in near
            reached = tuple(after)
            # Between those that nothing ties the hop changes nothing.
            if tied and self.steps.must_join(hops, here, reached) is not None:
                return False
            here = reached
        return False


class _Tree:
    """What A* has reached: what each state cost, and the one before it."""

    def __init__(self, start: State) -> None:
        self.start = start
        self.spent: dict[State, Cost] = {}
        self.before: dict[State, State] = {}


class _Impatient(Exception):
    """A search took longer than its bound makes likely."""
