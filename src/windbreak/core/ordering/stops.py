"""The stops of members that move, the hops between them, and what ties them to each other.

Source of the rules: docs/reasoning.md, "The order of the moves". Each member has *stops*: the
options it may stand at on its way, the first and the last included; a *place* is the number of a
stop among its own. All tables here are in places. For a plugin that goes from 1.0 by 1.1 or 1.2 to
2.0, where 2.0 can be gone to from 1.2 only, beside a core that goes straight:

    stops    [[3, 4, 5, 9], [2, 7]]           options of each member
    hops     [[[2, 1], [2], [3], []], …]      for each place those one hop above it, highest first
    fewest   [{0: 2, 1: 2, 2: 1, 3: 0}, …]    the least hops from each place to the target
    near     [[Near(other=1, row=(0b01, 0b11, 0b11, 0b10), …)], …]

Stops that another can stand in for, whatever the others do, are left out (dominance).
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from windbreak.core.bits import bits
from windbreak.core.case.candidates import Member
from windbreak.core.case.candidates import hops as hops_to
from windbreak.core.resolution.problem import NOBODY, Carriage, Problem
from windbreak.core.resolution.problem import Rule as Binding
from windbreak.core.solver.constraints import Relation

Row = tuple[int, ...]  # for each place of a member, the places of another it goes with, as bits

_FEW_STOPS = 64  # up to here every stop of a member is looked at
_MOST_STOPS = 400  # beyond it no way of several members is looked for


class SearchTooLong(Exception):
    """More states were looked at than allowed; nothing is known of the way."""


class Near(NamedTuple):
    """What ties a member to another. ``broken``: it does not hold today, and need not; ``unions``
    keeps what was asked of ``any_of``.
    """

    other: int
    row: Row
    broken: bool
    unions: dict[int, int]

    def any_of(self, places: int) -> int:
        """What goes with at least one of some places."""
        union = self.unions.get(places)
        if union is None:
            union = 0
            for place in bits(places):
                union |= self.row[place]
            self.unions[places] = union
        return union


@dataclass(frozen=True, slots=True)
class Arrival:
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


def shortest_way(member: Member, stops: list[int]) -> list[int]:
    """A shortest way of one member that nobody else moves with; all stops where there is none.

    Level by level: where one hop leads from what was reached so far.
    """
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
    way = [stops[-1]]
    while way[-1] != stops[0]:
        way.append(from_[way[-1]])
    return way[::-1]


class Stops:
    """Stops, hops and tables of a group, in the places of its own stops.

    With ``alone`` who is not of the group does not count; ``stops`` may be given where they are
    known. Raises SearchTooLong where a member has too many.
    """

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
        self.alone = alone
        self.number = {v: n for n, v in enumerate(group)}
        self.stops: list[list[int]] = []
        self.hops: list[list[list[int]]] = []
        self.fewest: list[dict[int, int]] = []
        self.near: list[list[Near]] = [[] for _ in group]
        self.arrivals: list[Arrival] = []
        self.start = [problem.start[v] for v in group]
        self.target = [target[v] for v in group]
        self.at_once = len(group) == 1 and group[0] in straight and not alone and self._one_hop()
        if self.at_once:
            self.stops, self.hops, self.fewest = (
                [self.start + self.target],
                [[[1], []]],
                [{1: 0, 0: 1}],
            )
            return
        self.stops = [
            self._unshut(n, may_stop(problem, target, v, straight=v in straight))
            for n, v in enumerate(group)
        ]
        if len(group) == 1 and len(self.stops[0]) > _FEW_STOPS:
            self.stops = [shortest_way(problem.members[group[0]], self.stops[0])]
        if max(map(len, self.stops)) > _MOST_STOPS:
            raise SearchTooLong
        if stops is None:
            masks = [sum([1 << option for option in row]) for row in self.stops]
            self.stops = [self._undominated(n, masks) for n in range(len(group))]
        else:
            self.stops = [
                [o for o in row if o in own]
                for row, own in zip(stops, map(set, self.stops), strict=True)
            ]
        for n, row in enumerate(self.stops):
            hops = _hops(len(row), self._from(n, row))
            left = _fewest(hops)
            # Hops that lead nowhere are no hops.
            self.hops.append(
                hops if len(left) == len(hops) else [[j for j in r if j in left] for r in hops]
            )
            self.fewest.append(left)
        self._tie_all()
        self.arrivals = [self._arrival(carriage) for carriage in self._carriages()]

    def _one_hop(self) -> bool:
        """Whether one hop is all there is: of a member by itself, with nobody in its way, since
        its target goes with where all others stay.
        """
        start, end = self.start[0], self.target[0]
        return start != end and bool(hops_to(self.problem.members[self.group[0]], end) >> start & 1)

    # Stops

    def _unshut(self, n: int, between: int) -> list[int]:
        """Of the options it may stop at, those that no rule shuts by itself."""
        v = self.group[n]
        ends = 1 << self.start[n] | 1 << self.target[n]
        if between & ~ends:
            for number, rule in self.problem.rules_of[v]:
                side = None if number in self.problem.broken else self._side(rule, v)
                if side is not None:
                    between &= side | 1 << self.start[n]
        return list(bits(between))

    def _side(self, rule: Binding, v: int) -> int | None:
        """The options of v that go with where the other side stays; None where it may move."""
        if rule.p == v and (rule.q == NOBODY or (rule.q not in self.number and not self.alone)):
            at = 0 if rule.q == NOBODY else self.problem.start[rule.q]
            return ~sum(own for own, others in rule.relation.classes if not others >> at & 1)
        if rule.q == v and rule.p not in self.number and not self.alone:
            return rule.relation.row(self.problem.start[rule.p])
        return None

    # Hops

    def _from(self, n: int, stops: Sequence[int]) -> list[int]:
        """For each place of a member those from which one hop leads to it, as bits."""
        v = self.group[n]
        member = self.problem.members[v]
        if member.addition:
            return [0, 1][: len(stops)]
        # What a hop has repaired no later one may break: of what does not hold today.
        sides = []
        if self.problem.broken:
            for number, rule in self.problem.rules_of[v]:
                side = self._side(rule, v) if number in self.problem.broken else None
                if side is not None:
                    sides.append(places(side, stops))
        rows = [0]
        for j in range(1, len(stops)):
            from_ = (1 << j) - 1
            if stops[j] in member.line.stepped:
                from_ &= places(hops_to(member, stops[j]), stops)
            for side in sides:
                if not side >> j & 1:
                    from_ &= ~side
            rows.append(from_)
        return rows

    # Ties

    def _tie_all(self) -> None:
        """What ties two of the group, seen from both; what always holds ties nobody."""
        whole: dict[tuple[int, int], Row] = {}
        masks = [sum([1 << option for option in row]) for row in self.stops]
        for p, v in enumerate(self.group):
            for number, rule in self.problem.rules_of[v]:
                q = self.number.get(rule.q) if rule.p == v else None
                if q is None or not rule.relation.forbids(masks[p], masks[q]):
                    continue
                forth, back = self._rows(rule.relation, p, q)
                if number in self.problem.broken:
                    if any(forth):
                        self.near[p].append(Near(q, forth, True, {}))
                        self.near[q].append(Near(p, back, True, {}))
                    continue
                for pair, row in (((p, q), forth), ((q, p), back)):
                    kept = whole.get(pair)
                    if kept is not None:
                        row = tuple([a & b for a, b in zip(kept, row, strict=True)])
                    whole[pair] = row
        for (p, q), row in whole.items():
            self.near[p].append(Near(q, row, False, {}))

    def _rows(self, relation: Relation, p: int, q: int) -> tuple[Row, Row]:
        """For each place of p the places of q that go with it, and the other way round."""
        here, there = self.stops[p], self.stops[q]
        forth = {options: places(options, there) for options in set(map(relation.row, here))}
        back = {options: places(options, here) for options in set(map(relation.column, there))}
        return (
            tuple([forth[relation.row(option)] for option in here]),
            tuple([back[relation.column(option)] for option in there]),
        )

    def _carriages(self) -> Iterator[Carriage]:
        """What comes only by bundle, where that can keep somebody of the group from a stop."""
        for carriage in self.problem.carried:
            n = self.number.get(carriage.p)
            if n is None or carriage.i not in self.stops[n]:
                continue
            others = [(t, mask) for t, mask in carriage.themes if t not in self.number]
            if self.alone and others:
                continue
            if not any(mask >> self.problem.start[t] & 1 for t, mask in others):
                yield carriage

    def _arrival(self, carriage: Carriage) -> Arrival:
        n = self.number[carriage.p]
        themes = [
            (self.number[t], places(mask, self.stops[self.number[t]]))
            for t, mask in carriage.themes
            if t in self.number
        ]
        return Arrival(n, self.stops[n].index(carriage.i), tuple(themes))

    # Dominance

    def _undominated(self, n: int, masks: Sequence[int]) -> list[int]:
        """The stops of a member that no other can stand in for, its ends included."""
        row = self.stops[n]
        if len(row) < 3:
            return row
        from_ = self._from(n, row)
        to = onward(from_)
        stands = self._stands(n, masks)
        ends = (0, len(row) - 1)
        return [
            option
            for place, option in enumerate(row)
            if place in ends or not _dominated(place, to, from_, stands)
        ]

    def _stands(self, n: int, masks: Sequence[int]) -> list[_Standing]:
        """What each stop of a member stands of the others."""
        v, stops = self.group[n], self.stops[n]
        kept: dict[int, list[int]] = {}  # by other member, for each stop what goes with it
        broken: list[tuple[int, list[int]]] = []
        for number, rule in self.problem.rules_of[v]:
            relation = rule.relation
            other = self.number.get(rule.q if rule.p == v else rule.p)
            if other is None:
                continue
            mask = masks[other]
            fits = relation.row if rule.p == v else relation.column
            row = [fits(option) & mask for option in stops]
            if number in self.problem.broken:
                broken.append((other, row))
            elif other in kept:
                kept[other] = [a & b for a, b in zip(kept[other], row, strict=True)]
            elif any([fit != mask for fit in row]):
                kept[other] = row
        carried = [c for c in self._carriages() if v in c.clause.scope]
        by_bundle = {carriage.i for carriage in carried if carriage.p == v} - {stops[0]}
        carries = [mask for c in carried for theme, mask in c.themes if theme == v]
        standings = []
        repairs = [(row, masks[other].bit_length()) for other, row in broken]
        ties = [(row, masks[other].bit_length()) for other, row in kept.items()]
        for k, option in enumerate(stops):
            repaired = stood = 0
            for row, width in repairs:
                repaired = repaired << width | row[k]
            for row, width in ties:
                stood = stood << width | row[k]
            for mask in carries:
                stood = stood << 1 | mask >> option & 1
            standings.append(_Standing(stood, repaired, option in by_bundle))
        return standings


class _Standing(NamedTuple):
    """What a stop goes with, the bits of all ties in a row; of those that are broken today, the
    same; whether it comes only by bundle.
    """

    fits: int
    repaired: int
    by_bundle: bool

    def as_good_as(self, other: _Standing) -> bool:
        """Whether it stands all that another does, and is as easily come by."""
        return (
            not self.by_bundle and self.repaired == other.repaired and not other.fits & ~self.fits
        )


def _hops(count: int, from_: Sequence[int]) -> list[list[int]]:
    """For each place those one hop above it, highest first."""
    rows: list[list[int]] = [[] for _ in range(count)]
    for j in reversed(range(1, count)):
        for i in bits(from_[j]):
            rows[i].append(j)
    return rows


def onward(from_: Sequence[int]) -> list[int]:
    """For each place those one hop above it, as bits: all but those that can't be come to."""
    to = [(1 << len(from_)) - (2 << i) for i in range(len(from_))]
    for j, fit in enumerate(from_):
        for i in bits((1 << j) - 1 & ~fit):
            to[i] ^= 1 << j
    return to


