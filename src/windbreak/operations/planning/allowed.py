"""What stands against the steps of a plan as everything is now: the permit, in words.

Asked for all steps that are left: when a run begins, before each of its steps, and for what is
booked, whenever something arrives that could refuse.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from windbreak.core.resolution.permit import permit
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedStep
from windbreak.operations.context import Context
from windbreak.operations.planning import brought, removing
from windbreak.operations.reasoning.cases import Ground
from windbreak.wording.permits import refusal_texts


def refused(
    context: Context,
    ground: Ground,
    site: Site,
    inventory: Inventory,
    steps: Iterable[tuple[int, PlannedStep]],
) -> Iterator[tuple[int, list[str]]]:
    """The steps of which something stands against, by their numbers, each after those before it,
    in sentences. What comes after a step with which something leaves is not looked at: it depends
    on what that leaves. Reads.
    """
    case = ground.case(site, inventory)
    compiled = ground.catalogue.compiled.beside(case)
    reached: dict[str, str] = {}
    for number, step in steps:
        reached |= {move.product: move.to for move in step.moves if move.to is not None}
        asked = permit(case, compiled, reached.items())
        too_little = brought.too_little(context, inventory, [step])
        against = [*refusal_texts(case, asked), *(f"{text}." for text in too_little)]
        if step.leaving:
            against += removing.against(context, case, step.leaving)
        if against:
            yield number, against
        if step.leaving:
            return
