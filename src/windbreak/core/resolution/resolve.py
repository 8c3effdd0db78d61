"""The best choice: which version each component should reach.

Source of the rules: docs/reasoning.md, "The best choice". Exact: no allowed choice has a
smaller vector. The vector is packed into one integer, place by place, so that the search
compares plain numbers; the rule for ties follows as its lowest places.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.case.candidates import Member, newest, reasons
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.resolution.problem import NOBODY, Problem, compile_problem
from windbreak.core.solver.constraints import Clause, Cost
from windbreak.core.solver.network import Network
from windbreak.core.solver.search import Optimum, cheapest
from windbreak.core.values.reasons import HoldExclusion, Objective
from windbreak.core.values.verdicts import Outcome
from windbreak.core.versions.version import Version


@dataclass(frozen=True)
class Resolution:
    """The best choice for a case, still numbered; ``choice[v]`` is an option of member v."""

    case: Case
    problem: Problem
    choice: tuple[int, ...]
    optimum: Optimum | None = None  # how the search came to it; None for a choice from elsewhere

    @cached_property
    def objective(self) -> Objective:
        return weigh(self.problem, self.choice)

    @cached_property
    def vector(self) -> Vector:
        return Vector(self.problem)

    def version(self, v: int) -> Version | None:
        """The version a member should reach; None for an addition left out."""
        return self.problem.members[v].version(self.choice[v])

    def target(self, product: str) -> Version | None:
        """Likewise by product id."""
        return self.version(self.problem.number(product))


def resolve(case: Case, catalogue: Catalogue | None = None) -> Resolution:
    """Find the best choice. Never fails: staying put is always allowed.

    ``catalogue`` is the case's own, compiled, or a wider one; it is compiled where none is given.
    """
    problem = compile_problem(case, catalogue)
    vector = Vector(problem)
    optimum = cheapest(vector.network(), vector)
    assert optimum is not None  # the state of today is always allowed
    resolution = Resolution(case, problem, optimum.choice, optimum)
    resolution.__dict__["vector"] = vector
    return resolution


def best(
    problem: Problem,
    domains: Sequence[int],
    nogoods: Sequence[Mapping[int, int]] = (),
) -> tuple[int, ...] | None:
    """The best allowed choice among narrower domains that meets no nogood, or None.

    A nogood names options of some members, as bits, that may not be chosen all at once.
    """
    vector = Vector(problem)
    optimum = cheapest(vector.network(domains, nogoods), vector)
    return optimum.choice if optimum else None


class Vector:
    """The prices of options whose sum is the vector, packed; lowest places: the rule for ties.

    Runtimes take the lowest that serves, the others the newest, product by product in the order
    of their ids; runtimes weigh more than the rest.
    """

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        size = len(problem.members)
        weight = 1
        self._prices: list[dict[int, int]] = [{} for _ in range(size)]
        self._runtime = [m.line.is_runtime for m in problem.members]
        self._tie = [0] * size
        order = sorted(range(size), key=lambda v: (not self._runtime[v], v))
        for v in reversed(order):
            self._tie[v] = weight
            weight *= problem.domains[v].bit_count()
        self._moves = weight
        self._untested = self._moves * (size + 1)
        self._lag = self._untested * (len(problem.untested) + 1)
        every = sum(d.bit_count() for d in problem.domains)
        self._behind = self._lag * (every + 1)
        self._exposure = self._behind * (size + 1)
        most = sum(
            weight
            for m in problem.members
            for weight, _, mask in m.line.weaknesses
            if mask & m.candidates or m.candidates & 1
        )
        self._broken = self._exposure * (most + 1)
        self._alone: list[list[int]] = [[] for _ in range(size)]
        for n in problem.broken:
            rule = problem.rules[n]
            if rule.q == NOBODY:
                self._alone[rule.p].append(rule.shut)

    def network(
        self,
        domains: Sequence[int] | None = None,
        nogoods: Sequence[Mapping[int, int]] = (),
    ) -> Network:
        """What is searched, over all candidates or narrower domains, with what pairs cost."""
        problem = self.problem
        network = problem.network(domains)
        for cost in problem.untested:
            network.charge(Cost(cost.p, cost.q, self._untested, cost.classes))
        for n in problem.broken:
            rule = problem.rules[n]
            if rule.q != NOBODY:
                unmet = tuple([(own, ~others) for own, others in rule.relation.classes])
                network.charge(Cost(rule.p, rule.q, self._broken, unmet))
        if nogoods:
            network.constraints = [list(row) for row in network.constraints]
            for nogood in nogoods:
                network.bind(Clause({v: ~options for v, options in nogood.items()}))
        return network

    def price(self, v: int, i: int) -> int:
        """What an option costs by itself."""
        kept = self._prices[v].get(i)
        if kept is None:
            kept = self._prices[v][i] = self._price(v, i)
        return kept

    def _price(self, v: int, i: int) -> int:
        member, domain = self.problem.members[v], self.problem.domains[v]
        cost = 0 if i == member.start else self._moves
        for shut in self._alone[v]:
            cost += self._broken * (shut >> i & 1)
        if member.line.advisories:
            cost += self._exposure * member.line.exposure(member.version(i), i)
        if self._runtime[v]:
            return cost + self._tie[v] * (domain & (1 << i) - 1).bit_count()
        newer = (domain >> i + 1).bit_count()
        cost += self._tie[v] * newer
        late = newer and lag(member, i)
        return cost + self._lag * late + self._behind if late else cost

    def pick(self, v: int, options: int) -> int:
        """The cheapest of some options that no mark tells apart."""
        member = self.problem.members[v]
        if self._runtime[v] or (member.addition and options & 1):
            stays = options >> member.start & 1
            return member.start if stays else (options & -options).bit_length() - 1
        return options.bit_length() - 1

    def marks(self, v: int) -> list[int]:
        """Sets of options that differ in exposure, or in what is broken whatever else is done."""
        line = self.problem.members[v].line
        return [mask for _, _, mask in line.weaknesses] + self._alone[v]


def weigh(problem: Problem, choice: Sequence[int]) -> Objective:
    """The vector of a choice, summed from its definition."""
    lags = [lag(m, i) for m, i in zip(problem.members, choice, strict=True)]
    return Objective(
        broken=len(problem.violated(choice)),
        exposure=sum(
            m.line.exposure(m.version(i), i) for m, i in zip(problem.members, choice, strict=True)
        ),
        behind=sum(1 for n in lags if n),
        lag=sum(lags),
        untested=sum(1 for cost in problem.untested if cost.paid(choice)),
        moves=sum(1 for i, today in zip(choice, problem.start, strict=True) if i != today),
    )


def lag(member: Member, chosen: int) -> int:
    """How many candidates are newer than the chosen one; 0 for runtimes and what stays absent."""
    if member.line.is_runtime or (member.addition and not chosen):
        return 0
    return (member.candidates >> chosen + 1).bit_count()


def outcome(resolution: Resolution, v: int) -> Outcome:
    """The one word for what becomes of a member."""
    member = resolution.problem.members[v]
    moved = resolution.choice[v] != member.start
    if member.addition:
        return "add" if moved else "absent"
    top = newest(resolution.case, member)
    at_newest = resolution.version(v) == top
    if moved:
        return "move" if at_newest else "part"
    if at_newest or member.line.is_runtime:
        return "current"
    assert top is not None  # a component has a version at least
    number = member.line.number(top)
    exclusions = reasons(resolution.case, resolution.problem.catalogue, member, number)
    return "held" if any(isinstance(r, HoldExclusion) for r in exclusions) else "stay"
