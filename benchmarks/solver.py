"""The same choice by a general constraint solver, to stand beside ours in the benchmarks.

It is given the same numbered problem and the same vector: place by place, each solved with those
before it fixed, as an ordered vector is given to a solver; or packed into one objective, which is
quicker where the numbers stay small. Rules for ties are left out, which makes its work lighter.
"""

from __future__ import annotations

from typing import Any

from ortools.sat.python import cp_model

from windbreak.core.bits import bits
from windbreak.core.resolution.problem import NOBODY, Problem
from windbreak.core.resolution.resolve import lag, weigh
from windbreak.core.values.reasons import Objective

PLACES = ("broken", "exposure", "behind", "lag", "untested", "moves")


def solved(problem: Problem, *, packed: bool) -> Objective:
    """The best vector of a problem, proved by the solver, on one core."""
    model = cp_model.CpModel()
    chosen = [
        {i: model.new_bool_var(f"{v}:{i}") for i in bits(domain)}
        for v, domain in enumerate(problem.domains)
    ]
    for row in chosen:
        model.add_exactly_one(row.values())
    size = len(chosen) + 1
    lags = sum(d.bit_count() for d in problem.domains) + 1
    weights = {"moves": 1, "untested": size}
    weights["lag"] = weights["untested"] * (len(problem.untested) + 1)
    weights["behind"] = weights["lag"] * lags
    weights["exposure"] = weights["behind"] * size
    weights["broken"] = weights["exposure"] * 4096
    costs_of: dict[str, list[Any]] = {place: [] for place in PLACES}
    for v, (member, row) in enumerate(zip(problem.members, chosen, strict=True)):
        for i, var in row.items():
            late = lag(member, i)
            exposure = member.line.exposure(member.version(i), i)
            for place, price in (
                ("exposure", exposure),
                ("behind", int(bool(late))),
                ("lag", late),
                ("moves", int(i != problem.start[v])),
            ):
                if price:
                    costs_of[place].append(price * var)
    for n, c in enumerate(problem.rules):
        unmet = model.new_bool_var(f"broken {n}") if n in problem.broken else None
        if unmet is not None:
            costs_of["broken"].append(unmet)
        for own, others in c.relation.classes:
            fits = [] if c.q == NOBODY else [x for j, x in chosen[c.q].items() if others >> j & 1]
            for i, var in chosen[c.p].items():
                if own >> i & 1:
                    model.add_bool_or(*fits, var.negated(), *([unmet] if unmet is not None else []))
    for pair in problem.untested:
        costs = model.new_bool_var(f"untested {pair.p} {pair.q}")
        costs_of["untested"].append(costs)
        for own, others in pair.classes:
            for i, var in chosen[pair.p].items():
                for j, other in chosen[pair.q].items() if own >> i & 1 else ():
                    if others >> j & 1:
                        model.add_bool_or(var.negated(), other.negated(), costs)
    for rule in problem.carried:
        themes = [x for t, mask in rule.themes for i, x in chosen[t].items() if mask >> i & 1]
        model.add_bool_or(*themes, chosen[rule.p][rule.i].negated())
    solver = cp_model.CpSolver()
    solver.parameters.num_workers = 1
    if packed:
        model.minimize(sum(weights[place] * sum(costs_of[place]) for place in PLACES))
        _prove(solver, model)
    else:
        for place in PLACES:
            if costs_of[place]:
                model.minimize(sum(costs_of[place]))
                _prove(solver, model)
                model.add(sum(costs_of[place]) <= round(solver.objective_value))
    choice = [next(i for i, x in row.items() if solver.boolean_value(x)) for row in chosen]
    return weigh(problem, choice)


def _prove(solver: cp_model.CpSolver, model: cp_model.CpModel) -> None:
    status = solver.solve(model)
    assert status == cp_model.OPTIMAL  # staying put is always allowed
