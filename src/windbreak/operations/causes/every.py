"""What gives cause for a finding: each cause looks at what is kept and says what it sees.

The sentences say what, why and the next act; they are made with the causes, from the data.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from windbreak.core.values.findings import Finding
from windbreak.core.values.runs import WENT_WRONG
from windbreak.core.values.sites import Site
from windbreak.documents.products import Standing
from windbreak.operations.causes import feeds, licences, releases, sites
from windbreak.operations.context import Context
from windbreak.operations.reports import settle


def all_of(context: Context) -> Iterator[Finding]:
    """Everything that wants attention now. Reads; stale rows are worked out first."""
    while settle(context):
        pass
    known = {s.id: s for s in context.store.sites.all() if s.retired_at is None}
    standings: dict[str, list[Standing]] = defaultdict(list)
    for standing in context.store.rows.standings():
        if standing.site in known:
            standings[standing.site].append(standing)
    names = {p.id: p.name for p in context.store.products.all()}
    approved, last = context.store.approved(), context.store.last_runs()
    ready: list[tuple[Site, int]] = []
    for site in known.values():
        yield from sites.of_link(context, site)
        run = last.get(site.id)
        wrong = run is not None and run.state in WENT_WRONG
        if run is not None and wrong:
            yield sites.of_run(context, site, run)
        moving = sum(s.target is not None for s in standings[site.id])
        # What went wrong is looked at before more is offered.
        if moving and not wrong and site.id not in approved and site.link.state == "linked":
            ready.append((site, moving))
        yield from sites.of_blocks(context, site, standings[site.id])
    for inventory in context.store.inventories_of_note():
        if inventory.id in known:
            yield from sites.of_registrations(context, known[inventory.id], inventory, names)
    yield from sites.of_plans(context, ready)
    yield from releases.of_soaks(context, standings, names)
    yield from releases.of_advisories(context, standings, known, names)
    yield from feeds.of_feeds(context)
    yield from releases.of_releases(context, standings, names)
    yield from releases.of_withdrawn(context)
    yield from licences.of_licences(context)
    yield from licences.of_forecasts(context)
    yield from sites.of_namesakes(context)
    yield from sites.of_copies(context, known)
    yield from releases.of_watch(context, standings, names)
    yield from sites.of_bookings(context)
    yield from sites.of_reviews(context, names)
    yield from sites.of_instance(context)
