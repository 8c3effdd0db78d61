"""The morning's page: what wants attention, what is booked, how old the facts are."""

from __future__ import annotations

from windbreak.documents.today import Today
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.findings import beginnings, findings
from windbreak.operations.tracking import feeds
from windbreak.operations.views import sites as site_views


def today(context: Context) -> str:
    """What wants attention, what is booked, and how old the facts are: as the JSON of ``Today``.

    The rows of the sites are kept as JSON and go out as they are; there may be ten thousand. Reads.
    """
    ages = [
        (f.label, "fresh" if f.state == "fresh" else f"{f.state}: {f.reason}", f.polled_at)
        for f in feeds.listed(context)
    ]
    bookings = sorted(context.store.bookings.all(state="waiting"), key=lambda b: b.starts_at)
    awake, asleep = findings.parted(context)
    page = Today(
        at=context.clock(),
        findings=tuple(awake),
        asleep=tuple(asleep),
        sites=(),
        totals=site_views.totals(context),
        bookings=tuple(bookings),
        feeds=tuple(ages),
        drives=instance.may_drive(context),
        beginnings=beginnings.of(context),
    )
    rest = page.model_dump_json(exclude={"sites"}).removesuffix("}")
    rows, _, _ = site_views.rows(context, site_views.Wanted())
    return f'{rest},"sites":[{",".join(rows)}]}}'
