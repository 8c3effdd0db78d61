"""Why a component does not reach a version, as data.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". Exclusions are the
candidates' own; here are found the facts that together forbid a candidate, of which none can be
left out, and what a better choice gives a candidate up for. Sentences are made in wording.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from windbreak.core.candidates import Exclusion
from windbreak.core.case import Frozen
from windbreak.core.catalogue import bits
from windbreak.core.constraints import NOBODY, Carried, Problem, with_option
from windbreak.core.model import Model, build_model, propagate
from windbreak.core.resolve import Objective, Resolution, lag, weigh
from windbreak.core.search import cheapest_with, possible, possible_from

_MOST_TRIALS = 2000  # options tried out to find which facts forbid a version


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


def forbid(problem: Problem, v: int, number: int, facts: Iterable[Fact]) -> bool:
    """Whether facts make a candidate of v impossible; those that are none here left out."""
    core = _Core(problem, v, number)
    known = (core.number_of(fact) for fact in facts)
    return not core.open([n for n in known if n is not None])


def further(resolution: Resolution, v: int, number: int) -> tuple[Problem, tuple[Fact, ...]] | None:
    """What else would stand in the way of a release that is kept out, if it were a candidate.

    The facts, and the problem as it would be then; None where some allowed choice would have it.
    """
    problem = with_option(resolution.problem, resolution.case, v, number)
    if problem is None:
        return None
    shut = problem.ties.shut[v] >> number & 1
    model = build_model(problem, problem.domains)
    if not shut and possible_from(model, v, number, [problem.start]):
        return None
    return problem, conflict(problem, v, number)


def could_be(problem: Problem, v: int, number: int, facts: Iterable[Fact]) -> dict[str, int]:
    """What those in some facts could be if a candidate of v were chosen, limits and bundles aside.

    Options as bits, by product; more than really go together at the worst.
    """
    core = _Core(problem, v, number)
    known = [core.number_of(fact) for fact in facts]
    model, involved = core.model([n for n in known if n is not None and n < core.limits])
    involved |= {w for f in facts if (w := problem.numbers.get(f.product or "")) is not None}
    domains = list(model.domains)
    if not propagate(model, domains, involved):
        return {}
    return {problem.members[w].product: domains[w] & problem.members[w].universe for w in involved}


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
        self.trials = 0

    @cached_property
    def carried(self) -> dict[int, list[Carried]]:
        """For each member the rules for what comes only by bundle."""
        found = {}
        for p, member in enumerate(self.problem.members):
            if member.ways.bundle and (only := member.ways.bundle_only & ~(1 << member.start)):
                found[p] = [self.problem.carriage(p, i) for i in bits(only)]
        return found

    def minimal(self) -> list[int]:
        """Facts of which none can be left out. Those met last are tried first."""
        problem = self.problem
        trails = [
            _Trail(m.candidates, {self.limits + w: None} if m.candidates != m.universe else {})
            for w, m in enumerate(problem.members)
        ]
        trails[self.v] = _Trail(1 << self.number, {})
        found = self._refuted(trails, [self.v])
        if found is None:  # it would take too long to say which
            kept = [n for n in range(self.limits) if n not in problem.broken]
            kept += [self.limits + w for w in range(len(problem.members)) if w != self.v]
            kept += [self.bundles + p for p in self.carried]
        else:
            kept = list(found)
        for fact in reversed(kept):
            fewer = [f for f in kept if f != fact]
            if not self.open(fewer):
                kept = fewer
        return kept

    def _refuted(self, trails: list[_Trail], first: list[int]) -> dict[int, None] | None:
        """The facts by which no choice is left, going out from the first members; None where
        that takes too long.

        Where no member is left without an option at once, one that has few is tried at each: what
        refutes them all counts, and what left it those. Facts below 0 are such trials.
        """
        self.trials += 1
        found = self._narrowed(trails, first) or self._narrowed(trails, range(len(trails)))
        if found is not None or self.trials > _MOST_TRIALS:
            return found
        tied = self.problem.ties.links
        open_ = [w for w, t in enumerate(trails) if t.domain & (t.domain - 1) and tied[w]]
        if not open_:
            return None
        w = min(open_, key=lambda w: (trails[w].domain.bit_count(), -len(trails[w].used)))
        trial = -1 - w
        every = dict(trails[w].used)
        for option in bits(trails[w].domain):
            branch = [_Trail(trail.domain, trail.used) for trail in trails]
            branch[w] = _Trail(1 << option, {trial: None})
            refuted = self._refuted(branch, [w])
            if refuted is None or trial not in refuted:
                return refuted
            every |= refuted
        del every[trial]
        return every

    def _narrowed(self, trails: list[_Trail], first: Iterable[int]) -> dict[int, None] | None:
        """The facts by which some member is left without an option, going out from the first;
        None where none is.
        """
        waiting = list(first)
        seen = set(waiting)
        while waiting:
            w = waiting.pop(0)
            seen.discard(w)
            for hit, narrowed, facts, by in self._narrowings(w, trails):
                trail = trails[hit]
                after = trail.domain & narrowed
                if after == trail.domain:
                    continue
                for other in by:
                    trail.used = trail.used | trails[other].used
                trail.used = trail.used | dict.fromkeys(facts)
                trail.domain = after
                if not after:
                    return trail.used
                if hit not in seen:
                    seen.add(hit)
                    waiting.append(hit)
        return None

    def _narrowings(
        self, w: int, trails: Sequence[_Trail]
    ) -> Iterator[tuple[int, int, Sequence[int], Sequence[int]]]:
        """What the domain of one member leaves of others': the member, the rest, by which fact
        and by whose domains.
        """
        for n in self.problem.ties.numbers[w]:
            c = self.problem.constraints[n]
            if c.q == NOBODY:
                yield c.p, ~sum(own for own, _ in c.classes), (n,), ()
            elif c.p == w:
                rest, allowed = trails[w].domain, 0
                for own, others in c.classes:
                    if rest & own:
                        allowed |= others
                        rest &= ~own
                if not rest:
                    yield c.q, allowed, (n,), (w,)
            else:
                there, left = trails[w].domain, -1
                for own, others in c.classes:
                    if not others & there:
                        left &= ~own
                yield c.p, left, (n,), (w,)
        for p, rules in self.carried.items():
            for rule in rules:
                if w == p or any(theme == w for theme, _ in rule.themes):
                    yield from self._carriage(rule, trails)

    def _carriage(
        self, rule: Carried, trails: Sequence[_Trail]
    ) -> Iterator[tuple[int, int, Sequence[int], Sequence[int]]]:
        able = [(t, mask) for t, mask in rule.themes if trails[t].domain & mask]
        unable = [t for t, mask in rule.themes if not trails[t].domain & mask]
        facts = (self.bundles + rule.p,)
        if not able:
            yield rule.p, ~(1 << rule.i), facts, unable
        elif len(able) == 1 and trails[rule.p].domain == 1 << rule.i:
            yield *able[0], facts, [*unable, rule.p]

    def open(self, facts: Sequence[int]) -> bool:
        """Whether the version is possible with these facts alone."""
        model, involved = self.model(facts)
        return all(model.domains) and possible(model, {}, involved)

    def model(self, facts: Sequence[int]) -> tuple[Model, set[int]]:
        """What binds with these facts alone, and whom; the version asked about is fixed."""
        problem = self.problem
        rules: list[Carried] = []
        only: list[int] = []
        involved = {self.v}
        for fact in facts:
            if fact < self.limits:
                only.append(fact)
                c = problem.constraints[fact]
                involved |= {c.p, c.q} - {NOBODY}
            elif fact >= self.bundles:
                rules += self.carried[fact - self.bundles]
        for rule in rules:
            involved |= {rule.p, *(theme for theme, _ in rule.themes)}
        domains = [-1] * len(problem.members)  # of those that nothing binds nobody asks
        for w in involved:
            domains[w] = problem.members[w].universe
        for fact in facts:
            if self.limits <= fact < self.bundles:
                domains[fact - self.limits] = problem.members[fact - self.limits].candidates
        domains[self.v] = 1 << self.number
        return build_model(problem, domains, only=only, carried=rules), involved

    def number_of(self, fact: Fact) -> int | None:
        """The number of a fact; None where it is none in this problem."""
        if fact.product is None:
            return self.problem.ties.named.get((fact.fact, fact.subject, fact.object))
        w = self.problem.numbers.get(fact.product)
        if w is None or (fact.fact == "bundle" and w not in self.carried):
            return None
        return w + (self.limits if fact.fact == "limit" else self.bundles)

    def fact(self, number: int) -> Fact:
        if number < self.limits:
            rule = self.problem.constraints[number]
            return Fact(fact=rule.kind, subject=rule.subject, object=rule.object)
        if number < self.bundles:
            member = self.problem.members[number - self.limits]
            return Fact(fact="limit", product=member.product)
        return Fact(fact="bundle", product=self.problem.members[number - self.bundles].product)
