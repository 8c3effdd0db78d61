"""The order of the moves: from today's versions to the chosen ones, in steps.

Source of the rules: docs/reasoning.md, "The order of the moves". Exact: no order has fewer
combined members, and among those none has fewer steps. The members that move are split into
groups that nothing joins; each group is searched by A* over its states, and the groups' steps
are interleaved by the house's habit. What a step says of itself is made last, in explain.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.candidates import Way
from windbreak.core.constraints import NOBODY, Problem
from windbreak.core.resolve import Resolution, best
from windbreak.core.versions import Version, parse_range

State = tuple[int, ...]  # an option of each member of a group
Hop = tuple[int, int]  # place in the group, option it goes to
Cost = tuple[int, int]  # combined, hops


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


@dataclass(frozen=True)
class Order:
    """The ordered steps to ``resolution.choice``.

    ``wanted`` is the best choice; it differs from the resolution's where no order leads to it,
    and ``stuck`` then numbers the members left out.
    """

    resolution: Resolution
    steps: tuple[Step, ...]
    wanted: tuple[int, ...]

    @property
    def combined(self) -> int:
        return sum(len(step.moves) - 1 for step in self.steps)

    @cached_property
    def stuck(self) -> tuple[int, ...]:
        pairs = zip(self.resolution.choice, self.wanted, strict=True)
        return tuple(v for v, (reached, wanted) in enumerate(pairs) if reached != wanted)


def order(resolution: Resolution) -> Order:
    """Put the moves of a resolution in the cheapest order.

    Where none leads to the best choice, the plan goes to the best choice that has one.
    """
    problem = resolution.problem
    forbidden: list[dict[int, int]] = []
    choice = resolution.choice
    while True:
        searches = [_GroupSearch(resolution, choice, group) for group in _groups(problem, choice)]
        dead = [search for search in searches if search.cost is None]
        if not dead:
            reached = Resolution(resolution.case, problem, choice)
            return Order(reached, tuple(_interleave(reached, searches)), resolution.choice)
        # What the group can't reach depends on the targets of its own members and on nobody else:
        # whatever stays put around it stands still either way.
        for search in dead:
            around = search.joined
            forbidden.append({v: choice[v] for v in around})
        found = best(resolution.case, problem, forbidden=forbidden)
        assert found is not None  # staying put needs no order
        choice = found


def _interleave(resolution: Resolution, searches: list[_GroupSearch]) -> Iterator[Step]:
    """Take, step by step, the ready step that comes first by the house's habit."""
    states = [search.start for search in searches]
    whole = resolution.problem.start
    while True:
        ready = []
        for number, search in enumerate(searches):
            step = search.next_step(states[number])
            if step is not None:
                ready.append((search.rank(step[0]), number, *step))
        if not ready:
            return
        _, number, hops, after = min(ready)
        search = searches[number]
        before = whole
        changed = list(whole)
        for place, option in hops:
            changed[search.group[place]] = option
        whole = tuple(changed)
        moves = tuple(search.move(states[number], hop) for hop in hops)
        states[number] = after
        yield Step(moves, before, whole)


def _groups(problem: Problem, choice: Sequence[int]) -> list[list[int]]:
    """The members that move, in groups that some constraint or bundle joins."""
    moving = [v for v, i in enumerate(choice) if i != problem.start[v]]
    leader = {v: v for v in moving}

    def find(v: int) -> int:
        while leader[v] != v:
            v = leader[v]
        return v

    edges = [(c.p, c.q) for c in problem.constraints]
    edges += [(r.p, theme) for r in problem.carried for theme, _ in r.themes]
    edges += [
        (a[0], b[0]) for r in problem.carried for a, b in zip(r.themes, r.themes[1:], strict=False)
    ]
    for p, q in edges:
        if p in leader and q in leader:
            leader[find(p)] = find(q)
    groups: dict[int, list[int]] = {}
    for v in moving:
        groups.setdefault(find(v), []).append(v)
    return list(groups.values())


