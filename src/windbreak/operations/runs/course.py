"""The course of a run: its plan's steps, or those that were planned anew on the way."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.journal import ActKind, JournalEntry, planned_anew
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.verdicts import PlannedStep


@dataclass(frozen=True)
class Course:
    """A run's steps, and what the site ran before the first of those after ``after``."""

    steps: tuple[PlannedStep, ...]
    start: Mapping[str, str]
    after: int
    turns: int

    def expected(self, number: int) -> dict[str, str]:
        """What the site is to run once a step is done."""
        there = dict(self.start)
        for step in self.steps[self.after : number]:
            for move in step.moves:
                if move.to is None:
                    there.pop(move.product, None)
                else:
                    there[move.product] = move.to
        return there


def course(plan: SitePlan, entries: Iterable[JournalEntry]) -> Course:
    """The course of a run, from its plan and its journal."""
    steps, start, after, turns = plan.plan.steps, dict(plan.start), 0, 0
    for entry in entries:
        if entry.kind == ActKind.PLANNED_ANEW and entry.state == "done":
            anew = planned_anew(0, 0).brought_by(entry)
            after, turns, start = anew.after, turns + 1, dict(anew.start)
            steps = (*steps[:after], *anew.steps)
    return Course(steps, start, after, turns)


def switched_off(
    on: Collection[str], inventory: Inventory, names: Mapping[str, str]
) -> dict[str, str]:
    """What was on and is off on a site, in words, by product. What is gone is not off, and what is
    on for some members of a network only is left out.
    """
    return {
        c.product: f"{names.get(c.product, c.product)} is off and was on"
        for c in inventory.components
        if c.product in on and not c.active and c.product not in inventory.partly_on
    }


def differing(
    expected: Mapping[str, str], inventory: Inventory, names: Mapping[str, str]
) -> list[str]:
    """What is not as expected on a site, in words, by product."""
    there = {c.product: c.version for c in inventory.components}
    differences = []
    for product in sorted({*expected, *there}):
        have, want = there.get(product), expected.get(product)
        if have == want:
            continue
        name = names.get(product, product)
        if want is None:
            differences.append(f"{name} {have} is there, which was not")
        elif have is None:
            differences.append(f"{name} {want} is gone")
        else:
            differences.append(f"{name} is {have} and should be {want}")
    return differences
