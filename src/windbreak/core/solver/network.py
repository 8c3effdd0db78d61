"""The network: domains of variables, the constraints that bind them, what pairs of options cost.

State: ``domains[v]`` holds the options of variable v as bits; ``constraints[v]`` and ``costs[v]``
what v takes part in, on any side. A search copies the domains and leaves the rest as it is.

    domains      [0b0110, 0b1001, 0b0001]
    constraints  [[Table 0–1], [Table 0–1, Clause 1,2], [Clause 1,2]]
    costs        [[], [Cost 1–2], [Cost 1–2]]

What follows at once from a network is here too: options without support are dropped until nothing
changes (arc consistency, AC-3 after Mackworth 1977), and the variables fall into connected
components that nothing still open joins.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence, Set
from typing import Protocol, TypeVar

from windbreak.core.solver.constraints import Constraint, Cost, Domains
from windbreak.core.solver.graphs import components

T = TypeVar("T")


class Prices(Protocol):
    """What options cost by themselves."""

    def price(self, v: int, i: int) -> int:
        """The cost of one option."""

    def pick(self, v: int, options: int) -> int:
        """The cheapest of some options that no mark tells apart."""

    def marks(self, v: int) -> Sequence[int]:
        """Sets of options whose cost differs for other reasons than their order."""


class Network:
    """What is searched. Rows given to the constructor are not written to."""

    __slots__ = ("constraints", "costs", "domains")

    def __init__(
        self,
        domains: Sequence[int],
        constraints: list[list[Constraint]] | None = None,
        costs: list[list[Cost]] | None = None,
    ) -> None:
        empty: list[list[Constraint]] = [[]] * len(domains)
        free: list[list[Cost]] = [[]] * len(domains)
        self.domains: Domains = list(domains)
        self.constraints = empty if constraints is None else constraints
        self.costs = free if costs is None else costs

    def bind(self, constraint: Constraint) -> None:
        """Add a constraint."""
        for v in constraint.scope:
            _add(self.constraints, v, constraint)

    def charge(self, cost: Cost) -> None:
        """Add what pairs of options cost."""
        _add(self.costs, cost.p, cost)
        _add(self.costs, cost.q, cost)

    def propagate(self, domains: Domains, changed: Iterable[int]) -> bool:
        """Drop options without support, going out from what changed; False where none is left."""
        waiting = list(changed)
        queued = set(waiting)
        constraints = self.constraints
        while waiting:
            v = waiting.pop()
            queued.discard(v)
            if not domains[v]:
                return False
            for constraint in constraints[v]:
                u, left = constraint.propagate(domains, v)
                if left != domains[u]:
                    if not left:
                        return False
                    domains[u] = left
                    if u not in queued:
                        queued.add(u)
                        waiting.append(u)
        return True

    def simplified(
        self, domains: Sequence[int], variables: Iterable[int] | None = None
    ) -> tuple[Network, int]:
        """The network without what nothing can change any more, and what must be paid anyway."""
        left = Network(domains)
        paid = 0
        among = range(len(domains)) if variables is None else variables
        inside = set(among)
        for v in among:
            for constraint in self.constraints[v]:
                if _is_first(v, constraint, inside) and not constraint.entailed(domains):
                    left.bind(constraint)
            for cost in self.costs[v]:
                if cost.p == v:
                    may, must = cost.bounds(domains)
                    if must:
                        paid += cost.weight
                    elif may:
                        left.charge(cost)
        return left, paid

    def components(
        self, domains: Sequence[int], variables: Sequence[int], *, simplified: bool = False
    ) -> list[list[int]]:
        """The variables in groups that nothing still open joins; of a network that was just
        simplified for these domains everything is.
        """
        edges: list[Iterable[int]] = []
        inside = set(variables)
        for v in variables:
            for constraint in self.constraints[v]:
                if _is_first(v, constraint, inside):
                    still = constraint.bound if simplified else constraint.open
                    edges.append(still(domains))
            for cost in self.costs[v]:
                if cost.p == v and (simplified or cost.bounds(domains)[0]):
                    edges.append((v, cost.q))
        return components(variables, edges)

    def within(self, domains: Sequence[int], inside: Set[int], component: Set[int]) -> Network:
        """The network with only what binds some variables of a component among themselves.

        What a constraint says of variables of other components, and of those that can't meet it
        whatever they take, is settled by their domains.
        """
        inner = Network(self.domains)
        outside = component - inside
        for v in inside:
            inner.constraints[v] = [
                c
                for c in self.constraints[v]
                if outside.isdisjoint(c.scope) or outside.isdisjoint(c.open(domains))
            ]
            inner.costs[v] = [x for x in self.costs[v] if x.p in inside and x.q in inside]
        return inner


def _is_first(v: int, constraint: Constraint, inside: Set[int]) -> bool:
    """Whether v is the first variable of a scope that is inside: there it is looked at."""
    first = constraint.scope[0]
    return first == v or (
        first not in inside and v == next(u for u in constraint.scope if u in inside)
    )


def _add(rows: list[list[T]], v: int, item: T) -> None:
    """Add to one row. Empty rows are one and the same list, which is never written to."""
    if rows[v]:
        rows[v].append(item)
    else:
        rows[v] = [item]
