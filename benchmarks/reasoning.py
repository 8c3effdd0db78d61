"""Reasoning beside a general constraint solver, on the same cases in the same run.

1. One site, about 40 components with 25 candidates each: the bare choice, everything from the file
   to reasons and acts, and the order; the catalogue's compiling told apart.
2. A fleet of 10,000 sites in 500 situations, here and on processes; then one new release.
3. Growth with components, candidates and sites, drawn into docs/reasoning-growth.png.

The solver is asked place by place, as an ordered vector is given to one, and packed into one
number.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from multiprocessing import get_context
from pathlib import Path
from statistics import median

from benchmarks.figures import Figure, timed
from benchmarks.made import made_case
from benchmarks.solver import solved
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.reading import read_case
from windbreak.core.case.situation import Case
from windbreak.core.ordering.order import order
from windbreak.core.resolution.resolve import resolve
from windbreak.wording.answers import answer, answers

ROOT = Path(__file__).parent.parent
SHARED = ROOT.parent / "shared/cases"
PLOT = ROOT / "docs/reasoning-growth.png"
ROUNDS = 3
ORDER_ROUNDS = 24  # it stands beside nothing else in the run, so it must not meet a slow moment


def sites() -> list[tuple[str, str]]:
    """Cases about the size of a large site, as their files' text."""
    found = [(f"made, seed {n}", made_case(40, 25, n).to_json()) for n in (1, 2, 3)]
    return found + [(p.stem, p.read_text()) for p in sorted(SHARED.glob("large-*.json"))]


def one_site() -> Iterator[Figure]:
    cases = [_Site(text) for _, text in sites()]
    for _ in range(ROUNDS):  # all cases in each, so that a slow moment does not meet one in all
        for case in cases:
            case.measure()
    rows = [case.row() for case in cases]
    how = f"{len(rows)} cases of 40 components of up to 25 candidates, least of {ROUNDS} rounds"

    def middle(name: str) -> float:
        return median(row[name] for row in rows)

    yield Figure("the bare choice, beside the solver", middle("choice"), "x", 20.0, True, how)
    yield Figure(
        "from the file to all reasons and acts, beside it", middle("all"), "x", 4.0, True, how
    )
    yield Figure("the bare choice, beside it packed", middle("packed"), "x", how=how)
    yield Figure("all, beside it packed", middle("all packed"), "x", how=how)
    yield Figure("the bare choice", middle("ms"), "ms", how=how)
    yield Figure("from the file to all reasons and acts", middle("all ms"), "ms", how=how)
    free = [row["order"] for row in rows if not row["stuck"]]
    stuck = [row["order"] for row in rows if row["stuck"]]
    how = f"{len(rows)} cases as above, least of {ORDER_ROUNDS} rounds"
    yield Figure("the order, median", median(free), "ms", 5.0, how=how)
    if stuck:
        yield Figure("the order with stuck targets, median", median(stuck), "ms", 50.0, how=how)


