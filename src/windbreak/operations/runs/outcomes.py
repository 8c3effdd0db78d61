"""What came of each release in a run is kept: how often it was seen working, where it was put back.

A release counts as seen working where its run ended well: then every page was looked at beside it.
Of a step that failed each release counts as what was done about it, whichever of them it was.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.outcomes import Came, Outcome
from windbreak.core.values.runs import Run
from windbreak.core.values.verdicts import PlannedStep
from windbreak.operations.context import Context
from windbreak.wording.outcomes import outcome_text

_FAILED: dict[str, Came] = {"put back": "put back", "restored": "restored", "alarm": "alarm"}


def note(
    context: Context, run: Run, steps: Sequence[PlannedStep], failed: PlannedStep | None
) -> None:
    """Keep what came of the releases of a run that has ended; ``failed`` is the step that did.
    Within a transaction. Writes.
    """
    inventory = context.store.inventories.find(run.site)
    came: Came | None = "working" if run.state == "done" else _FAILED.get(run.state)
    if inventory is None or came is None:
        return
    reached = _reached(steps if failed is None else [failed])
    beside = _beside(inventory)
    for product, version in reached.items():
        context.store.outcomes.add(
            Outcome(
                id=0,
                product=product,
                version=version,
                site=run.site,
                run=run.id,
                at=run.ended_at or context.clock(),
                came=came,
                beside={p: v for p, v in beside.items() if p != product},
            )
        )


def _reached(steps: Iterable[PlannedStep]) -> dict[str, str]:
    """Where each product ended up in some steps; a stop on the way was not where it was left."""
    moves = [move for step in steps for move in step.moves]
    return {move.product: move.to for move in moves if move.to is not None}


def _beside(inventory: Inventory) -> dict[str, str]:
    """The neighbourhood of a release: core, theme in use, runtime."""
    return {
        c.product: c.version
        for c in inventory.components
        if c.active and c.product.partition("/")[0] in ("core", "theme", "runtime")
    }


def sentences(context: Context, product: str) -> dict[str, str]:
    """What came of each release of a product, in words, by version. Reads."""
    labels = {note.id: note.label for note in context.store.sites.notes().values()}
    by_version: dict[str, list[Outcome]] = {}
    for outcome in context.store.outcomes.all(product=product):
        by_version.setdefault(outcome.version, []).append(outcome)
    today = context.clock().date()
    return {v: outcome_text(every, labels, today) for v, every in by_version.items()}


def failed(context: Context) -> dict[tuple[str, str], str]:
    """What came of the releases that went wrong anywhere, in words, by product and version. Reads,
    anew only after a run has ended.
    """

    def made(_: object) -> dict[tuple[str, str], str]:
        wrong = {o.product for o in context.store.outcomes.all() if o.came != "working"}
        return {
            (product, version): text
            for product in wrong
            for version, text in sentences(context, product).items()
            if any(
                o.version == version and o.came != "working"
                for o in context.store.outcomes.all(product=product)
            )
        }

    key = context.store.database.generation("everything", "outcome")
    return context.cache.kept("failed outcomes", key, made)
