"""The best choice: which version each component should reach.

Source of the rules: docs/reasoning.md, "The best choice". Exact: no allowed choice has a
smaller vector. The vector is packed into one integer, place by place, so that the search
compares plain numbers; the rule for ties follows as its lowest places.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from windbreak.core.candidates import HoldExclusion, Member, Option, members
from windbreak.core.case import Case, Frozen
from windbreak.core.constraints import Problem, compile_problem
from windbreak.core.search import Model, Pair, build_model, cheapest
from windbreak.core.versions import Version, parse_range, parse_version

Outcome = Literal["move", "part", "current", "held", "stay", "add", "absent"]

SEVERITY = {"critical": 64, "high": 16, "medium": 4, "low": 1}


class Objective(Frozen):
    """The vector that is made smallest, compared from the top."""

    broken: int
    exposure: int
    behind: int
    lag: int
    untested: int
    moves: int


@dataclass(frozen=True)
class Resolution:
    """The best choice for a case, still numbered; ``choice[v]`` is an option of member v."""

    case: Case
    problem: Problem
    choice: tuple[int, ...]

    @cached_property
    def objective(self) -> Objective:
        return weigh(self.case, self.problem, self.choice)

    def option(self, v: int) -> Option:
        return self.problem.options[v][self.choice[v]]

    def target(self, product: str) -> Version | None:
        """The version a member should reach; None for an addition left out."""
        return self.option(self.problem.number(product)).version


def resolve(case: Case) -> Resolution:
    """Find the best choice. Never fails: staying put is always allowed."""
    problem = compile_problem(case, members(case))
    choice = best(case, problem)
    assert choice is not None  # the state of today is always allowed
    return Resolution(case, problem, choice)


def best(
    case: Case,
    problem: Problem,
    fixed: dict[int, int] | None = None,
    forbidden: Sequence[dict[int, int]] = (),
) -> tuple[int, ...] | None:
    """The best allowed choice with some members fixed (member to option bits), or None."""
    return cheapest(vector_model(case, problem), fixed, forbidden)


def vector_model(case: Case, problem: Problem) -> Model:
    """The model whose prices are the vector, packed; lowest places: the rule for ties."""
    size = len(problem.members)
    exposures = [
        [exposure(case, m.product, o.version) for o in opts]
        for m, opts in zip(problem.members, problem.options, strict=True)
    ]
    pairs = untested_pairs(problem)
    ties, weight = _tie_prices(problem)
    w_moves = weight
    w_untested = w_moves * (size + 1)
    w_lag = w_untested * (len(pairs) + 1)
    w_behind = w_lag * (sum(len(o) for o in problem.options) + 1)
    w_exposure = w_behind * (size + 1)
    w_broken = w_exposure * (sum(max(row) for row in exposures) + 1)
    prices = []
    for v, member in enumerate(problem.members):
        count = len(problem.options[v])
        row = []
        for i in range(count):
            price = ties[v][i] + exposures[v][i] * w_exposure
            price += lag(member, count, i) * w_lag
            price += w_behind if lag(member, count, i) else 0
            price += w_moves if i != problem.start[v] else 0
            row.append(price)
        prices.append(row)
    weighed = [Pair(pair.p, pair.q, w_untested, pair.cost) for pair in pairs]
    return build_model(problem, prices=prices, pairs=weighed, broken_weight=w_broken)


def weigh(case: Case, problem: Problem, choice: Sequence[int]) -> Objective:
    """The vector of a choice, summed from its definition."""
    lags = [
        lag(m, len(o), i) for m, o, i in zip(problem.members, problem.options, choice, strict=True)
    ]
    return Objective(
        broken=len(problem.violated(choice)),
        exposure=sum(
            exposure(case, m.product, o[i].version)
            for m, o, i in zip(problem.members, problem.options, choice, strict=True)
        ),
        behind=sum(1 for n in lags if n),
        lag=sum(lags),
        untested=sum(
            pair.cost[choice[pair.p]] >> choice[pair.q] & 1 for pair in untested_pairs(problem)
        ),
        moves=sum(1 for i, today in zip(choice, problem.start, strict=True) if i != today),
    )


def exposure(case: Case, product: str, version: Version | None) -> int:
    """How much every advisory against this version adds up to; 0 where absent."""
    if version is None:
        return 0
    return sum(
        SEVERITY[a.severity]
        for a in case.advisories
        if a.product == product and version in parse_range(a.affected)
    )


def lag(member: Member, count: int, chosen: int) -> int:
    """How many candidates are newer than the chosen one; 0 for runtimes and what stays absent."""
    if member.product.startswith("runtime/") or (member.addition and chosen == 0):
        return 0
    return count - 1 - chosen


def untested_pairs(problem: Problem) -> list[Pair]:
    """For p, q both active: the options of q newer than what options of p were tested with."""
    found = []
    for p, member in enumerate(problem.members):
        if not member.active:
            continue
        for q, other in enumerate(problem.members):
            if q == p or not other.active:
                continue
            cost = tuple(
                _untried(option, problem.options[q], other.product) for option in problem.options[p]
            )
            if any(cost):
                found.append(Pair(p, q, 1, cost))
    return found


def _untried(option: Option, others: Sequence[Option], product: str) -> int:
    tested = option.release.tested.get(product) if option.release else None
    if tested is None:
        return 0
    limit = parse_version(tested)
    return sum(1 << j for j, o in enumerate(others) if o.version is not None and o.version > limit)


def _tie_prices(problem: Problem) -> tuple[list[list[int]], int]:
    """Prices that break ties, and the weight of the place above them.

    The lowest runtime that serves, else the newest version, product by product in the order of
    their ids; runtimes weigh more than the rest.
    """
    order = sorted(
        range(len(problem.members)),
        key=lambda v: (not problem.members[v].product.startswith("runtime/"), v),
    )
    rows: list[list[int]] = [[] for _ in order]
    weight = 1
    for v in reversed(order):
        count = len(problem.options[v])
        lowest = problem.members[v].product.startswith("runtime/")
        rows[v] = [weight * (i if lowest else count - 1 - i) for i in range(count)]
        weight *= count
    return rows, weight


def outcome(resolution: Resolution, v: int) -> Outcome:
    """The one word for what becomes of a member."""
    member, problem = resolution.problem.members[v], resolution.problem
    chosen = resolution.choice[v]
    moved = chosen != problem.start[v]
    if member.addition:
        return "add" if moved else "absent"
    at_newest = resolution.option(v).version == member.newest
    if moved:
        return "move" if at_newest else "part"
    if at_newest or member.product.startswith("runtime/"):
        return "current"
    assert member.newest is not None  # a component has a version at least
    reasons = member.excluded.get(member.newest, ())
    return "held" if any(isinstance(r, HoldExclusion) for r in reasons) else "stay"
