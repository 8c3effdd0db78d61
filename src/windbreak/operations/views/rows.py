"""Rows of sites: each site in one line, made of its situation and what goes on there."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from windbreak.core.values.basics import State
from windbreak.core.values.matters import Matter
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.core.values.visits import WRONG, Visit
from windbreak.documents.sites import SiteSummary
from windbreak.operations.context import Context
from windbreak.operations.views.standings import KINDS, SituationView

_UNLINKED: dict[str, State] = {
    "down": "failed",
    "silent": "unknown",
    "refused": "unknown",
    "unlinked": "unknown",
}


@dataclass(frozen=True)
class Doings:
    """What goes on at some sites, read at once."""

    hosts: dict[str, str]
    running: dict[str, Run]
    matters: dict[str, Matter]
    next_booking: dict[str, datetime]
    approved: frozenset[str]
    broken: dict[str, Visit]

    @classmethod
    def read(cls, context: Context, sites: Iterable[str] | None = None) -> Doings:
        """What goes on at some sites, or all. Reads."""
        store = context.store
        some = None if sites is None else frozenset(sites)
        of: dict[str, Any] = {} if some is None else {"site": some}
        bookings: dict[str, datetime] = {}
        for booking in store.bookings.all(state="waiting", **of):
            reckoned = bookings.get(booking.site, booking.starts_at)
            bookings[booking.site] = min(reckoned, booking.starts_at)
        return cls(
            {host.id: host.name for host in store.hosts.all()},
            {run.site: run for run in store.runs.all(state="running", **of)},
            {matter.site: matter for matter in store.matters.all(open=True, **of)},
            bookings,
            frozenset([plan.site for plan in store.plans.all(state="approved", **of)]),
            {v.id: v for v in store.visits.all(state=WRONG) if some is None or v.id in some},
        )


def row_of(
    site: Site, view: SituationView | None, doings: Doings, fault: str | None = None
) -> SiteSummary:
    """A site as a row; ``fault`` is why it could not be reasoned about."""
    state: State = view.state if view else "clear"
    text = view.text if view else ""
    running, matter = doings.running.get(site.id), doings.matters.get(site.id)
    broken = doings.broken.get(site.id)
    if running is not None:
        state, text = "running", running.waiting or running.text
    elif fault is not None:
        state, text = "unknown", f"It can’t be reasoned about: {fault}"
    elif broken is not None and site.link.state not in ("down", "unlinked"):
        state, text = "failed", broken.reason
    elif site.link.state != "linked":
        state, text = _UNLINKED[site.link.state], site.link.reason
    elif matter is not None:
        state, text = "failed", matter.told or matter.text
    return SiteSummary(
        id=site.id,
        label=site.label,
        client=site.client,
        host=site.host,
        host_name=doings.hosts.get(site.host or "", "elsewhere"),
        environment=site.environment,
        twin_of=site.twin_of,
        address=site.address,
        link=site.link.state,
        state=state,
        moves=view.moves if view else dict.fromkeys(KINDS, 0),
        held=view.held if view else 0,
        text=text,
        facts_at=site.facts_at,
        next_booking=doings.next_booking.get(site.id),
        approved=site.id in doings.approved,
        running=running.id if running else None,
        progress=_progress(running) if running else None,
        tags=site.tags,
        fault=fault,
    )


def _progress(run: Run) -> float:
    return min(1.0, max(0.05, (run.step - 0.5) / max(1, run.steps)))
