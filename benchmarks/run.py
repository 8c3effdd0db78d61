"""Every benchmark in one run, each figure beside what is wanted.

python -m benchmarks.run              all parts; writes benchmarks/latest.json, docs/speed.md
python -m benchmarks.run feeds idle   some parts; prints only
"""

from __future__ import annotations

import sys

from benchmarks import (
    commands,
    feeds,
    idle,
    reasoning,
    rollouts,
    timetables,
    together,
    views,
)
from benchmarks.figures import Figure, keep

PARTS = {
    "reasoning": reasoning.figures,
    "feeds": feeds.figures,
    "views": views.figures,
    "idle": idle.figures,
    "commands": commands.figures,
    "timetables": timetables.figures,
    "rollouts": rollouts.figures,
    "together": together.figures,
}


def main() -> int:
    wanted = sys.argv[1:] or list(PARTS)
    unknown = [name for name in wanted if name not in PARTS]
    if unknown:
        print(f"error: no part is called {unknown[0]!r}; parts: {', '.join(PARTS)}")
        return 2
    found: list[Figure] = []
    for name in wanted:
        print(f"\n{name}", flush=True)
        for figure in PARTS[name]():
            print(f"  {figure.text()}", flush=True)
            found.append(figure)
    if not sys.argv[1:]:
        keep(found)
    return 0


if __name__ == "__main__":
    sys.exit(main())
