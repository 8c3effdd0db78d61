"""The way of some members from where they stand to their targets, others standing still.

Source of the rules: docs/reasoning.md, "The order of the moves". A *state* holds the option each
member of the group stands at. Finding the cheapest way:

(1) Where the members fall into parts such that one part can be all done before the next is
    begun, each part is searched alone. If none of them then costs more than it would with
    nobody around it, the sum is the least there can be.
(2) Otherwise A* over (combined, hops). Steps of one hop come first; those of several only when
    nothing cheaper is left. Hops that can't hurt are made at once, those that can wait are left
    for the end, and waypoints that gain nothing are passed over.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.candidates import hops as hops_to
from windbreak.core.catalogue import bits
from windbreak.core.constraints import NOBODY, Problem

State = tuple[int, ...]  # an option of each member of a group
Hop = tuple[int, int]  # place in the group, option it goes to
Cost = tuple[int, int]  # combined, hops
Step = tuple[tuple[Hop, ...], State]  # the hops of a step, and the state after it


class SearchTooLong(Exception):
    """More states were looked at than allowed; nothing is known of the way."""


@dataclass(slots=True)
class Allowance:
    """How many states may still be looked at; shared by a passage and its parts."""

    states: int

    def spend(self) -> None:
        """Raise SearchTooLong when nothing is left."""
        if self.states <= 0:
            raise SearchTooLong
        self.states -= 1


@dataclass(frozen=True, slots=True)
class _Dead:
    """Members that can't reach their targets even with nobody around them."""

    members: tuple[int, ...]


