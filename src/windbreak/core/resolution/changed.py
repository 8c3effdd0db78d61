"""A problem with an act done: changed only in what the act touches.

``after`` is the one operation by which a problem follows its case. Whatever acts come one after the
other, it has the same best choice and the same possible options as compiling the changed case from
nothing; additions that nobody requires any more may stay among its members, absent, and a plugin
that was removed keeps its number, *gone*: absent, and nothing else.
"""

from __future__ import annotations

from collections.abc import Iterable

from windbreak.core.case.candidates import again, asks_for_more, removed
from windbreak.core.case.situation import Case
from windbreak.core.resolution.problem import Problem, Rules, compile_problem, numbered
from windbreak.core.values.reasons import Act


def after(problem: Problem, case: Case, act: Act) -> Problem:
    """The problem of a case, that of the case before the act being given."""
    product = act.product or ""
    match act.act:
        case "activate":
            return compile_problem(case, problem.catalogue)
        case "remove":
            return _without_plugin(problem, case, product)
        case "wait":
            touched = [m.product for m in problem.members if m.dated]
        case "channel":
            channel = act.channel or "stable"
            touched = [m.product for m in problem.members if channel in m.line.channels]
        case _:
            touched = [product]
    # Of what is no member any more nothing can be had, and nothing need be.
    here = {m.product for m in problem.members if not m.gone}
    return _with_candidates(problem, case, [p for p in touched if p in here])


def with_option(problem: Problem, case: Case, v: int, number: int) -> Problem | None:
    """The problem as if one more release were a candidate of v, and all it carries could be had.

    None where other plugins could join the site then.
    """
    changed = list(problem.members)
    changed[v] = changed[v]._replace(candidates=changed[v].candidates | 1 << number)
    if changed[v].product.startswith("theme/"):
        carried = [p for p in changed[v].line.bundles if p in problem.numbers]
        for product, member in again(case, problem.catalogue, changed, carried).items():
            changed[problem.numbers[product]] = member
    for new, old in zip(changed, problem.members, strict=True):
        more = new.candidates & ~old.candidates
        if more and asks_for_more(problem.catalogue, new, more, problem.numbers):
            return None
    return problem.like(changed)


def _with_candidates(problem: Problem, case: Case, products: Iterable[str]) -> Problem:
    """The problem of a case changed in what some products may become, and no more.

    Much quicker than compiling anew, unless other plugins may now join the site. Additions that
    nobody requires any more stay among the members; they take nothing from anybody.
    """
    changed = again(case, problem.catalogue, problem.members, products)
    present = {m.product for m in problem.members if not m.gone}
    for product, member in changed.items():
        more = member.candidates & ~problem.domains[problem.numbers[product]]
        if more and asks_for_more(problem.catalogue, member, more, present):
            return compile_problem(case, problem.catalogue)
    return problem.like([changed.get(m.product, m) for m in problem.members])


def _without_plugin(problem: Problem, case: Case, product: str) -> Problem:
    """The problem of a case from whose site a plugin was removed, and no more.

    It keeps its number: as an addition, where somebody asks for it, else as one that is gone:
    absent, and nothing else. Only what speaks of it is made anew.
    """
    v, catalogue = problem.numbers[product], problem.catalogue
    before = problem.members[v]
    member = removed(case, catalogue, problem.members, product)
    present = {m.product for m in problem.members if not m.gone}
    joins = not member.gone and asks_for_more(catalogue, member, member.candidates, present)
    left = any(m.addition and m.product in before.line.requires for m in problem.members)
    if joins or left or not before.active:
        return compile_problem(case, catalogue)
    changed = list(problem.members)
    changed[v] = member
    start = [m.start for m in changed]
    rules, broken = list(problem.rules), set(problem.broken)
    builder = Rules(catalogue, changed)
    for n, rule in enumerate(rules):
        if v in (rule.p, rule.q):
            void = member.gone and (rule.kind != "requires" or rule.p == v)
            # What was said of it, or by it, says nothing any more; it keeps its number.
            rules[n] = rule.saying_nothing() if void else builder.again(rule)
            if rules[n].holds(start):
                broken.discard(n)
            else:
                broken.add(n)
    binding = problem.binding.anew(v, rules, broken)
    return numbered(catalogue, tuple(changed), rules, frozenset(broken), binding)
