"""What people decide beside plans: holds."""

from __future__ import annotations

import secrets

from windbreak.core.fleet import NewHold, StandingHold
from windbreak.core.work import Principal
from windbreak.operations import reasoning
from windbreak.operations.context import Context


def hold(context: Context, new: NewHold, by: Principal) -> StandingHold:
    """Decide not to move a product. Writes. Raises NotFound for a site that is not there."""
    if new.site is not None:
        context.store.sites.get(new.site)
    with context.store.transaction():
        kept = context.store.holds.add(
            StandingHold(
                **dict(new), id=secrets.token_hex(4), author=by.name, made_at=context.clock()
            )
        )
        where = new.site or "everywhere"
        context.record(by.name, f"{new.product} held {where}", new.product, why=new.reason)
    context.tell("hold", new.product, f"held {where}")
    _touch(context, kept)
    return kept


def lift(context: Context, id: str, by: Principal) -> None:
    """Lift a hold. Writes. Raises NotFound."""
    known = context.store.holds.get(id)
    with context.store.transaction():
        context.store.holds.drop(id)
        context.record(by.name, f"hold on {known.product} lifted", known.product)
    context.tell("hold", known.product, "lifted")
    _touch(context, known)


def _touch(context: Context, hold: StandingHold) -> None:
    if hold.site is not None:
        context.store.rows.touch(hold.site)
    else:
        reasoning.touch(context, [hold.product])
