"""Why a component does not reach a version, as data.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". Exclusions are the
candidates' own; here are found the facts that together forbid a candidate, of which none can be
left out, and what a better choice gives a candidate up for. Sentences are made in wording.
"""

from __future__ import annotations

from collections.abc import Iterable

from windbreak.core.resolution.changed import with_option
from windbreak.core.resolution.problem import Problem
from windbreak.core.resolution.resolve import Resolution, lag, weigh
from windbreak.core.solver.search import cheapest_with, satisfiable_from
from windbreak.core.values.reasons import Fact, Trade


def trade(resolution: Resolution, v: int, number: int) -> Trade | None:
    """The best choice with a candidate, and who pays for it; None where no choice has it."""
    assert resolution.optimum is not None  # a resolution of a case comes with its search
    optimum = cheapest_with(resolution.optimum, resolution.vector, v, number)
    if optimum is None:
        return None
    problem, now, instead = resolution.problem, resolution.choice, optimum.choice
    worse = problem.violated(instead) - problem.violated(now)
    pay = {problem.rules[n].subject for n in worse}
    for member, i, j in zip(problem.members, now, instead, strict=True):
        risks = [member.line.exposure(member.version(k), k) for k in (i, j)]
        if lag(member, j) > lag(member, i) or risks[1] > risks[0]:
            pay.add(member.product)
    return Trade(instead=weigh(problem, instead), pay=tuple(sorted(pay)))


def conflict(problem: Problem, v: int, number: int) -> tuple[Fact, ...]:
    """A minimal set of facts that makes a candidate of v impossible. It must be impossible."""
    core = problem.facts.minimal_core(problem.domains, v, number)
    return tuple(sorted([_fact(problem, n) for n in core], key=_fact_order))


def forbid(problem: Problem, v: int, number: int, facts: Iterable[Fact]) -> bool:
    """Whether facts make a candidate of v impossible; those that are none here left out."""
    numbers = [_number(problem, fact) for fact in facts]
    bound = [n for n in numbers if n is not None]
    return not problem.facts.satisfiable(bound, problem.domains, v, number)


def further(resolution: Resolution, v: int, number: int) -> tuple[Problem, tuple[Fact, ...]] | None:
    """What else would stand in the way of a release that is kept out, if it were a candidate.

    The facts, and the problem as it would be then; None where some allowed choice would have it.
    """
    problem = with_option(resolution.problem, resolution.case, v, number)
    if problem is None:
        return None
    shut = problem.binding.shut[v] >> number & 1
    allowed = [problem.start, resolution.choice]  # both are allowed
    if not shut and satisfiable_from(problem.network(), v, number, allowed):
        return None
    return problem, conflict(problem, v, number)


def reachable(problem: Problem, v: int, number: int, facts: Iterable[Fact]) -> dict[str, int]:
    """What those in some facts could be if a candidate of v were chosen, limits and bundles aside.

    Options as bits, by product; more than really go together at the worst.
    """
    rules: list[int] = []
    options: dict[int, int] = {}
    for fact in facts:
        if fact.product is None:
            n = _number(problem, fact)
            if n is not None:
                rules.append(n)
        elif (w := problem.numbers.get(fact.product)) is not None:
            options[w] = problem.members[w].universe
    left = problem.facts.reach(rules, v, number)
    if not left:
        return {}
    return {
        problem.members[w].product: domain & problem.members[w].universe
        for w, domain in {**options, **left}.items()
    }


def _fact_order(fact: Fact) -> tuple[bool, str, str, str]:
    product = fact.product
    return (product is not None, fact.fact, fact.subject or product or "", fact.object or "")


def _number(problem: Problem, fact: Fact) -> int | None:
    """The number of a fact; None where it is none in this problem."""
    if fact.product is None:
        return problem.binding.named.get((fact.fact, fact.subject, fact.object))
    v = problem.numbers.get(fact.product)
    if v is None:
        return None
    number = len(problem.rules) + v
    if fact.fact == "limit":
        return number
    number += len(problem.members)
    return number if number in problem.facts.constraints else None


def _fact(problem: Problem, number: int) -> Fact:
    size = len(problem.members)
    if number < len(problem.rules):
        rule = problem.rules[number]
        return Fact(fact=rule.kind, subject=rule.subject, object=rule.object)
    v = number - len(problem.rules)
    if v < size:
        return Fact(fact="limit", product=problem.members[v].product)
    return Fact(fact="bundle", product=problem.members[v - size].product)