class Passage:
    """The states of one group of members that move, and the cheapest way through them.

    ``standing`` is an option for every member of the problem: the group starts there, and who is
    not of the group stays there. With ``alone`` the others don't count at all.
    """

    def __init__(
        self,
        problem: Problem,
        target: Sequence[int],
        group: Sequence[int],
        standing: Sequence[int],
        *,
        alone: bool = False,
        allowance: Allowance | None = None,
    ) -> None:
        self.problem = problem
        self.allowance = allowance
        self.goal = target
        self.group = list(group)
        self.place = {v: n for n, v in enumerate(group)}
        self.start: State = tuple(standing[v] for v in group)
        self.target: State = tuple(target[v] for v in group)
        self.standing = list(standing)
        self.checks = self._checks(alone=alone)
        self.carried = {
            (self.place[r.p], r.i): r.themes
            for r in problem.carried
            if r.p in self.place and not (alone and any(t not in self.place for t, _ in r.themes))
        }
        self.hops = [self._hops_of(n) for n in range(len(group))]
        self.fewest = [self._fewest_hops(n) for n in range(len(group))]
        self._sides: dict[int, list[tuple[int, int, tuple[int, ...]]]] = {}
        self._violations: dict[State, frozenset[int]] = {}
        self._steps: dict[tuple[State, int], list[Step]] = {}
        self._costs_alone: dict[tuple[tuple[int, ...], State], Cost | None] = {}
        self._amid_known: dict[tuple[tuple[int, ...], State], bool] = {}
        self._left: dict[State, Cost | None] = {self.target: (0, 0)}
        self.blamed: tuple[int, ...] | None = None

    @cached_property
    def cost(self) -> Cost | None:
        """What the whole way costs; None when the target can't be reached."""
        return self.left(self.start)

    @cached_property
    def joined(self) -> list[int]:
        """The members whose targets keep this group from its own, where it can't reach it."""
        if self.blamed is not None:
            return list(self.blamed)
        found = set(self.group)
        for n in self.checks:
            c = self.problem.constraints[n]
            found |= {c.p} | ({c.q} if c.q != NOBODY else set())
        for themes in self.carried.values():
            found |= {theme for theme, _ in themes}
        return sorted(found)

    def _checks(self, *, alone: bool) -> list[int]:
        """The constraints that some member of the group takes part in; alone: none but they."""
        wanted = all if alone else any
        return [
            n
            for n, c in enumerate(self.problem.constraints)
            if wanted(v in self.place for v in (c.p, c.q) if v != NOBODY)
        ]

    def _hops_of(self, n: int) -> dict[int, list[int]]:
        """For each option a member may stand at, the options one hop above it, highest first."""
        member = self.problem.members[self.group[n]]
        start, end = self.start[n], self.target[n]
        if member.addition:
            return {start: [end]}
        found: dict[int, list[int]] = {i: [] for i in bits(member.candidates) if start <= i < end}
        for j in reversed(list(bits(member.candidates))):
            if start < j <= end:
                for i in bits(hops_to(member, j)):
                    if i in found:
                        found[i].append(j)
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
        return state[self.place[v]] if v in self.place else self.standing[v]

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
        if most == 1:
            singles = list(self._singles(state))
            self._steps[state, 1] = singles
            return singles
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

    def _singles(self, state: State) -> Iterator[Step]:
        """The steps of one hop that add no violation; only what the hop touches is looked at."""
        before = self.violations(state)
        for n in range(len(state)):
            for option in self._useful(n, state):
                after = self._hopped(n, option, state, before)
                if after is not None:
                    yield ((n, option),), after

    def _hopped(self, n: int, option: int, state: State, before: frozenset[int]) -> State | None:
        """The state after one hop; None where it adds a violation or nobody carries it."""
        repaired = []
        for number, q, fits in self._near(n):
            if not fits[option] >> (0 if q == NOBODY else self._at(q, state)) & 1:
                if number not in before:
                    return None
            elif number in before:
                repaired.append(number)
        after = (*state[:n], option, *state[n + 1 :])
        if self._uncarried(after, ((n, option),)) is not None:
            return None
        self._violations[after] = before.difference(repaired) if repaired else before
        return after

    def _partners(self, constraints: Sequence[int] | frozenset[int]) -> set[int]:
        ends = {v for n in constraints for v in self._ends(n)}
        return {self.place[v] for v in ends if v in self.place}

    def _ends(self, n: int) -> tuple[int, int]:
        return self.problem.constraints[n].p, self.problem.constraints[n].q

    def _useful(self, n: int, state: State) -> list[int]:
        """The hops of a member from where it stands, those only that can still reach its target."""
        return [j for j in self.hops[n].get(state[n], ()) if j in self.fewest[n]]

    def left(self, state: State) -> Cost | None:
        """The cheapest cost from a state to the target, None where there is no way."""
        if state not in self._left:
            found = self._by_parts(state)
            if isinstance(found, _Dead):
                self._left[state] = None
                if state == self.start:
                    self.blamed = found.members
            else:
                self._left[state] = found or self._search(state, None)
        return self._left[state]

    def costs(self, state: State, cost: Cost) -> bool:
        """Whether the cheapest cost from a state is this one, which it can't be below."""
        if state in self._left:
            return self._left[state] == cost
        found = self._by_parts(state)
        if isinstance(found, _Dead):
            self._left[state] = None
            return False
        if found is None:
            found = self._search(state, cost) if (0, self._togo(state)) <= cost else None
        if found is not None:
            self._left[state] = found
        return found == cost

    def _search(self, state: State, limit: Cost | None) -> Cost | None:
        """A* over (combined, hops); None where there is no way, or none within the limit.

        A step of k hops counts k - 1 as combined, so the steps are the hops less the combined,
        and where combined is least, fewest hops means fewest steps. The hope is that nothing need
        be combined and that each member takes its fewest hops; it is never too high. Among equals
        the state nearest the target is looked at first.
        """
        spent: dict[State, Cost] = {state: (0, 0)}
        parent: dict[State, State] = {}
        togo = self._togo(state)
        # Steps of one hop are tried first; a state comes up again for those of two hops only
        # when nothing cheaper is left, and so on.
        heap = [((0, togo), togo, 1, state, (0, 0))]
        while heap:
            hope, togo, size, here, cost = heapq.heappop(heap)
            if limit is not None and hope > limit:
                return None
            if cost != spent[here]:
                continue  # a cheaper way to this state was found since
            rest = self._left.get(here)
            if rest is not None:
                return self._reached(state, here, rest, spent, parent)
            if self.allowance is not None:
                self.allowance.spend()
            combined, hopped = cost
            if size < len(state):
                again = (hope[0] + 1, hope[1])
                heapq.heappush(heap, (again, togo, size + 1, here, cost))
            for hops, after in self._worth_trying(here, size):
                if len(hops) != size:
                    continue
                further = (combined + len(hops) - 1, hopped + len(hops))
                if after in spent and further >= spent[after]:
                    continue
                if after in self._left and self._left[after] is None:
                    continue
                spent[after] = further
                parent[after] = here
                known = self._left.get(after)
                nearer = known[1] if known else self._togo(after)
                hope = (further[0] + (known[0] if known else 0), further[1] + nearer)
                heapq.heappush(heap, (hope, nearer, 1, after, further))
        for here in spent:
            self._left[here] = None
        return None

    def _by_parts(self, state: State) -> Cost | _Dead | None:
        """The cost where the group falls into parts that can be done one after the other.

        A part that is dearer amid the others than by itself is joined with a neighbour and tried
        again. None where only the whole is left, which then has to be searched. Where a part has
        no way even by itself, the whole has none either.
        """
        for n, i in enumerate(state):
            if i not in self.fewest[n]:
                return _Dead((self.group[n],))
        parts = self._in_turn(state)
        whole = list(self.standing)
        for v, option in zip(self.group, state, strict=True):
            whole[v] = option
        done: list[Cost] = []
        while len(parts) > 1:
            index = len(done)
            if index == len(parts):
                return sum(c for c, _ in done), sum(h for _, h in done)
            part = parts[index]
            alone = self._alone(part, whole)
            if alone is None:
                return _Dead(part)
            if self._amid(part, whole, alone):
                done.append(alone)
                for v in part:
                    whole[v] = self.goal[v]
                continue
            other = self._neighbour(parts, index, state)
            if other is None:
                return None
            # The parts between them stay in their places; the joined one stands at the later.
            first, last = min(index, other), max(index, other)
            joined = tuple(sorted((*parts[first], *parts[last])))
            parts = [*parts[:first], *parts[first + 1 : last], joined, *parts[last + 1 :]]
            for v in joined:
                whole[v] = state[self.place[v]]
            for later in parts[first:]:
                for v in later:
                    whole[v] = state[self.place[v]]
            del done[first:]
        return None

    def _neighbour(self, parts: list[tuple[int, ...]], index: int, state: State) -> int | None:
        """The part nearest to one, later ones first, that a constraint or bundle ties to it."""
        own = set(parts[index])
        tied: set[int] = set()
        for v in own:
            n = self.place[v]
            open_ = range(state[n], self.target[n] + 1)
            for _, q, fits in self._near(n):
                others = self._open(q, state)
                if q in self.place and any(others & ~fits[i] for i in open_):
                    tied.add(q)
        for (n, _), themes in self.carried.items():
            movers = {t for t, _ in themes if t in self.place}
            if self.group[n] in own:
                tied |= movers
            elif movers & own:
                tied.add(self.group[n])
        order = [*range(index + 1, len(parts)), *range(index - 1, -1, -1)]
        return next((k for k in order if tied & set(parts[k])), None)

    def _alone(self, part: tuple[int, ...], whole: Sequence[int]) -> Cost | None:
        """What a part costs with nobody around it."""
        key = (part, tuple(whole[v] for v in part))
        if key not in self._costs_alone:
            passage = Passage(
                self.problem, self.goal, part, whole, alone=True, allowance=self.allowance
            )
            self._costs_alone[key] = passage.cost
        return self._costs_alone[key]

    def _amid(self, part: tuple[int, ...], whole: Sequence[int], cost: Cost) -> bool:
        """Whether a part costs no more amid the others, as they stand."""
        key = (part, tuple(whole))
        if key not in self._amid_known:
            passage = Passage(self.problem, self.goal, part, whole, allowance=self.allowance)
            self._amid_known[key] = passage.costs(passage.start, cost)
        return self._amid_known[key]

    def _in_turn(self, state: State) -> list[tuple[int, ...]]:
        """The members that still move, in parts, those first that others have to wait for.

        Who can't go whole after another goes before it; members that wait for each other in a
        ring are one part.
        """
        moving = [n for n, i in enumerate(state) if i != self.target[n]]
        chains = {n: self._chain(n, state[n]) for n in moving}
        waits: dict[int, list[int]] = {n: [] for n in moving}
        for index, a in enumerate(moving):
            for b in moving[index + 1 :]:
                if not self._can_follow(b, a, chains, state):
                    waits[a].append(b)
                if not self._can_follow(a, b, chains, state):
                    waits[b].append(a)
        return [tuple(sorted(self.group[n] for n in ring)) for ring in _rings(waits)]

    def _chain(self, n: int, option: int) -> list[int]:
        """A shortest way of one member by itself, both ends included."""
        found = [option]
        while found[-1] != self.target[n]:
            left = self.fewest[n][found[-1]] - 1
            found.append(next(j for j in self.hops[n][found[-1]] if self.fewest[n].get(j) == left))
        return found

    def _can_follow(self, b: int, a: int, chains: dict[int, list[int]], state: State) -> bool:
        """Whether b can go all its way after a went all of its own, as far as the two go."""
        v = self.group[b]
        for _, q, fits in self._near(a):
            if q != v:
                continue
            ways = [fits[i] >> state[b] & 1 for i in chains[a]]
            ways += [fits[chains[a][-1]] >> j & 1 for j in chains[b]]
            if ways != sorted(ways):  # something that held would not hold any more
                return False
        for n, other, gone in ((a, b, False), (b, a, True)):
            for option in chains[n][1:]:
                themes = self.carried.get((n, option), ())
                movers = [(t, m) for t, m in themes if t in self.place]
                still = any(m >> self._at(t, state) & 1 for t, m in themes if t not in self.place)
                if still or len(movers) != 1 or movers[0][0] != self.group[other]:
                    continue
                stands = self.target[other] if gone else state[other]
                if not movers[0][1] >> stands & 1:
                    return False
        return True

    def _worth_trying(self, state: State, size: int) -> list[Step]:
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
                after = self._hopped(n, high, state, self.violations(state))
                if after is not None:
                    return [(((n, high),), after)] if size == 1 else []
        direct = [n for n in moving if self.fewest[n][state[n]] == 1]
        later = set()
        for n in direct:
            above = set(range(state[n] + 1, self.target[n] + 1))
            if self._stands(n, state, state[n], above) and self._may_end(n, state):
                later.add(n)
        steps = self.steps(state, size)
        if len(later) < len(moving):
            steps = [step for step in steps if not any(n in later for n, _ in step[0])]
        idle = {hop for hop in {h for hops, _ in steps for h in hops} if self._idle(state, *hop)}
        return [step for step in steps if idle.isdisjoint(step[0])] if idle else steps

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
                width = range(self.problem.domains[v].bit_length())
                if c.p == v:
                    found.append((number, c.q, c.row(width)))
                elif c.q == v:
                    found.append((number, c.p, c.column(width)))
            self._sides[n] = found
        return found

    def _open(self, q: int, state: State) -> int:
        """The options a member may still stand at, as bits."""
        if q == NOBODY:
            return 1
        if q not in self.place:
            return 1 << self.standing[q]
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


def _rings(waits: dict[int, list[int]]) -> Iterator[list[int]]:
    """The strongly connected components of who waits for whom, those waited for first (Tarjan)."""
    number: dict[int, int] = {}
    low: dict[int, int] = {}
    stack: list[int] = []

    def visit(n: int) -> Iterator[list[int]]:
        number[n] = low[n] = len(number)
        stack.append(n)
        for other in waits[n]:
            if other not in number:
                yield from visit(other)
                low[n] = min(low[n], low[other])
            elif other in stack:
                low[n] = min(low[n], number[other])
        if low[n] == number[n]:
            ring = stack[stack.index(n) :]
            del stack[stack.index(n) :]
            yield ring

    for n in waits:
        if n not in number:
            yield from visit(n)
