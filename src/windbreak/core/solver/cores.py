"""Minimal unsatisfiable cores: which facts together leave no choice, none of which can be left out.

A *fact* is a number that stands for constraints, or for a limit on one variable's options. With a
limit left out the variable may take any option of its universe. One variable is fixed to the option
that is asked about. Finding a core:

(1) Propagate from the fixed variable, each domain carrying the facts by which it was narrowed (an
    implication trail). Where a domain is emptied, its facts are an unsatisfiable set.
(2) Where propagation alone empties none, an option is tried at each turn: what refutes all options
    of one variable, and what left it those, refutes the whole.
(3) Leave out one fact after the other, last met first, while the rest stays unsatisfiable
    (deletion-based minimisation; see Marques-Silva, "Minimal unsatisfiability", 2010).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from windbreak.core.bits import bits
from windbreak.core.solver.constraints import Constraint
from windbreak.core.solver.network import Network
from windbreak.core.solver.search import satisfiable

_MOST_TRIALS = 2000  # options tried out for one core


@dataclass(slots=True)
class _Trail:
    """A domain narrowed step by step, and the facts that were used for it."""

    domain: int
    used: dict[int, None]


class Facts:
    """Facts over variables with a universe of options each.

    A fact below ``first_limit`` stands for some constraints, given by number; fact ``first_limit +
    v`` is the limit of variable v to fewer options than its universe. Limits are given with each
    question, so that facts serve every problem in which the same constraints bind.
    """

    def __init__(
        self,
        universe: Sequence[int],
        constraints: Mapping[int, Sequence[Constraint]],
        first_limit: int,
    ) -> None:
        self.universe = universe
        self.constraints = constraints
        self.first_limit = first_limit
        self._rows: list[list[tuple[int, Constraint]]] = [[] for _ in universe]
        for fact, some in constraints.items():
            for constraint in some:
                for v in constraint.scope:
                    self._rows[v].append((fact, constraint))
        self._trials = 0

    def _limited(self, fact: int) -> int | None:
        """The variable that a fact limits; None for one that stands for constraints."""
        v = fact - self.first_limit
        return v if 0 <= v < len(self.universe) else None

    def satisfiable(self, facts: Iterable[int], limits: Sequence[int], v: int, option: int) -> bool:
        """Whether some choice has an option of v and meets these facts alone."""
        network, involved = self._network(facts, limits, v, option)
        return satisfiable(network, {}, involved)

    def reach(self, facts: Iterable[int], v: int, option: int) -> dict[int, int]:
        """What these facts leave, by propagation, of each variable they bind; {} for nothing."""
        network, involved = self._network(facts, (), v, option)
        domains = list(network.domains)
        if not network.propagate(domains, involved):
            return {}
        return {w: domains[w] for w in involved}

    def _network(
        self, facts: Iterable[int], limits: Sequence[int], v: int, option: int
    ) -> tuple[Network, set[int]]:
        involved = {v}
        binding: list[Constraint] = []
        limited: list[int] = []
        for fact in facts:
            w = self._limited(fact)
            if w is not None:
                limited.append(w)
                continue
            for constraint in self.constraints[fact]:
                binding.append(constraint)
                involved.update(constraint.scope)
        domains = [-1] * len(self.universe)  # of those that nothing binds nobody asks
        for w in involved:
            domains[w] = self.universe[w]
        for w in limited:
            domains[w] = limits[w]
        domains[v] = 1 << option
        network = Network(domains)
        for constraint in binding:
            network.bind(constraint)
        return network, involved

    def minimal_core(self, limits: Sequence[int], v: int, option: int) -> list[int]:
        """Facts that leave no choice with an option of v, none of which can be left out.

        All facts together must leave none. ``limits`` are the options of each variable.
        """
        trails = [
            _Trail(limit, {} if limit == options else {self.first_limit + w: None})
            for w, (options, limit) in enumerate(zip(self.universe, limits, strict=True))
        ]
        trails[v] = _Trail(1 << option, {})
        self._trials = 0
        refuted = self._refuted(trails, [v])
        if refuted is None:  # it would take too long to say which
            every = [self.first_limit + w for w in range(len(limits)) if w != v]
            refuted = dict.fromkeys([*self.constraints, *every])
        core = list(refuted)
        for fact in reversed(core):
            fewer = [other for other in core if other != fact]
            if not self.satisfiable(fewer, limits, v, option):
                core = fewer
        return core

    def _refuted(self, trails: list[_Trail], first: list[int]) -> dict[int, None] | None:
        """The facts by which no choice is left, going out from the first variables; None where
        that takes too long. Facts below 0 are options that are tried.
        """
        self._trials += 1
        used = self._propagated(trails, first) or self._propagated(trails, range(len(trails)))
        if used is not None or self._trials > _MOST_TRIALS:
            return used
        open_ = [w for w, t in enumerate(trails) if t.domain & (t.domain - 1) and self._rows[w]]
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

    def _propagated(self, trails: list[_Trail], first: Iterable[int]) -> dict[int, None] | None:
        """The facts by which some variable is left without an option; None where none is."""
        waiting = list(first)
        queued = set(waiting)
        domains = [trail.domain for trail in trails]
        while waiting:
            w = waiting.pop(0)
            queued.discard(w)
            for fact, constraint in self._rows[w]:
                u, left = constraint.propagate(domains, w)
                if left == domains[u]:
                    continue
                trail = trails[u]
                for other in constraint.explain(u):
                    trail.used = trail.used | trails[other].used
                trail.used = trail.used | {fact: None}
                trail.domain = domains[u] = left
                if not left:
                    return trail.used
                if u not in queued:
                    queued.add(u)
                    waiting.append(u)
        return None
