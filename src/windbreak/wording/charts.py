"""The chart of two products that bind each other: which versions go together, and the way through.

Source of the rules: docs/reasoning.md. One product's versions stand across, the other's down; a
cell says whether the two go together on this site. Only pairs that bind are drawn: nothing is
decided here.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from windbreak.core.bits import bits
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.resolution.problem import NOBODY, Problem, Rule, compile_problem
from windbreak.core.values.charts import Cell, Chart, Side, Stop
from windbreak.core.values.verdicts import Plan
from windbreak.wording.reasons import beyond, out
from windbreak.wording.steps import broken_text
from windbreak.wording.words import first_up, listed

MOST_VERSIONS = 7  # on a side; a chart is to be read, not searched


def charts(case: Case, catalogue: Catalogue, plan: Plan, most: int = 3) -> list[Chart]:
    """The charts of a plan: pairs that bind each other and of which both move, or one at least.

    Those whose way is bent by a forbidden cell come first.
    """
    problem = compile_problem(case, catalogue)
    moving = {m.product for step in plan.steps for m in step.moves}
    pairs: dict[tuple[int, int], list[Rule]] = {}
    for n, c in enumerate(problem.rules):
        if n not in problem.broken and c.q != NOBODY:
            pairs.setdefault((min(c.p, c.q), max(c.p, c.q)), []).append(c)
    charts = []
    for (a, b), rules in sorted(pairs.items()):
        names = {problem.members[v].product for v in (a, b)}
        if not names & moving or any(p.startswith("runtime/") for p in names - moving):
            continue
        chart = _chart(case, problem, plan, (a, b), rules)
        forbidden = sum(cell.state == "forbidden" for row in chart.cells for cell in row)
        if forbidden:
            charts.append((len(names & moving), len(chart.path), forbidden, chart))
    charts.sort(key=lambda f: (-f[0], -f[1], -f[2], f[3].across.product, f[3].down.product))
    return [chart for *_, chart in charts[:most]]


def _chart(
    case: Case, problem: Problem, plan: Plan, pair: tuple[int, int], rules: Sequence[Rule]
) -> Chart:
    across, down = sorted(pair, key=lambda v: not problem.members[v].product.startswith("core/"))
    ways = {v: _way(problem, plan, v) for v in pair}
    options = {v: _options(problem, v, ways[v]) for v in pair}
    cells = []
    for j in options[down]:
        row = []
        for i in options[across]:
            row.append(_cell(case, problem, rules, {across: i, down: j}))
        cells.append(tuple(row))
    path = _path(problem, plan, across, down, options)
    sides = [_side(case, problem, v, options[v]) for v in (across, down)]
    flat = [cell for row in cells for cell in row]
    works = sum(cell.state != "forbidden" for cell in flat)
    return Chart(
        across=sides[0],
        down=sides[1],
        cells=tuple(cells),
        path=tuple(path),
        text=_caption(sides[0], sides[1], path, works, len(flat)),
    )


def _way(problem: Problem, plan: Plan, v: int) -> list[int]:
    """Where a member stands one after the other."""
    member = problem.members[v]
    stops = [member.start]
    for step in plan.steps:
        for move in step.moves:
            if move.product == member.product:
                stops += [n for n, x in enumerate(member.line.releases, 1) if x.version == move.to]
    return stops


def _options(problem: Problem, v: int, way: Sequence[int]) -> list[int]:
    """The versions of a side: those of the way, and the nearest others up to the newest."""
    member = problem.members[v]
    every = [n for n in bits(member.universe) if n >= member.start or not member.start]
    if member.start > 1:
        every = [member.start - 1, *every]
    kept = dict.fromkeys([*way, every[-1]])
    for n in sorted(every, key=lambda n: min(abs(n - w) for w in way)):
        if len(kept) < MOST_VERSIONS:
            kept[n] = None
    return sorted(kept)


def _cell(case: Case, problem: Problem, rules: Iterable[Rule], at: dict[int, int]) -> Cell:
    for c in rules:
        if not c.relation.fits(at[c.p], at[c.q]):
            a, b = ((v, problem.members[v].version(at[v])) for v in (c.p, c.q))
            return Cell(state="forbidden", why=first_up(broken_text(problem, c, a, b)) + ".")
    for v, n in at.items():
        member = problem.members[v]
        if not member.candidates >> n & 1 and n > member.start:
            note = beyond(case, problem.catalogue, member, n)
            name = problem.catalogue.label(member.product)
            return Cell(
                state="not to be had", why=f"{name} {member.version(n)} is not to be had{note}."
            )
    return Cell(state="works")


def _side(case: Case, problem: Problem, v: int, options: Sequence[int]) -> Side:
    member = problem.members[v]
    notes = []
    for n in options:
        to_be_had = n <= member.start or member.candidates >> n & 1
        notes.append("" if to_be_had else out(case, problem.catalogue, member, n)[1])
    return Side(
        product=member.product,
        name=problem.catalogue.label(member.product),
        versions=tuple(str(member.version(n) or "absent") for n in options),
        notes=tuple(notes),
    )


def _path(
    problem: Problem, plan: Plan, across: int, down: int, options: dict[int, list[int]]
) -> list[Stop]:
    at = {v: problem.members[v].start for v in (across, down)}

    def stop(step: int) -> Stop:
        return Stop(
            column=options[across].index(at[across]), row=options[down].index(at[down]), step=step
        )

    stops = [stop(0)]
    for number, step in enumerate(plan.steps, start=1):
        before = dict(at)
        for move in step.moves:
            for v in (across, down):
                member = problem.members[v]
                if member.product == move.product:
                    for n, release in enumerate(member.line.releases, 1):
                        at[v] = n if release.version == move.to else at[v]
        if at != before:
            stops.append(stop(number))
    return stops


def _caption(across: Side, down: Side, path: Sequence[Stop], works: int, pairs: int) -> str:
    """The picture in words: how many pairs work, and the way through."""
    stops = [
        f"{across.name} {across.versions[s.column]} with {down.name} {down.versions[s.row]}"
        for s in path
    ]
    way = f"Today {stops[0]}"
    if len(stops) > 1:
        way += f"; then {listed(stops[1:])}" if len(stops) < 4 else f"; then {'; '.join(stops[1:])}"
    return f"Of {pairs} pairs {works} go together. {way}."
