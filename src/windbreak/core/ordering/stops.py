"""The stops of members that move, the hops between them, and what ties them to each other.

Source of the rules: docs/reasoning.md, "The order of the moves". Each member has *stops*: the
options it may stand at on its way, the first and the last included. All tables are in the places
of these. Stops that another can stand in for, whatever the others do, are left out.
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass, field

from windbreak.core.bits import bits
from windbreak.core.case.candidates import hops as hops_to
from windbreak.core.resolution.problem import NOBODY, Problem
from windbreak.core.resolution.problem import Rule as Binding

Row = tuple[int, ...]  # for each place of a member, the places of another it goes with, as bits


_FEW_STOPS = 64  # up to here every stop of a member is looked at


_MOST_STOPS = 400  # beyond it no way of several members is looked for


class SearchTooLong(Exception):
    """More states were looked at than allowed; nothing is known of the way."""


@dataclass(frozen=True, slots=True)
class Near:
    """What ties a member to another. ``broken``: it does not hold today, and need not."""

    other: int
    row: Row
    broken: bool
    unions: dict[int, int] = field(default_factory=dict, compare=False)

    def any_of(self, places: int) -> int:
        """What goes with at least one of some places."""
        known = self.unions.get(places)
        if known is None:
            known = 0
            for place in bits(places):
                known |= self.row[place]
            self.unions[places] = known
        return known


@dataclass(frozen=True, slots=True)
class Rule:
    """A place of a plugin that is gone to only while one of some themes' places carries it."""

    plugin: int
    place: int
    themes: tuple[tuple[int, int], ...]


def may_stop(problem: Problem, target: Sequence[int], v: int, *, straight: bool) -> int:
    """The options at which a member may stand on its way, its ends included, as bits.

    One that goes straight stops nowhere, if one hop leads to its target.
    """
    member, start, end = problem.members[v], problem.start[v], target[v]
    ends = 1 << start | 1 << end
    if member.addition or start == end or (straight and hops_to(member, end) >> start & 1):
        return ends
    return member.candidates & (1 << end + 1) - (1 << start)