class _Site:
    """A case of one site, and the least that each thing done with it has taken so far."""

    def __init__(self, text: str) -> None:
        case = read_case(text)
        catalogue = _compiled(case)
        resolution = resolve(case, catalogue)
        self.stuck = bool(order(resolution).stuck)
        self.least: dict[str, float] = {}
        self._best = resolution.objective
        self._work = {
            "choice": lambda: resolve(case, catalogue),
            "all": lambda: answer(resolve(read_case(text), catalogue)),
            "theirs": partial(solved, resolution.problem, packed=False),
            "theirs, packed": partial(solved, resolution.problem, packed=True),
        }
        self._order = partial(order, resolution)

    def measure(self) -> None:
        """Do each once more."""
        for name, work in self._work.items():
            self._note(name, *timed(work))
        self._note("order", *timed(self._order, ORDER_ROUNDS // ROUNDS))

    def _note(self, name: str, took: float, done: object) -> None:
        if name.startswith("theirs"):
            assert done == self._best, "the solver found another vector"
        self.least[name] = min(took, self.least.get(name, took))

    def row(self) -> dict[str, float]:
        """Its ratios and times, by name."""
        ours = self.least
        return {
            "choice": ours["theirs"] / ours["choice"],
            "all": ours["theirs"] / ours["all"],
            "packed": ours["theirs, packed"] / ours["choice"],
            "all packed": ours["theirs, packed"] / ours["all"],
            "ms": ours["choice"],
            "all ms": ours["all"],
            "order": ours["order"],
            "stuck": self.stuck,
        }


def _compiled(case: Case) -> Catalogue:
    """A catalogue with every line and table that a case needs made."""
    catalogue = Catalogue.of(case)
    resolve(case, catalogue)
    return catalogue


def fleet_of(count: int, situations: int) -> tuple[Catalogue, list[Case]]:
    """So many sites, each in one of so many situations, of one catalogue."""
    whole_case = made_case(30, 20, 7)
    catalogue = Catalogue.of(whole_case)
    bare = catalogue.lean(whole_case)
    different = []
    for n in range(situations):
        r = random.Random(n)
        components = tuple(
            c.model_copy(
                update={"version": r.choice(whole_case.releases_of[c.product][:12]).version}
            )
            for c in whole_case.site.components
            if not c.product.startswith("plugin/") or r.random() < 0.5
        )
        different.append(bare.site.model_copy(update={"components": components}))
    cases = [
        bare.model_copy(
            update={"site": different[n % situations].model_copy(update={"id": f"site-{n}"})}
        )
        for n in range(count)
    ]
    return catalogue, cases


def fleet(count: int = 10_000, situations: int = 500) -> Iterator[Figure]:
    catalogue, cases = fleet_of(count, situations)
    serial, here = timed(lambda: list(answers(catalogue, cases)), ROUNDS)
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as executor:
        list(answers(catalogue, cases[:64], executor=executor))  # the processes are up
        spread, there = timed(lambda: list(answers(catalogue, cases, executor=executor)), ROUNDS)
    assert [a for _, a in here] == [a for _, a in there]
    how = f"{count} sites in {situations} situations, without acts, least of {ROUNDS} rounds"
    yield Figure("verdicts of 10,000 sites in 500 situations", serial / 1000, "s", 2.5, how=how)
    yield Figure("500 situations on two processes beside one", serial / spread, "x", 1.6, True, how)


def growth() -> None:
    """Draw how the choice and the fleet grow."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    drawn, axes = pyplot.subplots(1, 3, figsize=(12, 3.4), layout="constrained")
    by_components = [(n, _choice(n, 25)) for n in (10, 20, 30, 40, 60, 80)]
    by_candidates = [(n, _choice(40, n)) for n in (5, 10, 25, 50, 100)]
    by_sites = []
    catalogue, cases = fleet_of(8000, 200)
    for n in (1000, 2000, 4000, 8000):
        took, _ = timed(lambda n=n: list(answers(catalogue, cases[:n])))
        by_sites.append((n, took / 1000))
    for axis, points, label, unit in (
        (axes[0], by_components, "components, of 25 candidates", "one choice, ms"),
        (axes[1], by_candidates, "candidates, of 40 components", "one choice, ms"),
        (axes[2], by_sites, "sites, in 200 situations", "verdicts of all, s"),
    ):
        axis.plot(*zip(*points, strict=True), marker="o", color="#1f5c46")
        axis.set_xlabel(label)
        axis.set_ylabel(unit)
        axis.set_ylim(bottom=0)
        axis.grid(visible=True, color="#dddddd")
        told = "; ".join(f"{n}: {value:.1f}" for n, value in points)
        print(f"growth with {label} ({unit}): {told}")
    drawn.savefig(PLOT, dpi=110)


def _choice(components: int, candidates: int) -> float:
    """The middle of three cases' times, in milliseconds."""
    found = []
    for seed in (1, 2, 3):
        case = made_case(components, candidates, seed)
        catalogue = _compiled(case)
        found.append(timed(lambda case=case, known=catalogue: resolve(case, known), 3)[0])
    return median(found)


def figures() -> Iterator[Figure]:
    yield from one_site()
    yield from fleet()
    growth()