def _fewest(hops: Sequence[Sequence[int]]) -> dict[int, int]:
    """The least hops from each place to the target; missing where there is no way."""
    end = len(hops) - 1
    least = {end: 0}
    for i in reversed(range(end)):
        if hops[i] and hops[i][0] == end:
            least[i] = 1
            continue
        ways = [least[j] for j in hops[i] if j in least]
        if ways:
            least[i] = min(ways) + 1
    return least


def _dominated(
    place: int, to: Sequence[int], from_: Sequence[int], stands: Sequence[_Standing]
) -> bool:
    """Whether another place can stand in for one, whatever the others do."""
    last = len(to) - 1
    before, after = from_[place], to[place]
    if not after or not before:
        return True
    # One below must be come to from all before, one above must lead to all after: so it is near.
    near = range(max(1, before.bit_length() - 1), min(last, (after & -after).bit_length()))
    for other in (0, *near, last):
        if other == place:
            continue
        if other and before & ~(1 << other) & ~from_[other]:
            continue
        if other != last and after & ~(1 << other) & ~to[other]:
            continue
        if not stands[other].as_good_as(stands[place]):
            continue
        # Of two that are alike the higher stays.
        if other > place or not stands[place].as_good_as(stands[other]):
            return True
    return False


def places(options: int, stops: Sequence[int]) -> int:
    """The places, as bits, whose options are among some, as bits."""
    first, count = stops[0], len(stops)
    if stops[-1] - first == count - 1:
        return options >> first & (1 << count) - 1
    return sum([1 << k for k, option in enumerate(stops) if options >> option & 1])