class Stops:
    """Stops, hops and tables of a group, in the places of its own stops."""

    def __init__(
        self,
        problem: Problem,
        target: Sequence[int],
        group: Sequence[int],
        *,
        alone: bool,
        stops: Sequence[Sequence[int]] | None,
        straight: Container[int] = (),
    ) -> None:
        self.problem = problem
        self.group = group
        self.number = {v: n for n, v in enumerate(group)}
        self.stops: list[list[int]] = []
        self.hops: list[list[list[int]]] = []  # for each place those one hop above, highest first
        self.fewest: list[dict[int, int]] = []  # for each place the least hops to the target
        self.start = [problem.start[v] for v in group]
        self.target = [target[v] for v in group]
        self.ties = [
            (number, c)
            for number, c in enumerate(problem.rules)
            if c.p in self.number or c.q in self.number
        ]
        self.ties_of: dict[int, list[tuple[int, Binding]]] = {v: [] for v in group}
        for tie in self.ties:
            for v in {tie[1].p, tie[1].q} & self.number.keys():
                self.ties_of[v].append(tie)
        own = [
            self._open(n, may_stop(problem, target, v, straight=v in straight), alone=alone)
            for n, v in enumerate(group)
        ]
        if len(group) == 1 and len(own[0]) > _FEW_STOPS:
            own = [self._shortest(own[0])]
        if max(map(len, own)) > _MOST_STOPS:
            raise SearchTooLong
        if stops is not None:
            own = [[o for o in row if o in set(own[n])] for n, row in enumerate(stops)]
        self._make(own, alone=alone)
        if stops is None:
            kept = [self._worth(n, row) for n, row in enumerate(own)]
            if kept != own:
                self._make(kept, alone=alone)

    def _make(self, stops: list[list[int]], *, alone: bool) -> None:
        """Hops and tables for some stops; hops between stops that stay the same stay."""
        before, self.stops = self.stops, stops
        hops: list[list[list[int]]] = []
        fewest: list[dict[int, int]] = []
        for n in range(len(self.group)):
            if before and before[n] == stops[n]:
                hops.append(self.hops[n])
                fewest.append(self.fewest[n])
                continue
            rows = self._hops_of(n, alone=alone)
            left = self._fewest_of(rows)
            fewest.append(left)
            # Hops that lead nowhere are no hops.
            hops.append([[j for j in row if j in left] for row in rows])
        self.hops, self.fewest = hops, fewest
        self.near: list[list[Near]] = [[] for _ in self.group]
        self._put_near()
        self.rules = list(self._rules_of(alone=alone))

    def _worth(self, n: int, row: list[int]) -> list[int]:
        """The stops of a member that no other can stand in for, its ends included."""
        if len(row) < 3:
            return row
        # The hops as bits: where a place leads, and from where it can be gone to.
        to = [sum(1 << j for j in hops) for hops in self.hops[n]]
        from_ = [
            sum(1 << i for i, other in enumerate(to) if other >> j & 1) for j in range(len(to))
        ]
        ends = (0, len(row) - 1)
        return [o for k, o in enumerate(row) if k in ends or not self._worthless(n, k, from_, to)]

    def _open(self, n: int, between: int, *, alone: bool) -> list[int]:
        """Of the options it may stop at, those that no constraint shuts by itself."""
        v = self.group[n]
        ends = 1 << self.start[n] | 1 << self.target[n]
        if between & ~ends:
            for number, c in self.ties_of[v]:
                if number not in self.problem.broken and (side := self._side(c, v, alone=alone)):
                    between &= side[0] | 1 << self.start[n]
        return list(bits(between))

    def _shortest(self, stops: list[int]) -> list[int]:
        """A shortest way of one member that nobody else moves with; all stops where there is none.

        Level by level: where one hop leads from what was reached so far.
        """
        member = self.problem.members[self.group[0]]
        from_: dict[int, int] = {stops[0]: stops[0]}
        reached = 1 << stops[0]
        while not reached >> stops[-1] & 1:
            level = [
                (j, hit) for j in stops if j not in from_ and (hit := hops_to(member, j) & reached)
            ]
            if not level:
                return stops
            for j, hit in level:
                from_[j] = hit.bit_length() - 1
                reached |= 1 << j
        found = [stops[-1]]
        while found[-1] != stops[0]:
            found.append(from_[found[-1]])
        return found[::-1]

    def _side(self, c: Binding, v: int, *, alone: bool) -> tuple[int] | None:
        """The options of v that go with where the other side stays; None where it may move."""
        if c.p == v and (c.q == NOBODY or (c.q not in self.number and not alone)):
            at = 0 if c.q == NOBODY else self.problem.start[c.q]
            return (~sum(own for own, others in c.relation.classes if not others >> at & 1),)
        if c.q == v and c.p not in self.number and not alone:
            at = self.problem.start[c.p]
            return (next((others for own, others in c.relation.classes if own >> at & 1), -1),)
        return None

    def _hops_of(self, n: int, *, alone: bool) -> list[list[int]]:
        """For each place of a member those one hop above it, highest first."""
        v = self.group[n]
        member, stops = self.problem.members[v], self.stops[n]
        if member.addition:
            return [[1], []] if len(stops) > 1 else [[]]
        # What a hop has repaired no later one may break: of what does not hold today.
        sides = [
            side[0]
            for number, c in self.ties_of[v]
            if number in self.problem.broken and (side := self._side(c, v, alone=alone))
        ]
        found: list[list[int]] = [[] for _ in stops]
        for j in reversed(range(1, len(stops))):
            from_ = hops_to(member, stops[j])
            for i in range(j):
                if from_ >> stops[i] & 1 and all(
                    not side >> stops[i] & 1 or side >> stops[j] & 1 for side in sides
                ):
                    found[i].append(j)
        return found

    def _fewest_of(self, hops: Sequence[Sequence[int]]) -> dict[int, int]:
        """The least hops from each place to the target; missing where there is no way."""
        end = len(hops) - 1
        found = {end: 0}
        for i in reversed(range(end)):
            ways = [found[j] + 1 for j in hops[i] if j in found]
            if ways:
                found[i] = min(ways)
        return found

    def _put_near(self) -> None:
        """What ties two of the group, seen from both; what always holds ties nobody."""
        whole: dict[tuple[int, int], list[int]] = {}
        for number, c in self.ties:
            p, q = self.number.get(c.p), self.number.get(c.q)
            if p is None or q is None:
                continue
            there = self.stops[q]
            known: dict[int, int] = {-1: (1 << len(there)) - 1}
            row = []
            for options in c.relation.fitting(self.stops[p]):
                if options not in known:
                    known[options] = _places(options, there)
                row.append(known[options])
            if number in self.problem.broken:
                self._tie(p, q, tuple(row), broken=True)
            elif (q, p) in whole:
                other = turned(row, len(self.stops[q]))
                whole[q, p] = [a & b for a, b in zip(whole[q, p], other, strict=True)]
            elif (p, q) in whole:
                whole[p, q] = [a & b for a, b in zip(whole[p, q], row, strict=True)]
            else:
                whole[p, q] = row
        for (p, q), both in whole.items():
            self._tie(p, q, tuple(both), broken=False)

    def _tie(self, p: int, q: int, row: Row, *, broken: bool) -> None:
        every = (1 << len(self.stops[q])) - 1
        if all(fit == every for fit in row) or (broken and not any(row)):
            return
        self.near[p].append(Near(q, row, broken))
        self.near[q].append(Near(p, turned(row, len(self.stops[q])), broken))

    def _rules_of(self, *, alone: bool) -> Iterator[Rule]:
        for rule in self.problem.carried:
            n = self.number.get(rule.p)
            if n is None or rule.i not in self.stops[n]:
                continue
            movers = [(self.number[t], mask) for t, mask in rule.themes if t in self.number]
            others = [(t, mask) for t, mask in rule.themes if t not in self.number]
            if alone and others:
                continue
            if any(mask >> self.problem.start[t] & 1 for t, mask in others):
                continue
            themes = tuple((t, _places(mask, self.stops[t])) for t, mask in movers)
            yield Rule(n, self.stops[n].index(rule.i), themes)

    def _worthless(self, n: int, place: int, from_: Sequence[int], to: Sequence[int]) -> bool:
        """Whether another stop can stand in for one, whatever the others do."""
        last = len(from_) - 1
        before, after = from_[place], to[place]
        if not after or not before:
            return True
        for other in range(last + 1):
            if other == place:
                continue
            if other and before & ~(1 << other) & ~from_[other]:
                continue
            if other != last and after & ~(1 << other) & ~to[other]:
                continue
            twin = other < place and self._as_good(n, place, other)
            if self._as_good(n, other, place) and not twin:
                return True
        return False

    def _as_good(self, n: int, one: int, other: int) -> bool:
        """Whether a stop stands all that another does, and is as easily come by."""
        for near in self.near[n]:
            if near.row[other] & ~near.row[one] or (
                near.broken and near.row[one] != near.row[other]
            ):
                return False
        for rule in self.rules:
            if rule.plugin == n and rule.place == one and one:
                return False
            for theme, mask in rule.themes:
                if theme == n and mask >> other & 1 and not mask >> one & 1:
                    return False
        return True


def _places(options: int, stops: Sequence[int]) -> int:
    """The places, as bits, whose options are among some, as bits."""
    first, count = stops[0], len(stops)
    if stops[-1] - first == count - 1:
        return options >> first & (1 << count) - 1
    return sum(1 << k for k, option in enumerate(stops) if options >> option & 1)


def turned(row: Sequence[int], width: int) -> Row:
    """The same pairs of places seen from the other side."""
    found = [0] * width
    for i, fit in enumerate(row):
        for j in bits(fit):
            found[j] |= 1 << i
    return tuple(found)
