"""How long reasoning takes, beside reading the same file: `make bench`.

For each family of cases: the median over its files of reading, the best choice, the answer with
all reasons, and the order, in one process on one core, and each as a ratio to reading. Larger
cases are taken from ../shared/cases where that is there; orders are timed for the small ones.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from typing import Any

from windbreak.core.case import read_case
from windbreak.core.explain import answer
from windbreak.core.order import order
from windbreak.core.resolve import resolve

ROOT = Path(__file__).parent.parent
OWN = ROOT / "tests/data/cases"
MORE = ROOT.parent / "shared/cases"
ROUNDS = 3


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """The least of a few rounds, in milliseconds, and what came of it."""
    best, found = float("inf"), None
    for _ in range(ROUNDS):
        start = time.perf_counter()
        found = work()
        best = min(best, (time.perf_counter() - start) * 1000)
    return best, found


def main() -> None:
    print(f"{'cases':8} {'files':>5} {'reading':>9} {'choice':>16} {'reasons':>16} {'order':>16}")
    for family, folder in (("hand", OWN), ("small", OWN), ("site", MORE), ("large", MORE)):
        rows: list[list[float]] = []
        for path in sorted(folder.glob(f"{family}-*.json")):
            text = path.read_bytes()
            reading, case = timed(lambda text=text: read_case(text))
            choice, resolution = timed(lambda case=case: resolve(case))
            row = [reading, choice]
            if folder is OWN:
                row.append(timed(lambda r=resolution: answer(r))[0])
                row.append(timed(lambda r=resolution: order(r))[0])
            rows.append(row)
        if rows:
            middle = [median(column) for column in zip(*rows, strict=True)]
            cells = [f"{ms:7.1f} ms x{ms / middle[0]:5.1f}" for ms in middle[1:]]
            print(f"{family:8} {len(rows):5} {middle[0]:6.1f} ms " + " ".join(cells))


if __name__ == "__main__":
    main()
