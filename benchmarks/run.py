"""Every benchmark in one run, each figure beside what is wanted.

python -m benchmarks.run              all parts; writes benchmarks/latest.json, docs/speed.md
python -m benchmarks.run feeds idle   some parts; prints only; with --keep their figures take the
                                      place of those of the last run, part by part
python -m benchmarks.run an-hour      timetables beside a solver, 40 books of a minute each; prints
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

from benchmarks import (
    commands,
    feeds,
    idle,
    people,
    real,
    reasoning,
    rollouts,
    timetables,
    together,
    views,
    visits,
)
from benchmarks.figures import Figure, keep, pace

PARTS = {
    "reasoning": reasoning.figures,
    "feeds": feeds.figures,
    "views": views.figures,
    "idle": idle.figures,
    "visits": visits.figures,
    "people": people.figures,
    "commands": commands.figures,
    "timetables": timetables.figures,
    "rollouts": rollouts.figures,
    "together": together.figures,
    "real": real.figures,
}
LONG = {"an-hour": timetables.an_hour}  # only where it is asked for


def main() -> int:
    asked = [word for word in sys.argv[1:] if word != "--keep"]
    wanted = asked or list(PARTS)
    parts = PARTS | LONG
    unknown = [name for name in wanted if name not in parts]
    if unknown:
        print(f"error: no part is called {unknown[0]!r}; parts: {', '.join(parts)}")
        return 2
    figures: list[Figure] = []
    paces: list[float] = []
    # Each part in a process of its own: what one leaves behind does not weigh on the next.
    with ProcessPoolExecutor(1, get_context("spawn"), max_tasks_per_child=1) as processes:
        for name in wanted:
            print(f"\n{name}", flush=True)
            measured, pace = processes.submit(_figures, name).result()
            figures += measured
            paces += pace
            if "--keep" in sys.argv:
                keep(measured, beside=True)
    print("\nthe machine")
    how = f"a loop of a million additions, before and after each part: {min(paces):.0f} to "
    how += f"{max(paces):.0f} ms; single times of a slow while are to be read with that in mind"
    figures.append(Figure("how unevenly the machine went", max(paces) / min(paces), "x", how=how))
    print(f"  {figures[-1].text()} {how}")
    if not asked:
        keep(figures)
    return 0


def _figures(name: str) -> tuple[list[Figure], tuple[float, float]]:
    """The figures of a part, each printed as soon as it is measured; the machine's pace before it
    and after it.
    """
    figures, before = [], pace()
    for figure in (PARTS | LONG)[name]():
        print(f"  {figure.text()}", flush=True)
        if figure.met is False and figure.how:
            print(f"    {figure.how}", flush=True)
        figures.append(figure)
    return figures, (before, pace())


if __name__ == "__main__":
    sys.exit(main())
