"""The way of some members from where they stand to their targets, others standing still.

Source of the rules: docs/reasoning.md, "The order of the moves". Each member has *stops*, where it
may stand on its way, the first and the last included; a *state* holds the place each member has
reached among its own. Finding the cheapest way:

(1) Stops are left out that another can stand in for whatever the others do (see stops).
(2) Members that wait for each other in a ring, and others that are found to be in each other's way,
    are *knots*: what a knot costs with nobody around it is found first, exactly. The costs of knots
    that share no member, and the fewest hops of the rest, add up to a bound.
(3) A* over (combined, hops) with that bound. Hops that can't hurt are made at once, those that can
    wait are left for the end, and waypoints that gain nothing are passed over.
(4) Where that takes long, the bound is too low: some knot is missing. Members near each other are
    tried in threes, and knots grow by a neighbour, for one that costs more or has no way at all.
"""

from __future__ import annotations

import heapq
from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.bits import bits
from windbreak.core.ordering.stops import Row, Rule, SearchTooLong, Stops
from windbreak.core.resolution.problem import Problem
from windbreak.core.solver.graphs import strongly_connected

State = tuple[int, ...]  # the place each member of a group has reached among its stops


Hop = tuple[int, int]  # member of the group, place it goes to


Cost = tuple[int, int]  # combined, hops


Hops = tuple[Hop, ...]


