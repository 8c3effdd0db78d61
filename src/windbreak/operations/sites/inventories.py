"""The one writer of inventories: what is on a site is taken in here, whoever brings it.

A refresh, a run and an import all come this way: folders that a product is known to lie in are
given its id, what changed is recorded (the store marks it for the projector), and what a site runs
becomes what it may have again, unless it is only being tried. What moved between two looks, and was
not moved by us, goes into the ledger as changed on the site: nothing tells who it was.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.ledger import LedgerEntry
from windbreak.operations.context import Context
from windbreak.operations.sites import turns
from windbreak.operations.tracking import rights

OTHER_HANDS = "Somebody on the site"
_NAMED_BEFORE = ("The site’s own updater", OTHER_HANDS)  # older lines took one for known
TOLD_FOR = timedelta(days=7)  # that a site moved something without us


def take_in(
    context: Context, inventory: Inventory, *, tried: bool = False, ours: bool = False
) -> Inventory:
    """Keep what is on a site now; it as it was kept. Writes.

    ``tried``: a run is under way. What it put there is no right of the site's until it has ended
    well: what is put back was never the site's. ``ours``: what changed was changed by us.
    """
    named = _named(context, inventory)
    with context.store.transaction():
        before = context.store.inventories.find(inventory.id)
        if not tried and not context.store.runs.count(site=inventory.id, state="running"):
            rights.remember(context, before, named)
            if before is not None and not ours:
                _note_moves(context, before, named)
        context.store.inventories.put(named)
        turns.note_checks(context, named.id, named.checks, named.at)
    return named


def _note_moves(context: Context, before: Inventory, now: Inventory) -> None:
    """Write down what moved on a site without us."""
    names = {c.product: c.name for c in (*before.components, *now.components)}
    asked = {
        (errand.product, errand.version)
        for errand in context.store.errands.all(site=now.id)
        if errand.kind == "runtime" and errand.run is not None
    }
    for product, was, is_ in _moves(before, now):
        if (product, is_) in asked:
            continue  # whoever did it did what an errand of a run asks for
        what = f"{names[product]} {was or 'absent'} → {is_ or 'gone'}"
        since = f"seen now; {before.at:%a %d %b, %H:%M} UTC it was not so yet"
        context.record(OTHER_HANDS, what, now.id, why="not by Windbreak", result=since)
        context.tell("site", now.id, f"{what}, moved by other hands than ours")


def _moves(before: Inventory, now: Inventory) -> Iterator[tuple[str, str | None, str | None]]:
    """What differs between two inventories: product, its version before and now."""
    was = {c.product: c.version for c in before.components}
    is_ = {c.product: c.version for c in now.components}
    for product in sorted(was.keys() | is_.keys()):
        if was.get(product) != is_.get(product):
            yield product, was.get(product), is_.get(product)


def moved_by_others(context: Context, site: str) -> list[LedgerEntry]:
    """What was moved on a site without us of late, the newest first. Reads."""
    since = context.clock() - TOLD_FOR
    lines = context.store.ledger.all(subject=site, newest_first=True, limit=40)
    return [x for x in lines if x.who in _NAMED_BEFORE and x.at >= since]


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
