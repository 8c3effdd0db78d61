"""Why a component does not reach a version, as data.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". Exclusions are the
candidates' own; here are found the facts that together forbid a candidate, of which none can be
left out, and what a better choice gives a candidate up for. Sentences are made in wording.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from windbreak.core.candidates import Exclusion
from windbreak.core.case import Frozen
from windbreak.core.catalogue import bits
from windbreak.core.constraints import NOBODY, Carried, Problem
from windbreak.core.model import Model, build_model
from windbreak.core.resolve import Objective, Resolution, lag, weigh
from windbreak.core.search import cheapest_with, possible


class Fact(Frozen):
    """One of the things that together make a version impossible."""

    fact: Literal["requires", "conflicts", "clash", "lockstep", "limit", "bundle"]
    subject: str | None = None
    object: str | None = None
    product: str | None = None


class Conflict(Frozen):
    """The version is a candidate, and these facts together forbid it; none can be left out."""

    kind: Literal["conflict"] = "conflict"
    facts: tuple[Fact, ...]


class Trade(Frozen):
    """The version is possible, but the best choice with it, ``instead``, is worse."""

    kind: Literal["trade"] = "trade"
    instead: Objective
    pay: tuple[str, ...]


Reason = Exclusion | Conflict | Trade


def trade(resolution: Resolution, v: int, number: int) -> Trade | None:
    """The best choice with a candidate, and who pays for it; None where no choice has it."""
    assert resolution.found is not None  # a resolution of a case comes with its search
    found = cheapest_with(resolution.found, resolution.vector, v, number)
    if found is None:
        return None
    problem, now, instead = resolution.problem, resolution.choice, found.choice
    worse = problem.violated(instead) - problem.violated(now)
    pay = {problem.constraints[n].subject for n in worse}
    for member, i, j in zip(problem.members, now, instead, strict=True):
        risks = [member.line.exposure(member.version(k), k) for k in (i, j)]
        if lag(member, j) > lag(member, i) or risks[1] > risks[0]:
            pay.add(member.product)
    return Trade(instead=weigh(problem, instead), pay=tuple(sorted(pay)))


def conflict(problem: Problem, v: int, number: int) -> tuple[Fact, ...]:
    """A minimal set of facts that makes a candidate of v impossible. It must be impossible."""
    core = _Core(problem, v, number)
    return tuple(sorted(map(core.fact, core.minimal()), key=_fact_order))


def _fact_order(fact: Fact) -> tuple[bool, str, str, str]:
    product = fact.product
    return (product is not None, fact.fact, fact.subject or product or "", fact.object or "")


@dataclass(slots=True)
class _Trail:
    """A domain narrowed step by step, and the facts that were used for it."""

    domain: int
    used: dict[int, None]


class _Core:
    """Facts are numbered: constraints first, then each member's limit, then its bundle rule.

    With a member's limit left out it may be at any known release; with its bundle rule left out
    it needs no theme to carry it.
    """

    def __init__(self, problem: Problem, v: int, number: int) -> None:
        self.problem = problem
        self.v = v
        self.number = number
        self.limits = len(problem.constraints)
        self.bundles = self.limits + len(problem.members)
        self.carried: dict[int, list[Carried]] = {}
        for p, member in enumerate(problem.members):
            only = member.ways.bundle_only & ~(1 << member.start)
            if only:
                rules = [problem.carriage(p, i) for i in bits(only)]
                self.carried[p] = rules
        self.links: list[list[int]] = [[] for _ in problem.members]
        for n, c in enumerate(problem.constraints):
            if n not in problem.broken:
                self.links[c.p].append(n)
                if c.q != NOBODY:
                    self.links[c.q].append(n)

    def minimal(self) -> list[int]:
        """Facts of which none can be left out. Those met last are tried first."""
        kept = self._propagated()
        if kept is None:
            kept = [n for n in range(self.limits) if n not in self.problem.broken]
            kept += [self.limits + w for w in range(len(self.problem.members)) if w != self.v]
            kept += [self.bundles + p for p in self.carried]
            kept = self._halved(kept)
        for fact in reversed(kept):
            fewer = [f for f in kept if f != fact]
            if not self._open(fewer):
                kept = fewer
        return kept

    def _halved(self, facts: list[int]) -> list[int]:
        """Fewer facts that still forbid it: whole stretches left out where they can be."""
        size = len(facts) // 2
        while size:
            start = 0
            while start < len(facts):
                fewer = facts[:start] + facts[start + size :]
                if self._open(fewer):
                    start += size
                else:
                    facts = fewer
            size //= 2
        return facts

    def _propagated(self) -> list[int] | None:
        """The facts by which some member is left without an option, going out from the version
        asked about; None where that alone does not show it.
        """
        problem, limits = self.problem, self.limits
        trails = [
            _Trail(m.candidates, {limits + w: None} if m.candidates != m.universe else {})
            for w, m in enumerate(problem.members)
        ]
        trails[self.v] = _Trail(1 << self.number, {})
        waiting = [self.v]
        seen = {self.v}
        while waiting:
            w = waiting.pop(0)
            seen.discard(w)
            for hit, narrowed, used in self._narrowings(w, trails):
                trail = trails[hit]
                after = trail.domain & narrowed
                if after == trail.domain:
                    continue
                trail.used = trail.used | used
                trail.domain = after
                if not after:
                    return list(trail.used)
                if hit not in seen:
                    seen.add(hit)
                    waiting.append(hit)
            if not waiting and w == self.v:
                # Nobody near is in the way by itself; now everybody else is looked at too.
                waiting = [u for u in range(len(trails)) if u != w]
                seen = set(waiting)
        return None

    def _narrowings(
        self, w: int, trails: Sequence[_Trail]
    ) -> Iterator[tuple[int, int, dict[int, None]]]:
        """What the domain of one member leaves of others': the member, the rest, by which facts."""
        for n in self.links[w]:
            c = self.problem.constraints[n]
            if c.q == NOBODY:
                yield c.p, ~sum(own for own, _ in c.classes), {n: None}
            elif c.p == w:
                rest, allowed = trails[w].domain, 0
                for own, others in c.classes:
                    if rest & own:
                        allowed |= others
                        rest &= ~own
                if not rest:
                    yield c.q, allowed, trails[w].used | {n: None}
            else:
                there, left = trails[w].domain, -1
                for own, others in c.classes:
                    if not others & there:
                        left &= ~own
                yield c.p, left, trails[w].used | {n: None}
        for p, rules in self.carried.items():
            for rule in rules:
                if w == p or any(theme == w for theme, _ in rule.themes):
                    yield from self._carriage(rule, trails)

    def _carriage(
        self, rule: Carried, trails: Sequence[_Trail]
    ) -> Iterator[tuple[int, int, dict[int, None]]]:
        able = [(t, mask) for t, mask in rule.themes if trails[t].domain & mask]
        used: dict[int, None] = {self.bundles + rule.p: None}
        for t, _ in rule.themes:
            if all(t != a for a, _ in able):
                used |= trails[t].used
        if not able:
            yield rule.p, ~(1 << rule.i), used
        elif len(able) == 1 and trails[rule.p].domain == 1 << rule.i:
            yield *able[0], used | trails[rule.p].used

    def _open(self, facts: Sequence[int]) -> bool:
        """Whether the version is possible with these facts alone."""
        problem = self.problem
        domains = [m.universe for m in problem.members]
        rules: list[Carried] = []
        only: list[int] = []
        for fact in facts:
            if fact < self.limits:
                only.append(fact)
            elif fact < self.bundles:
                w = fact - self.limits
                domains[w] = problem.members[w].candidates
            else:
                rules += self.carried[fact - self.bundles]
        domains[self.v] = 1 << self.number
        model: Model = build_model(problem, domains, only=only, carried=rules)
        among = [w for w in range(len(domains)) if model.links[w] or model.carried[w]]
        alone = all(model.domains)
        return alone and possible(model, {}, among)

    def fact(self, number: int) -> Fact:
        if number < self.limits:
            rule = self.problem.constraints[number]
            return Fact(fact=rule.kind, subject=rule.subject, object=rule.object)
        if number < self.bundles:
            member = self.problem.members[number - self.limits]
            return Fact(fact="limit", product=member.product)
        return Fact(fact="bundle", product=self.problem.members[number - self.bundles].product)
