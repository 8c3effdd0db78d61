"""The roots: where the reasons of a blocked component lead, followed to their end.

A chain goes from the release that is not reached

(1) through the facts that forbid it, to the first release that a limited product would need next;
(2) from a plugin that only comes inside a theme, to the theme's release that carries it;
(3) to what keeps a release back by itself: an exclusion, facts that nothing limits, a trade, or a
    maker who has not shipped.

Components whose chains end at one root are kept back by one thing, whatever stands between.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from windbreak.core.bits import bits
from windbreak.core.case.candidates import Member, reasons
from windbreak.core.resolution.problem import Problem
from windbreak.core.resolution.resolve import Resolution
from windbreak.core.values.reasons import (
    AccessExclusion,
    BundleExclusion,
    Conflict,
    Fact,
    FromExclusion,
    LicenceExclusion,
    Reason,
    RootReason,
    Unshipped,
)
from windbreak.core.versions.ranges import parse_range


@dataclass
class Roots:
    """The roots of one resolution. ``kept_by`` are the reasons why a member does not reach its
    newest release, and the number of that.
    """

    resolution: Resolution
    kept_by: Mapping[int, tuple[int, tuple[Reason, ...]]]
    _on_the_way: set[tuple[int, int]] = field(default_factory=set)

    def of(self, v: int, further: Iterable[Fact] = ()) -> tuple[RootReason, ...]:
        """The roots of why member v does not reach its newest; of the facts that would stand even
        if the release were a candidate, where those are given as ``further``.
        """
        number, kept_by = self.kept_by[v]
        self._on_the_way = {(v, number)}
        if further:
            return tuple(dict.fromkeys(self._of_facts(v, number, tuple(further))))
        return tuple(
            dict.fromkeys(end for reason in kept_by for end in self._of_reason(v, number, reason))
        )

    @property
    def _problem(self) -> Problem:
        return self.resolution.problem

    def _follow(self, v: int, number: int) -> Iterator[RootReason]:
        """The roots of a release on the way to another."""
        if (v, number) in self._on_the_way:
            return
        self._on_the_way.add((v, number))
        member = self._problem.members[v]
        for reason in reasons(self.resolution.case, self._problem.catalogue, member, number):
            yield from self._of_reason(v, number, reason)

    def _of_reason(self, v: int, number: int, reason: Reason) -> Iterator[RootReason]:
        member = self._problem.members[v]
        match reason:
            case Conflict(facts=facts):
                yield from self._of_facts(v, number, facts)
            case LicenceExclusion(state="none") | BundleExclusion():
                carried = list(self._of_carriers(member, number))
                yield from carried or [self._end(member, number, reason)]
            case FromExclusion(needs=needs):
                yield from self._of_stops(v, number, needs) or [self._end(member, number, reason)]
            case _:
                yield self._end(member, number, reason)

    def _end(self, member: Member, number: int, reason: Reason) -> RootReason:
        return RootReason(
            product=member.product, version=member.line.releases[number - 1].version, reason=reason
        )

    def _of_carriers(self, member: Member, number: int) -> Iterator[RootReason]:
        """Why no theme of the site brings a plugin's release. Of what the theme may not reach, the
        first release that carries a newer one; beyond what it carries, its maker.
        """
        problem = self._problem
        for name in problem.catalogue.carriers.get(member.product, ()):
            t = problem.numbers.get(name)
            if t is None or not problem.members[t].active:
                continue
            theme, newer, exact = problem.members[t], 0, 0
            further = theme.line.above(theme.installed) if theme.installed else theme.line.listed
            further &= -(2 << self.resolution.choice[t])
            for mask, carried, _ in problem.catalogue.table("bundles", name, member.product):
                if carried & -(2 << self.resolution.choice[problem.numbers[member.product]]):
                    newer |= mask & further
                if carried >> number & 1:
                    exact |= mask & theme.line.listed
            outside = newer & ~theme.candidates
            if outside:
                yield from self._follow(t, (outside & -outside).bit_length() - 1)
            elif newer and t in self.kept_by and (t, self.kept_by[t][0]) not in self._on_the_way:
                self._on_the_way.add((t, self.kept_by[t][0]))
                for reason in self.kept_by[t][1]:
                    yield from self._of_reason(t, self.kept_by[t][0], reason)
            if not exact:
                yield self._unshipped(member, number, name)

    def _unshipped(self, member: Member, number: int, by: str) -> RootReason:
        version = member.line.releases[number - 1].version
        return RootReason(product=member.product, version=version, reason=Unshipped(by=by))

    def _of_stops(self, v: int, number: int, needs: str) -> list[RootReason]:
        """Why the nearest release from which another can be reached is kept out itself."""
        member = self._problem.members[v]
        range_ = parse_range(needs)
        below = member.line.listed & ((1 << number) - 1)
        if member.installed is not None:
            below &= member.line.above(member.installed)
        stops = [k for k in bits(below) if member.line.versions[k - 1] in range_]
        return list(self._follow(v, stops[-1])) if stops else []

    def _of_facts(self, v: int, number: int, facts: tuple[Fact, ...]) -> Iterator[RootReason]:
        """What limits the products in some facts; the facts themselves where nothing does."""
        if not facts:
            return
        problem, limited = self._problem, False
        for fact in facts:
            if fact.fact not in ("limit", "bundle"):
                continue
            w = problem.numbers.get(fact.product or "")
            if w is None or problem.members[w].gone:
                limited = True
                yield RootReason(product=fact.product or "", version=None, reason=AccessExclusion())
                continue
            if w == v:
                continue
            limited = True
            yield from self._beyond(w)
        if not limited:
            yield self._end(problem.members[v], number, Conflict(facts=facts))

    def _beyond(self, w: int) -> Iterator[RootReason]:
        """Why a member can go no further than it can."""
        member = self._problem.members[w]
        above = member.line.listed & -(1 << member.candidates.bit_length())
        if above:
            yield from self._follow(w, (above & -above).bit_length() - 1)
        elif member.line.listed:
            top = member.line.listed.bit_length() - 1
            yield self._unshipped(member, top, member.product)
        else:
            yield RootReason(
                product=member.product, version=None, reason=Unshipped(by=member.product)
            )
