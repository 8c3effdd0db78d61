"""Lockstep groups and clashes: entered and dropped."""

from __future__ import annotations

import secrets
from collections.abc import Iterable

from windbreak.core.values.accounts import Principal
from windbreak.core.values.ties import ClashSide, KnownClash, KnownLockstep, NewClash, NewLockstep
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.wording.words import match_in_words


def set_lockstep(context: Context, new: NewLockstep, by: Principal) -> KnownLockstep:
    """Say that products must match. Writes. Raises Refused for a product nobody knows."""
    _require_listed(context, new.products)
    with context.store.transaction():
        kept = context.store.locksteps.add(
            KnownLockstep(
                **dict(new), id=secrets.token_hex(4), author=by.name, made_at=context.clock()
            )
        )
        what = f"{', '.join(kept.products)} must {match_in_words(kept.match)}"
        context.record(by.name, what, kept.products[0], why=new.reason)
    context.tell("tie", kept.products[0], what)
    return kept


def drop_lockstep(context: Context, id: str, by: Principal) -> None:
    """Products need match no longer. Writes. Raises NotFound."""
    lockstep = context.store.locksteps.get(id)
    with context.store.transaction():
        context.store.locksteps.drop(id)
        what = f"{', '.join(lockstep.products)} need not match any more"
        context.record(by.name, what, lockstep.products[0])
    context.tell("tie", lockstep.products[0], what)


def add_clash(context: Context, new: NewClash, by: Principal) -> KnownClash:
    """Say that two products don't work together. Writes. Raises Refused for one nobody knows."""
    _require_listed(context, new.products)
    with context.store.transaction():
        kept = context.store.clashes.add(
            KnownClash(
                **dict(new), id=secrets.token_hex(4), author=by.name, made_at=context.clock()
            )
        )
        what = f"{_side_text(new.a)} and {_side_text(new.b)} clash"
        context.record(by.name, what, new.a.product, why=new.reason)
    context.tell("tie", new.products[0], what)
    return kept


def drop_clash(context: Context, id: str, by: Principal) -> None:
    """Two products clash no longer. Writes. Raises NotFound."""
    clash = context.store.clashes.get(id)
    with context.store.transaction():
        context.store.clashes.drop(id)
        what = f"{_side_text(clash.a)} and {_side_text(clash.b)} are no clash any more"
        context.record(by.name, what, clash.a.product)
    context.tell("tie", clash.products[0], what)


def of_product(context: Context, product: str) -> tuple[list[KnownLockstep], list[KnownClash]]:
    """The lockstep groups and the clashes that a product is in. Reads."""
    return (
        [g for g in context.store.locksteps.all() if product in g.products],
        [c for c in context.store.clashes.all() if product in c.products],
    )


def _side_text(side: ClashSide) -> str:
    return side.product if side.range == "*" else f"{side.product} {side.range}"


def _require_listed(context: Context, products: Iterable[str]) -> None:
    for product in products:
        if context.store.products.find(product) is None:
            raise Refused(
                "unknown-product", f"no feed and nobody has told of {product}; see the products"
            )
