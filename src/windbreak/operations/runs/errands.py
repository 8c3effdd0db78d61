"""Errands: work that only a person can do, closed by a person's word or by reading back."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from windbreak.core.values.accounts import Principal
from windbreak.core.values.errands import Brought, Errand, NewErrand
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.runs import Run
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused


def listed(context: Context, *, site: str | None = None, every: bool = False) -> list[Errand]:
    """The open errands, or all; the blocking ones first, then by their day. Reads."""
    of: dict[str, Any] = {} if every else {"open": True}
    if site is not None:
        of["site"] = site
    errands = context.store.errands.all(**of)
    return sorted(errands, key=lambda e: (not e.blocking, e.due is None, e.due, e.id))


def add(context: Context, new: NewErrand, by: Principal) -> Errand:
    """Write down an errand by hand. Writes."""
    site = context.store.sites.get(new.site)
    with context.store.transaction():
        errand = context.store.errands.add(
            Errand(
                id=0,
                site=new.site,
                kind="other",
                text=new.text,
                due=new.due,
                made_at=context.clock(),
            )
        )
        context.record(by.name, f"errand {errand.id} for {site.label}", new.site, why=new.text)
    return errand


def of_run(context: Context, run: Run, brought: Brought) -> Errand:
    """The errand of what a move brings, made where the run has none of it yet. Writes."""
    for errand in context.store.errands.all(site=run.site):
        if errand.run == run.id and (errand.product, errand.version, errand.text) == (
            brought.product,
            brought.version,
            brought.text,
        ):
            return errand
    days = brought.due_days
    return context.store.errands.add(
        Errand.model_validate(
            {
                "id": 0,
                "site": run.site,
                "kind": brought.kind,
                "text": brought.text,
                "product": brought.product,
                "version": brought.version,
                "step": brought.step,
                "run": run.id,
                "due": (context.clock().date() + timedelta(days=days)) if days else None,
                "blocking": brought.blocking,
                "made_at": context.clock(),
            }
        )
    )


def close(context: Context, errand_id: int, by: str, how: str) -> Errand:
    """Close an errand. Writes. Raises Refused when it was done already."""
    errand = context.store.errands.get(errand_id)
    if errand.closed_at is not None:
        raise Refused(
            "errand-done", f"errand {errand_id} was done by {errand.closed_by}: {errand.how}"
        )
    with context.store.transaction():
        changed = context.store.errands.change(
            errand_id, closed_at=context.clock(), closed_by=by, how=how
        )
        context.record(by, f"errand {errand_id} done: {errand.text}", errand.site, why=how)
    context.tell("run", str(errand.run or errand.site), f"errand {errand_id} done")
    return changed


def settle(context: Context, inventory: Inventory) -> None:
    """Close what an inventory shows to be done: a registration, a runtime. Writes."""
    for errand in context.store.errands.all(site=inventory.id, open=True):
        if errand.product is None:
            continue
        if errand.kind == "register":
            there = inventory.registration_of(errand.product)
            if there is not None and there.state == "registered":
                close(context, errand.id, "Windbreak", "read back: it is registered")
        elif errand.kind == "runtime" and inventory.version_of(errand.product) == errand.version:
            close(context, errand.id, "Windbreak", f"read back: {errand.version}")
