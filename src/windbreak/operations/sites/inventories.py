"""The one writer of inventories: what is on a site is taken in here, whoever brings it.

A refresh, a run and an import all come this way: folders that a product is known to lie in are
given its id, what changed is recorded (the store marks it for the projector), and what a site runs
becomes what it may have again, unless it is only being tried.
"""

from __future__ import annotations

from windbreak.core.values.inventories import Inventory
from windbreak.operations.context import Context
from windbreak.operations.tracking import rights


def take_in(context: Context, inventory: Inventory, *, tried: bool = False) -> Inventory:
    """Keep what is on a site now; it as it was kept. Writes.

    ``tried``: a run is under way. What it put there is no right of the site's until it has ended
    well: what is put back was never the site's.
    """
    named = _named(context, inventory)
    with context.store.transaction():
        if not tried and not context.store.runs.count(site=inventory.id, state="running"):
            rights.remember(context, context.store.inventories.find(inventory.id), named)
        context.store.inventories.put(named)
    return named


def _named(context: Context, inventory: Inventory) -> Inventory:
    """An inventory in which folders that a product is known to lie in bear its id."""
    lies_in = {
        f"{p.kind}/{folder}": p.id for p in context.store.products.all() for folder in p.folders
    }
    there = {c.product for c in inventory.components}
    renamed = tuple(
        c.model_copy(update={"product": lies_in[c.product]})
        if c.product in lies_in and lies_in[c.product] not in there
        else c
        for c in inventory.components
    )
    return inventory.model_copy(update={"components": renamed})
