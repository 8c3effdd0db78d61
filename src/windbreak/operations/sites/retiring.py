"""Retiring a site: its work is stopped, its link ended, its seats freed; its history stays."""

from __future__ import annotations

from windbreak.core.values.accounts import Principal
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licensing
from windbreak.operations.scheduling import bookings
from windbreak.operations.sites import sites


def retire(context: Context, site_id: str, by: Principal, why: str = "") -> Site:
    """Retire a site. Writes. Raises Refused while a run is under way, and when it is retired."""
    site = context.store.sites.get(site_id)
    if site.retired_at is not None:
        raise Refused("retired", f"{site.label} is retired already")
    for run in context.store.runs.all(site=site_id, state="running"):
        raise Refused("site-busy", f"run {run.id} is under way on {site.label}; stop it first")
    twins = [t for t in context.store.sites.all(twin_of=site_id) if t.retired_at is None]
    if twins:
        raise Refused(
            "has-a-twin", f"{twins[0].label} stands for {site.label}; retire the twin first"
        )
    done = []
    for booking in context.store.bookings.all(site=site_id, state="waiting"):
        bookings.withdraw(context, booking.id, by, "the site is retired")
        done.append(f"booking {booking.id} withdrawn")
    if context.store.agents.key(site_id) is not None:
        sites.unlink(context, site_id, by)
        done.append("link ended")
    freed = licensing.free_seats_of(context, site_id, by)
    if freed:
        done.append(f"seats freed: {', '.join(freed)}")
    with context.store.transaction():
        changed = context.store.sites.change(site_id, retired_at=context.clock())
        context.store.views.drop_row(site_id)
        context.record(by.name, f"{site.label} retired", site_id, why=why, result="; ".join(done))
    context.tell("site", site_id, "retired")
    return changed
