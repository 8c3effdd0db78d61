"""How long reasoning takes, beside a general constraint solver, in one run.

1. One site, about 40 components with 25 candidates each: the bare choice, everything from the file
   to reasons and acts, and the order; the catalogue's compiling told apart.
2. A fleet of 10,000 sites in 500 situations, here and on processes; then one new release.
3. Growth with components, candidates and sites, drawn into docs/reasoning-growth.png.

    python -m benchmarks.reasoning [--sites N] [--situations N]
"""

from __future__ import annotations

import argparse
import random
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from multiprocessing import get_context
from pathlib import Path
from statistics import median
from typing import Any

from benchmarks.made import made_case
from benchmarks.solver import solved
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.reading import read_case
from windbreak.core.case.situation import Case
from windbreak.core.fleet import reach_of
from windbreak.core.ordering.order import order
from windbreak.core.resolution.resolve import resolve
from windbreak.wording.answers import answer, answers

ROOT = Path(__file__).parent.parent
SHARED = ROOT.parent / "shared/cases"
PLOT = ROOT / "docs/reasoning-growth.png"
ROUNDS = 3


def timed(work: Callable[[], Any], rounds: int = ROUNDS) -> tuple[float, Any]:
    """The least of a few rounds, in milliseconds, and what came of it."""
    best, found = float("inf"), None
    for _ in range(rounds):
        start = time.perf_counter()
        found = work()
        best = min(best, (time.perf_counter() - start) * 1000)
    return best, found


def sites() -> list[tuple[str, str]]:
    """Cases about the size of a large site, as their files' text."""
    found = [(f"made, seed {n}", made_case(40, 25, n).to_json()) for n in (1, 2, 3)]
    return found + [(p.stem, p.read_text()) for p in sorted(SHARED.glob("large-*.json"))]


def one_site() -> None:
    print("one site, 40 components of up to 25 candidates (ms; x: the solver's time to ours)")
    print(
        "  compile: the catalogue's tables, once for a fleet, in no other figure; all: from the\n"
        "  case's file to reasons and acts; solver: place by place, and packed into one number"
    )
    heads = ("case", "compile", "choice", "all", "order", "solver", "choice", "all")
    heads += ("packed", "choice", "all")
    print(f"{heads[0]:14}" + "".join(f"{head:>9}" for head in heads[1:]))
    ratios = [_row(name, text) for name, text in sites()]
    middle = [median(column) for column in zip(*ratios, strict=True)]
    print(
        f"in the middle: the choice x{middle[0]:.1f}, all x{middle[1]:.2f}; beside the packed one "
        f"x{middle[2]:.1f} and x{middle[3]:.2f}; the order {middle[4]:.1f} ms"
    )


def _row(name: str, text: str) -> tuple[float, ...]:
    """Time one case and print it; the four ratios, and the order's time."""
    case = read_case(text)
    first, catalogue = timed(lambda: _compiled(case))
    choice, resolution = timed(lambda: resolve(case, catalogue))
    every, _ = timed(lambda: answer(resolve(read_case(text), catalogue)))
    steps, _ = timed(lambda: order(resolution))
    figures = [first, choice, every, steps]
    ratios = []
    for packed in (False, True):
        theirs, objective = timed(partial(solved, resolution.problem, packed=packed), 1)
        assert objective == resolution.objective, f"{name}: the solver found another vector"
        ratios += [theirs / choice, theirs / every]
        figures.append(theirs)
    told = [f"{x:9.1f}" for x in figures[:5]]
    told += [f"{f'x{ratios[0]:.1f}':>9}", f"{f'x{ratios[1]:.2f}':>9}", f"{figures[5]:9.1f}"]
    told += [f"{f'x{ratios[2]:.1f}':>9}", f"{f'x{ratios[3]:.2f}':>9}"]
    print(f"{name:14}" + "".join(told))
    return *ratios, steps


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


def fleet(count: int, situations: int) -> None:
    catalogue, cases = fleet_of(count, situations)
    size = sum(len(c.site.components) for c in cases[:situations]) / situations
    print(f"{count} sites of {size:.0f} components in {situations} situations, without acts (s)")
    serial, here = timed(lambda: list(answers(catalogue, cases)), 1)
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as executor:
        list(answers(catalogue, cases[:1], executor=executor))  # the processes are up
        spread, there = timed(lambda: list(answers(catalogue, cases, executor=executor)), 1)
    assert [a for _, a in here] == [a for _, a in there]
    print(
        f"  here {serial / 1000:.1f}; on two processes {spread / 1000:.1f} (x{serial / spread:.1f})"
    )
    releases = list(catalogue.source[1])
    installed = [{x.product for x in c.site.components} for c in cases]
    shares = sorted(
        (sum(not reach_of(catalogue, p).isdisjoint(at) for at in installed), p)
        for p in catalogue.products
    )
    # The product in the middle: half of all touch fewer sites, half touch more.
    product = shares[len(shares) // 2][1]
    newest = catalogue.line(product).releases[-1]
    more = newest.model_copy(update={"version": f"{newest.parsed.place(0) + 1}.0"})
    more.__dict__.pop("parsed", None)
    after = Catalogue(catalogue.source[0], [*releases, more], advisories=catalogue.source[3])
    reach = reach_of(after, product)
    touched = [c for c, at in zip(cases, installed, strict=True) if not reach.isdisjoint(at)]
    again, _ = timed(lambda: list(answers(after, touched)), 1)
    share = len(touched) / len(cases)
    print(
        f"  after one new release of {product}: {len(touched)} sites it can touch ({share:.0%}), "
        f"{again / 1000:.1f} (all of them x{serial / again:.1f} that); a release of another "
        f"touches {shares[0][0] / len(cases):.0%} to {shares[-1][0] / len(cases):.0%}"
    )


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
        took, _ = timed(lambda n=n: list(answers(catalogue, cases[:n])), 1)
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
        found.append(timed(lambda case=case, known=catalogue: resolve(case, known))[0])
    return median(found)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--sites", type=int, default=10_000)
    parser.add_argument("--situations", type=int, default=500)
    told = parser.parse_args()
    one_site()
    fleet(told.sites, told.situations)
    growth()


if __name__ == "__main__":
    main()
