"""A measured figure, beside what is wanted, and how all of one run are printed and kept."""

from __future__ import annotations

import json
import os
import platform
import time
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
LATEST = ROOT / "benchmarks/latest.json"
TABLE = ROOT / "docs/speed.md"


@dataclass(frozen=True)
class Figure:
    """``wanted`` in the same unit; ``more``: more is better. ``how`` tells what it is of."""

    name: str
    value: float
    unit: str
    wanted: float | None = None
    more: bool = False
    how: str = ""

    @property
    def met(self) -> bool | None:
        if self.wanted is None:
            return None
        return self.value >= self.wanted if self.more else self.value <= self.wanted

    def text(self) -> str:
        sign = ">=" if self.more else "<="
        wanted = f"{sign} {_number(self.wanted)}{_after(self.unit)}" if self.wanted else ""
        mark = {True: "met", False: "NOT MET", None: ""}[self.met]
        return f"{self.name:58} {_number(self.value):>8}{_after(self.unit):4} {wanted:12} {mark}"


def _number(value: float | None) -> str:
    if value is None:
        return ""
    return f"{value:.0f}" if value >= 100 else f"{value:.1f}" if value >= 10 else f"{value:.2f}"


def _after(unit: str) -> str:
    return unit if unit in ("x", "%") else f" {unit}"


def timed(work: Callable[[], Any], rounds: int = 1) -> tuple[float, Any]:
    """The least of a few rounds, in milliseconds, and what came of the last."""
    best, found = float("inf"), None
    for _ in range(rounds):
        start = time.perf_counter()
        found = work()
        best = min(best, (time.perf_counter() - start) * 1000)
    return best, found


def _read(line: str) -> Figure:
    fields = json.loads(line)
    fields.pop("met", None)
    return Figure(**fields)


def pace() -> float:
    """Milliseconds for a loop of a million additions."""

    def loop() -> int:
        total = 0
        for n in range(1_000_000):
            total += n
        return total

    return timed(loop)[0]


def keep(figures: Iterable[Figure], *, beside: bool = False) -> None:
    """Write the figures of a whole run: one JSON line each, and the table in the docs. ``beside``:
    those of some parts, in the place of those of their names from runs before.
    """
    rows = list(figures)
    if beside:
        new = {row.name: row for row in rows}
        before = [_read(line) for line in LATEST.read_text().splitlines()[1:]]
        rows = [new.pop(row.name, row) for row in before] + list(new.values())
    machine = {
        "at": datetime.now(UTC).isoformat(timespec="seconds"),
        "cores": os.cpu_count(),
        "python": platform.python_version(),
        "sqlite": __import__("sqlite3").sqlite_version,
        "system": f"{platform.system()} {platform.machine()}",
    }
    lines = [json.dumps(machine), *(json.dumps({**asdict(f), "met": f.met}) for f in rows)]
    LATEST.write_text("\n".join(lines) + "\n")
    head, _, _ = TABLE.read_text().partition("<!-- figures -->")
    table = ["<!-- figures -->", "", "| what | measured | wanted | |", "|---|---|---|---|"]
    for f in rows:
        sign = "≥" if f.more else "≤"
        wanted = f"{sign} {_number(f.wanted)}{_after(f.unit)}" if f.wanted else ""
        mark = {True: "met", False: "**not met**", None: ""}[f.met]
        table.append(f"| {f.name} | {_number(f.value)}{_after(f.unit)} | {wanted} | {mark} |")
    table += [
        "",
        f"{machine['at'][:10]}, {machine['cores']} cores, Python {machine['python']}.",
        "",
    ]
    TABLE.write_text(head + "\n".join(table))