Step = tuple[Hops, State]  # the hops of a step, and the state after it


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
        self.number = {v: n for n, v in enumerate(self.group)}
        built = Stops(problem, target, self.group, alone=alone, stops=stops, straight=straight)
        self.stops = built.stops
        self.near = built.near
        self.rules = built.rules
        self.hops = built.hops
        self.fewest = built.fewest
        self.start: State = (0,) * len(self.group)
        self.target: State = tuple(len(stops) - 1 for stops in self.stops)
        self.arriving = {(r.plugin, r.place): r for r in self.rules}
        self.carrying: list[list[Rule]] = [[] for _ in self.group]
        for rule in self.rules:
            for theme, _ in rule.themes:
                self.carrying[theme].append(rule)
        self.knots: list[_Knot] = []
        self.dead: tuple[int, ...] | None = None  # members that have no way, whoever is around
        self._tried: set[frozenset[int]] = set()
        self._leading: dict[tuple[int, int, int], bool] = {}
        self._steps: dict[tuple[State, int], list[Step]] = {}
        self._left: dict[State, Cost | None] = {self.target: (0, 0)}
        self._onward: dict[State, State] = {}  # the next state on a cheapest way

    def option(self, n: int, place: int) -> int:
        """The option that a place of a member stands for."""
        return self.stops[n][place]

    @cached_property
    def cost(self) -> Cost | None:
        """What the whole way costs; None when the target can't be reached."""
        if not self.walkable:
            return None
        for ring in self._rings() if len(self.group) > 2 else ():
            if 1 < len(ring) < len(self.group) and not self._tie(ring):
                return None
        return self.left(self.start)

    @property
    def walkable(self) -> bool:
        """Whether everybody's hops lead to the target, whatever the others do."""
        return all(0 in fewest for fewest in self.fewest)

    def ringed(self) -> set[int]:
        """The members that wait for each other in rings."""
        return {self.group[n] for ring in self._rings() if len(ring) > 1 for n in ring}

    # Knots

    def _tie(self, places: Iterable[int]) -> bool:
        """Look at some members with nobody around them; False where they have no way even then.

        They become a knot if they cost more than the knots among them and the fewest hops.
        """
        members = frozenset(places)
        if members in self._tried:
            return True
        self._tried.add(members)
        order = sorted(members)
        group = [self.group[n] for n in order]
        stops = [self.stops[n] for n in order]
        alone = Passage(
            self.problem, self.aim, group, alone=True, stops=stops, allowance=self.allowance
        )
        if alone.cost is None:
            # The stops given were those that others leave; by itself it may have more.
            bare = Passage(self.problem, self.aim, group, alone=True, allowance=self.allowance)
            self.dead = tuple(group) if bare.cost is None else None
            return False
        inside = [knot for knot in self.knots if members.issuperset(knot.places)]
        if any(members & set(knot.places) for knot in self.knots if knot not in inside):
            return True
        knotted = {n for knot in inside for n in knot.places}
        combined = sum(knot.cost[0] for knot in inside)
        hopped = sum(knot.cost[1] for knot in inside)
        hopped += sum(self.fewest[n][0] for n in members - knotted)
        if alone.cost > (combined, hopped):
            self.knots = [knot for knot in self.knots if knot not in inside]
            self.knots.append(_Knot(tuple(order), alone, alone.cost))
        return True

    def _tie_more(self, size: int) -> bool:
        """Look for knots around what is tied already; False where somebody has no way."""
        nearby = [
            {near.other for near in self.near[n]}
            | {theme for r in self.rules if r.plugin == n for theme, _ in r.themes}
            | {r.plugin for r in self.carrying[n]}
            for n in range(len(self.group))
        ]
        if size <= 3:
            seeds = {frozenset((n, m)) for n, near in enumerate(nearby) for m in near}
        else:
            seeds = {frozenset(knot.places) for knot in self.knots}
        for seed in sorted(seeds, key=sorted):
            for n in sorted(set[int]().union(*(nearby[m] for m in seed)) - seed):
                if not self._tie(seed | {n}):
                    return False
        return True

    def _rings(self) -> list[list[int]]:
        """The members in rings of who has to wait for whom, by their shortest ways."""
        chains = [self._chain(n) for n in range(len(self.group))]
        waits: dict[int, list[int]] = {n: [] for n in range(len(self.group))}
        for n, near in enumerate(self.near):
            for one in near:
                if not one.broken and not _can_follow(one.row, chains[n], chains[one.other]):
                    waits[n].append(one.other)
        for rule in self.rules:
            if rule.place in chains[rule.plugin] and len(rule.themes) == 1:
                theme, mask = rule.themes[0]
                if not mask & 1:
                    waits[rule.plugin].append(theme)
                if not mask >> self.target[theme] & 1:
                    waits[theme].append(rule.plugin)
        return list(strongly_connected(waits))

    def _chain(self, n: int) -> list[int]:
        """A shortest way of one member by itself, both ends included."""
        found = [0]
        while found[-1] != self.target[n]:
            left = self.fewest[n][found[-1]] - 1
            found.append(next(j for j in self.hops[n][found[-1]] if self.fewest[n].get(j) == left))
        return found

    # The search

    def bound(self, state: State) -> Cost | None:
        """What is left from a state at least; None where there is no way."""
        combined = hopped = 0
        loose = 0
        for knot in self.knots:
            found = knot.alone.left(tuple([state[n] for n in knot.places]))
            if found is None:
                return None
            combined += found[0]
            hopped += found[1]
            for n in knot.places:
                loose -= self.fewest[n][state[n]]
        return combined, hopped + loose + sum(map(dict.__getitem__, self.fewest, state))

    def left(self, state: State) -> Cost | None:
        """The cheapest cost from a state to the target, None where there is no way."""
        if state not in self._left:
            self._left[state] = self._cheapest(state, None)
        return self._left[state]

    def costs(self, state: State, cost: Cost) -> bool:
        """Whether the cheapest cost from a state is this one, which it can't be below."""
        if state in self._left:
            return self._left[state] == cost
        bound = self.bound(state)
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
                    if not self._tie_more(size):
                        return None
                    size += 1
                patience *= 8

    def _search(self, state: State, limit: Cost | None, patience: int) -> Cost | None:
        """A* over (combined, hops).

        A step of k hops counts k - 1 as combined, so the steps are the hops less the combined,
        and where combined is least, fewest hops means fewest steps. Among equals the state
        nearest the target is looked at first.
        """
        bound = self.bound(state)
        if bound is None:
            return None
        spent: dict[State, Cost] = {state: (0, 0)}
        parent: dict[State, State] = {}
        # Steps of one hop are tried first; a state comes up again for those of two hops only
        # when nothing cheaper is left, and so on.
        heap = [(bound, bound[1], 1, state, (0, 0))]
        while heap:
            hope, togo, size, here, cost = heapq.heappop(heap)
            if limit is not None and hope > limit:
                return None
            if cost != spent[here]:
                continue  # a cheaper way to this state was found since
            rest = self._left.get(here)
            if rest is not None:
                return self._reached(state, here, rest, spent, parent)
            self.allowance.spend()
            patience -= 1
            if patience < 0:
                raise _Impatient
            combined, hopped = cost
            if size < len(state):
                again = (max(hope[0], combined + size), hope[1])
                heapq.heappush(heap, (again, togo, size + 1, here, cost))
            for hops, after in self._worth_trying(here, size):
                if len(hops) != size:
                    continue
                further = (combined + len(hops) - 1, hopped + len(hops))
                if after in spent and further >= spent[after]:
                    continue
                known = self._left[after] if after in self._left else self.bound(after)
                if known is None:
                    continue
                spent[after] = further
                parent[after] = here
                hope = (further[0] + known[0], further[1] + known[1])
                heapq.heappush(heap, (hope, known[1], 1, after, further))
        for here in spent:
            self._left[here] = None
        return None

    def _reached(
        self,
        state: State,
        here: State,
        rest: Cost,
        spent: dict[State, Cost],
        parent: dict[State, State],
    ) -> Cost:
        """Note what is left from each state of the way that was found, back to its start."""
        total = (spent[here][0] + rest[0], spent[here][1] + rest[1])
        while here != state:
            self._onward[parent[here]] = here
            here = parent[here]
            self._left[here] = (total[0] - spent[here][0], total[1] - spent[here][1])
        return total

    def way(self, state: State) -> list[Hops]:
        """The steps of a cheapest way from a state whose cost is known."""
        found = []
        while state != self.target:
            after = self._onward[state]
            found.append(tuple((n, j) for n, j in enumerate(after) if j != state[n]))
            state = after
        return found

    def may_begin(self, state: State, way: Sequence[Hops], hop: Hop) -> bool:
        """Whether a way can as well begin with a hop that it makes later, by itself."""
        n, place = hop
        here = (*state[:n], place, *state[n + 1 :])
        for hops in way:
            if hops == (hop,):
                return True
            after = list(here)
            for m, to in hops:
                if m == n:
                    return False
                after[m] = to
            if self._must_join(hops, here, tuple(after)) is not None:
                return False
            here = tuple(after)
        return False

    # Steps

    def steps(self, state: State, most: int) -> list[Step]:
        """Every step from a state, of ``most`` hops at the most, that adds no violation and can't
        be split in two.

        A set of hops grows from each single one. While it adds a violation, or comes by a bundle
        that nobody carries, somebody who takes part in that must hop too; while it repairs one,
        somebody who takes part may hop too, since what is repaired may not be broken again later.
        """
        known = self._steps.get((state, most))
        if known is not None:
            return known
        found: list[Step]
        if most == 1:
            found = [
                (((n, j),), after)
                for n in range(len(state))
                for j in self.hops[n][state[n]]
                if (after := self.hopped(n, j, state)) is not None
            ]
        else:
            found = sorted(self._joint(state, most))
        self._steps[state, most] = found
        return found

    def hopped(self, n: int, place: int, state: State) -> State | None:
        """The state after one hop; None where it adds a violation or nobody carries it."""
        here = state[n]
        for near in self.near[n]:
            at = state[near.other]
            if not near.row[place] >> at & 1 and (not near.broken or near.row[here] >> at & 1):
                return None
        rule = self.arriving.get((n, place))
        if rule is not None and not any(mask >> state[t] & 1 for t, mask in rule.themes):
            return None
        return (*state[:n], place, *state[n + 1 :])

    def _joint(self, state: State, most: int) -> Iterator[Step]:
        seen: set[frozenset[Hop]] = set()
        waiting = [frozenset([(n, j)]) for n in range(len(state)) for j in self.hops[n][state[n]]]
        while waiting:
            hops = waiting.pop()
            if hops in seen:
                continue
            seen.add(hops)
            after = list(state)
            for n, place in hops:
                after[n] = place
            here = tuple(after)
            moved = {n for n, _ in hops}
            partners = self._must_join(hops, state, here)
            if partners is None:
                yield tuple(sorted(hops)), here
                partners = self._may_join(moved, state, here)
            if len(hops) < most:
                for n in partners - moved:
                    waiting.extend(hops | {(n, j)} for j in self.hops[n][state[n]])

    def _must_join(self, hops: Iterable[Hop], state: State, after: State) -> set[int] | None:
        """Somebody of whom one must hop too; None where the step can be made as it is."""
        ordered = sorted(hops)
        for hop in ordered:
            rule = self.arriving.get(hop)
            if rule is not None and not any(mask >> after[t] & 1 for t, mask in rule.themes):
                return {t for t, _ in rule.themes}
        for n, _ in ordered:
            for near in self.near[n]:
                m = near.other
                if not near.row[after[n]] >> after[m] & 1 and (
                    not near.broken or near.row[state[n]] >> state[m] & 1
                ):
                    return {n, m}
        return None

    def _may_join(self, moved: Iterable[int], state: State, after: State) -> set[int]:
        """Who takes part in what a step repairs."""
        return {
            near.other
            for n in moved
            for near in self.near[n]
            if near.broken
            and near.row[after[n]] >> after[near.other] & 1
            and not near.row[state[n]] >> state[near.other] & 1
        }

    def _worth_trying(self, state: State, size: int) -> list[Step]:
        """The steps from a state that a cheapest way can do with; the others need no look.

        A hop that can't hurt is made at once: any way from here can be changed to begin with it.
        A member that stands, where it is, all that its neighbours may still become, and may hop
        when they have, waits for the rest likewise.
        """
        moving = [n for n, place in enumerate(state) if place != self.target[n]]
        for n in moving:
            hop = self._harmless(n, state)
            if hop is not None and (after := self.hopped(n, hop, state)) is not None:
                return [(((n, hop),), after)] if size == 1 else []
        later = {n for n in moving if self._may_wait(n, state)}
        steps = self.steps(state, size)
        if len(later) < len(moving):
            steps = [step for step in steps if not any(n in later for n, _ in step[0])]
        idle = {hop for hops, _ in steps for hop in hops if self._idle(state, *hop)}
        return [step for step in steps if idle.isdisjoint(step[0])] if idle else steps

    def _harmless(self, n: int, state: State) -> int | None:
        """The highest hop of a member, if it stands all there that it would at what it passes."""
        here = state[n]
        high = self.hops[n][here][0]
        passed = (1 << high) - (1 << here)
        if not self._leads_on(n, passed, high) or not self._stands(n, state, high, passed):
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
        for near in self.near[n]:
            for at in (state[near.other], self.target[near.other]):
                if near.row[here] >> at & 1 and not near.row[end] >> at & 1:
                    return False
        return True

    def _leads_on(self, n: int, passed: int, place: int) -> bool:
        """Whether a place allows each hop beyond it that those passed over allow."""
        known = self._leading.get((n, passed, place))
        if known is None:
            own = self.hops[n][place]
            known = all(j <= place or j in own for i in bits(passed) for j in self.hops[n][i])
            self._leading[n, passed, place] = known
        return known

    def _idle(self, state: State, n: int, place: int) -> bool:
        """Whether a waypoint gains nothing over staying: it stands no more and leads no further."""
        here = state[n]
        if place == self.target[n] or self.fewest[n][place] < self.fewest[n][here]:
            return False
        return self._leads_on(n, 1 << place, here) and self._stands(n, state, here, 1 << place)

    def _stands(self, n: int, state: State, place: int, others: int) -> bool:
        """Whether a member at a place stands all that it would at any of the others."""
        for near in self.near[n]:
            m, row = near.other, near.row
            open_ = (1 << self.target[m] + 1) - (1 << state[m])
            own = row[place] & open_
            if near.broken and not row[state[n]] >> state[m] & 1:
                if own and own != open_:
                    return False
            elif own != open_ and near.any_of(others) & open_ & ~own:
                return False
        for rule in self.carrying[n]:
            if state[rule.plugin] >= rule.place:
                continue
            for theme, mask in rule.themes:
                if theme == n and not mask >> place & 1 and mask & others:
                    return False
        return True


class _Impatient(Exception):
    """A search took longer than its bound makes likely."""


@dataclass(frozen=True, slots=True)
class _Knot:
    """Members that cost more together than each by itself. ``alone`` is their own passage."""

    places: tuple[int, ...]
    alone: Passage
    cost: Cost


def _can_follow(row: Row, first: Sequence[int], second: Sequence[int]) -> bool:
    """Whether one member can go all its way, and another all of its own after it."""
    ways = [row[i] & 1 for i in first]
    ways += [row[first[-1]] >> j & 1 for j in second]
    return all(ways)