class _GroupSearch:
    """The states of one group of members that move, and the cheapest way through them.

    A state holds, for each member of the group, the option it stands at; everybody else stands
    still. ``cost`` is None when the target can't be reached.
    """

    def __init__(self, resolution: Resolution, choice: Sequence[int], group: list[int]) -> None:
        self.resolution = resolution
        self.problem = resolution.problem
        self.group = group
        self.place = {v: n for n, v in enumerate(group)}
        self.start: State = tuple(self.problem.start[v] for v in group)
        self.target: State = tuple(choice[v] for v in group)
        self.standing = list(self.problem.start)
        self.checks = self._checks()
        self.carried = {
            (self.place[r.p], r.i): r.themes for r in self.problem.carried if r.p in self.place
        }
        self.hops = [self._hops_of(n) for n in range(len(group))]
        self.fewest = [self._fewest_hops(n) for n in range(len(group))]
        self._sides: dict[int, list[tuple[int, int, tuple[int, ...]]]] = {}
        self._violations: dict[State, frozenset[int]] = {}
        self._steps: dict[tuple[State, int], list[tuple[tuple[Hop, ...], State]]] = {}
        self._left: dict[State, Cost | None] = {self.target: (0, 0)}
        self.cost = self.left(self.start)

    @cached_property
    def joined(self) -> list[int]:
        """The members whose options decide what this group can reach."""
        found = set(self.group)
        for n in self.checks:
            c = self.problem.constraints[n]
            found |= {c.p} | ({c.q} if c.q != NOBODY else set())
        for themes in self.carried.values():
            found |= {theme for theme, _ in themes}
        return sorted(found)

    def _checks(self) -> list[int]:
        """The constraints that some member of the group takes part in."""
        return [
            n
            for n, c in enumerate(self.problem.constraints)
            if c.p in self.place or c.q in self.place
        ]

    def _hops_of(self, n: int) -> dict[int, list[int]]:
        """For each option a member may stand at, the options one hop above it, highest first."""
        v = self.group[n]
        options, start, end = self.problem.options[v], self.start[n], self.target[n]
        if self.problem.members[v].addition:
            return {start: [end]}
        found: dict[int, list[int]] = {}
        for i in range(start, end):
            here = options[i].version
            assert here is not None  # only an addition can be absent
            found[i] = [
                j
                for j in range(end, i, -1)
                if (release := options[j].release) and here in parse_range(release.from_)
            ]
        return found

    def _fewest_hops(self, n: int) -> dict[int, int]:
        """The least hops from each option to the target; missing where there is no way."""
        found = {self.target[n]: 0}
        for i in sorted(self.hops[n], reverse=True):
            ways = [found[j] + 1 for j in self.hops[n][i] if j in found]
            if ways:
                found[i] = min(ways)
        return found

    def violations(self, state: State) -> frozenset[int]:
        known = self._violations.get(state)
        if known is None:
            whole = self.standing
            for v, option in zip(self.group, state, strict=True):
                whole[v] = option
            constraints = self.problem.constraints
            known = frozenset(n for n in self.checks if not constraints[n].holds(whole))
            self._violations[state] = known
        return known

    def _uncarried(self, state: State, hops: Sequence[Hop]) -> int | None:
        """The place of a hop that comes only by bundle while no theme in place carries it."""
        for place, option in hops:
            themes = self.carried.get((place, option))
            if themes is None:
                continue
            if not any(mask >> self._at(theme, state) & 1 for theme, mask in themes):
                return place
        return None

    def _at(self, v: int, state: State) -> int:
        return state[self.place[v]] if v in self.place else self.problem.start[v]

    def steps(self, state: State, most: int) -> list[tuple[tuple[Hop, ...], State]]:
        """Every step from a state, of ``most`` hops at the most, that adds no violation and can't
        be split in two.

        A set of hops grows from each single one. While it adds a violation, or comes by a bundle
        that nobody carries, somebody who takes part in that must hop too; while it repairs one,
        somebody who takes part may hop too, since what is repaired may not be broken again later.
        """
        known = self._steps.get((state, most))
        if known is not None:
            return known
        before = self.violations(state)
        found: dict[frozenset[Hop], State] = {}
        seen: set[frozenset[Hop]] = set()
        waiting = [frozenset([(n, j)]) for n in range(len(state)) for j in self._useful(n, state)]
        while waiting:
            hops = waiting.pop()
            if hops in seen:
                continue
            seen.add(hops)
            after = list(state)
            for place, option in hops:
                after[place] = option
            here = tuple(after)
            moved = {place for place, _ in hops}
            bare = self._uncarried(here, sorted(hops))
            added = self.violations(here) - before
            partners: set[int] = set()
            if bare is not None:
                hop = next((p, o) for p, o in hops if p == bare)
                partners = {self.place[t] for t, _ in self.carried[hop] if t in self.place}
            elif added:
                partners = self._partners([min(added)])
            else:
                found[hops] = here
                partners = self._partners(before - self.violations(here))
            for n in partners - moved if len(hops) < most else ():
                waiting.extend(hops | {(n, j)} for j in self._useful(n, state))
        result = [(tuple(sorted(hops)), after) for hops, after in found.items()]
        result.sort()
        self._steps[state, most] = result
        return result

    def _partners(self, constraints: Sequence[int] | frozenset[int]) -> set[int]:
        ends = {v for n in constraints for v in self._ends(n)}
        return {self.place[v] for v in ends if v in self.place}

    def _ends(self, n: int) -> tuple[int, int]:
        return self.problem.constraints[n].p, self.problem.constraints[n].q

    def _useful(self, n: int, state: State) -> list[int]:
        """The hops of a member from where it stands, those only that can still reach its target."""
        return [j for j in self.hops[n].get(state[n], ()) if j in self.fewest[n]]

    def left(self, state: State) -> Cost | None:
        """The cheapest cost from a state to the target, None where there is no way.

        A* over (combined, hops): a step of k hops counts k - 1 as combined, so the steps are the
        hops less the combined, and where combined is least, fewest hops means fewest steps. The
        hope is that nothing need be combined and that each member takes its fewest hops; it is
        never too high. Among equals the state nearest the target is looked at first.
        """
        if state in self._left:
            return self._left[state]
        if any(i not in self.fewest[n] for n, i in enumerate(state)):
            self._left[state] = None
            return None
        spent: dict[State, Cost] = {state: (0, 0)}
        parent: dict[State, State] = {}
        togo = self._togo(state)
        # Steps of one hop are tried first; a state comes up again for those of two hops only
        # when nothing cheaper is left, and so on.
        heap = [((0, togo), togo, 1, state, (0, 0))]
        while heap:
            (combined, hoped), togo, size, here, cost = heapq.heappop(heap)
            if cost != spent[here]:
                continue  # a cheaper way to this state was found since
            rest = self._left.get(here)
            if rest is not None:
                return self._reached(state, here, rest, spent, parent)
            if size < len(state):
                heapq.heappush(heap, ((combined + 1, hoped), togo, size + 1, here, cost))
            combined, hopped = cost
            for hops, after in self._worth_trying(here, size):
                if len(hops) != size:
                    continue
                cost = (combined + len(hops) - 1, hopped + len(hops))
                if after not in spent or cost < spent[after]:
                    if after in self._left and self._left[after] is None:
                        continue
                    spent[after] = cost
                    parent[after] = here
                    known = self._left.get(after)
                    nearer = known[1] if known else self._togo(after)
                    hope = (cost[0] + (known[0] if known else 0), cost[1] + nearer)
                    heapq.heappush(heap, (hope, nearer, 1, after, cost))
        for here in spent:
            self._left[here] = None
        return None

    def _worth_trying(self, state: State, size: int) -> list[tuple[tuple[Hop, ...], State]]:
        """The steps from a state that a cheapest way can do with; the others need no look.

        A hop to a target that stands at least all that what it leaves would stand is made at
        once: any way from here can be changed to begin with it. A member that stands, where it
        is, all that its neighbours may still become, and may hop when they have, waits for the
        rest likewise.
        """
        moving = [n for n, i in enumerate(state) if i != self.target[n]]
        for n in moving:
            high = self.hops[n][state[n]][0] if self.hops[n].get(state[n]) else state[n]
            passed = set(range(state[n], high))
            if (
                high in self.fewest[n]
                and self._leads_on(n, passed, high)
                and self._stands(n, state, high, passed)
            ):
                after = (*state[:n], high, *state[n + 1 :])
                hop = ((n, high),)
                if self._uncarried(after, hop) is None and not (
                    self.violations(after) - self.violations(state)
                ):
                    return [(hop, after)]
        direct = [n for n in moving if self.fewest[n][state[n]] == 1]
        later = set()
        for n in direct:
            above = set(range(state[n] + 1, self.target[n] + 1))
            if self._stands(n, state, state[n], above) and self._may_end(n, state):
                later.add(n)
        steps = self.steps(state, size)
        if len(later) < len(moving):
            steps = [step for step in steps if not any(n in later for n, _ in step[0])]
        idle = {hop for hops, _ in steps for hop in hops if self._idle(state, *hop)}
        return [step for step in steps if idle.isdisjoint(step[0])]

    def _leads_on(self, n: int, passed: set[int], option: int) -> bool:
        """Whether an option allows each hop beyond it that those passed over allow."""
        beyond = {j for i in passed for j in self.hops[n].get(i, ()) if j > option}
        return beyond <= set(self.hops[n].get(option, ()))

    def _idle(self, state: State, n: int, option: int) -> bool:
        """Whether a waypoint gains nothing over staying: it stands no more and leads no further."""
        here = state[n]
        if option == self.target[n] or self.fewest[n][option] < self.fewest[n][here]:
            return False
        if not self._leads_on(n, {option}, here):
            return False
        return self._stands(n, state, here, {option})

    def _near(self, n: int) -> list[tuple[int, int, tuple[int, ...]]]:
        """The constraints of a member: number, the other member, what fits from its side."""
        found = self._sides.get(n)
        if found is None:
            found = []
            v = self.group[n]
            for number in self.checks:
                c = self.problem.constraints[number]
                if c.p == v:
                    found.append((number, c.q, c.fits))
                elif c.q == v:
                    width = range(len(self.problem.options[v]))
                    turned = tuple(
                        sum(1 << i for i, fit in enumerate(c.fits) if fit >> j & 1) for j in width
                    )
                    found.append((number, c.p, turned))
            self._sides[n] = found
        return found

    def _open(self, q: int, state: State) -> int:
        """The options a member may still stand at, as bits."""
        if q == NOBODY:
            return 1
        if q not in self.place:
            return 1 << self.problem.start[q]
        n = self.place[q]
        return (1 << self.target[n] + 1) - (1 << state[n])

    def _stands(self, n: int, state: State, option: int, others: set[int]) -> bool:
        """Whether a member at an option stands all that it would at any of the others."""
        violated = self.violations(state)
        for number, q, fits in self._near(n):
            open_ = self._open(q, state)
            own = fits[option] & open_
            if number in violated:
                if own and own != open_:
                    return False
            elif any(fits[i] & open_ & ~own for i in others):
                return False
        v = self.group[n]
        for (place, i), themes in self.carried.items():
            if state[place] >= i or i > self.target[place] or place == n:
                continue
            for theme, mask in themes:
                if theme == v and not mask >> option & 1 and any(mask >> i & 1 for i in others):
                    return False
        return True

    def _may_end(self, n: int, state: State) -> bool:
        """Whether the hop to the target adds nothing, neighbours here or at their targets."""
        target = self.target[n]
        if (n, target) in self.carried:
            return False
        for _, q, fits in self._near(n):
            ends = [0 if q == NOBODY else self._at(q, state)]
            if q in self.place:
                ends.append(self.target[self.place[q]])
            for end in ends:
                if fits[state[n]] >> end & 1 and not fits[target] >> end & 1:
                    return False
        return True

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
            here = parent[here]
            self._left[here] = (total[0] - spent[here][0], total[1] - spent[here][1])
        return total

    def _togo(self, state: State) -> int:
        return sum(self.fewest[n][i] for n, i in enumerate(state))

    def next_step(self, state: State) -> tuple[tuple[Hop, ...], State] | None:
        """The first step, by the house's habit, on a cheapest way; None at the target."""
        if state == self.target:
            return None
        here = self.left(state)
        assert here is not None  # only states with a way to the target are asked
        most = here[0] + 1
        for hops, after in sorted(self.steps(state, most), key=lambda step: self.rank(step[0])):
            rest = self.left(after)
            if rest is not None and (rest[0] + len(hops) - 1, rest[1] + len(hops)) == here:
                return hops, after
        raise AssertionError("a state with a way to the target has a first step on it")

    def rank(self, hops: Sequence[Hop]) -> tuple[tuple[int, str, int], ...]:
        """The place of a step in the house's habit: by kind, then by product id, higher first."""
        habit = self.resolution.case.policy.order
        found = []
        for place, option in hops:
            product = self.problem.members[self.group[place]].product
            kind = self.resolution.case.product[product].kind
            index = habit.index(kind) if kind in habit else len(habit)
            found.append((index, product, -option))
        return tuple(sorted(found))

    def move(self, state: State, hop: Hop) -> Move:
        place, option = hop
        v = self.group[place]
        options = self.problem.options[v]
        end = options[option]
        assert end.version is not None  # nothing moves to being absent
        return Move(
            v,
            self.problem.members[v].product,
            options[state[place]].version,
            end.version,
            end.ways[0] if end.ways else None,
        )
