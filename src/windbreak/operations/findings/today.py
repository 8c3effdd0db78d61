"""The morning's page: what wants attention, what is booked, how old the facts are."""

from __future__ import annotations

from windbreak.documents.today import Today
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.findings import findings
from windbreak.operations.tracking import feeds
from windbreak.operations.views import sites as site_views


def today(context: Context) -> Today:
    """What wants attention, what is booked, and how old the facts are. Reads."""
    ages = [
        (f.label, "fresh" if f.state == "fresh" else f"{f.state}: {f.reason}", f.polled_at)
        for f in feeds.listed(context)
    ]
    bookings = sorted(context.store.bookings.all(state="waiting"), key=lambda b: b.starts_at)
    return Today(
        at=context.clock(),
        findings=tuple(findings.listed(context)),
        asleep=tuple(findings.asleep(context)),
        sites=tuple(site_views.summaries(context)),
        bookings=tuple(bookings),
        feeds=tuple(ages),
        drives=instance.may_drive(context),
    )
