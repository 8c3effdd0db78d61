"""What a site may have of the shelf. Being on the shelf gives no right.

A site may have a package from there that was uploaded for it, that it ran before, or that was
taken while it held a seat.
"""

from __future__ import annotations

from typing import Literal

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.packages import ShelfRight
from windbreak.operations.context import Context

Why = Literal["uploaded for it", "run by it", "taken under its seat"]


def give(context: Context, site: str, product: str, version: str, why: Why) -> ShelfRight:
    """Note that a site may have a package; the first reason stays. Writes."""
    right = ShelfRight(site=site, product=product, version=version, why=why, at=context.clock())
    earlier = context.store.rights.find(right.id)
    if earlier is not None and not (why == "uploaded for it" and earlier.why != why):
        return earlier
    return context.store.rights.put(right, right.id)


def remember(context: Context, before: Inventory | None, now: Inventory) -> None:
    """Note what a site runs as what it may have again. Writes."""
    was = {c.product: c.version for c in before.components} if before else {}
    for component in now.components:
        if was.get(component.product) != component.version and not component.product.startswith(
            "runtime/"
        ):
            give(context, now.id, component.product, component.version, "run by it")


def of_site(context: Context, site: str) -> list[ShelfRight]:
    """What a site may have of the shelf, as far as it is in hand. Reads."""
    return [
        right
        for right in context.store.rights.in_hand(site)
        if context.shelf.find(right.product, right.version) is not None
    ]
