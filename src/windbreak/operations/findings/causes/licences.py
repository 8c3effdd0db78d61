"""What gives cause for a finding in licences and seats."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date

from windbreak.core.values.findings import Finding, Weight
from windbreak.core.values.licences import Licence
from windbreak.documents.licences import LicenceView
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.operations.licensing import licence_forecasts, licence_rights, licence_views
from windbreak.wording.words import counted, day, listed

ENDS_SOON = 60  # days before a licence's end at which it is said


def of_licence(context: Context, id: str) -> Iterator[Finding]:
    kept = context.store.licences.find(id)
    for view in [licence_views.view(context, id)] if kept else []:
        yield from _of_end(context, view)
        licence = view.licence
        see = act("Open licences", "see-licence", licence=licence.id)
        without = [s for s in view.without if not _is_told(context, s, view.covers)]
        if without:
            labels = listed([context.store.sites.get(s).label for s in without])
            use = "uses" if len(without) == 1 else "use"
            yield finding(
                context,
                f"seat:{licence.id}",
                "blocked",
                "medium",
                None,
                f"**{licence.label}**: {labels} {use} it without a seat.",
                "No release of it is taken there until it has one. "
                + (
                    f"{counted(view.free, 'seat')} free."
                    if view.free
                    else "No seat is free: buy one first."
                    if view.free == 0
                    else "Seats are without limit."
                ),
                see,
            )
        yield from _of_idle_seats(context, view)
        if view.still_old:
            labels = listed([context.store.sites.get(s).label for s in view.still_old])
            yield finding(
                context,
                f"rotation:{licence.id}",
                "blocked",
                "medium",
                None,
                f"**{licence.label}**: the old code is still in use.",
                f"Not revoked yet, then: {labels} {'has' if len(view.still_old) == 1 else 'have'} "
                "it. Enter the new one there first.",
                act("Enter it", "enter-code", licence=licence.id),
            )
        account = context.store.accounts.find(licence.set_up_by) if licence.set_up_by else None
        if account is not None and account.closed_at is not None:
            yield finding(
                context,
                f"setter:{licence.id}",
                "blocked",
                "low",
                None,
                f"**{licence.label}** was entered by {account.name}, whose account is closed.",
                f"Bought by {licence.bought_by or 'nobody that is named'}. Make sure that somebody "
                "who is here can renew it.",
                see,
            )


def _of_idle_seats(context: Context, view: LicenceView) -> Iterator[Finding]:
    """Seats that give a site nothing: it runs none of what they cover, or has another for it."""
    licence, today = view.licence, context.clock().date()
    rights = licence_rights.kept(context)
    for held in view.seats:
        inventory = context.store.inventories.find(held.seat.site)
        if inventory is None or held.seat.riding:
            continue
        site = context.store.sites.get(held.seat.site)
        there = {c.product for c in inventory.components} & set(view.covers)
        give_back = act("Take it back", "unseat", licence=licence.id, site=site.id)
        if not there:
            yield finding(
                context,
                f"idle-seat:{licence.id}:{site.id}",
                "waiting",
                "low",
                site,
                f"**{site.label}** has a seat of {licence.label} and runs nothing that it covers.",
                "Taken back, it is free for another site.",
                give_back,
            )
            continue
        others = [
            other
            for other, covers in rights.of(site)
            if other.id != licence.id
            and other.seated
            and not other.ended(today)
            and there <= set(covers)
            and _is_wider(other, licence)
        ]
        if others and not licence.ended(today):
            yield finding(
                context,
                f"second-seat:{licence.id}:{site.id}",
                "waiting",
                "low",
                site,
                f"**{site.label}** has seats of {licence.label} and of {others[0].label} for the "
                "same.",
                f"{others[0].label} gives all that {licence.label} does there.",
                give_back,
            )


def _is_wider(licence: Licence, other: Licence) -> bool:
    """Whether a licence gives all that another does; of two that are alike the later one."""
    key = (
        licence.range == "*",
        licence.covers_until or date.max,
        licence.expires or date.max,
        licence.id,
    )
    return key > (
        other.range == "*",
        other.covers_until or date.max,
        other.expires or date.max,
        other.id,
    ) and (licence.range in ("*", other.range))


_LACKING = ("no seat", "not covered", "no licence")


def _is_told(context: Context, site: str, products: Iterable[str]) -> bool:
    """Whether a finding of the site tells that it lacks the right to one of some products."""
    some = set(products)
    return any(
        root.kind in _LACKING and (standing.product in some or root.through in some)
        for standing in context.store.views.standings_of_site(site)
        if standing.state in ("blocked", "exposed")
        for root in standing.roots
    )


def _of_end(context: Context, view: LicenceView) -> Iterator[Finding]:
    licence, today = view.licence, context.clock().date()
    ends = licence.expires or licence.covers_until
    if ends is None or (ends - today).days > ENDS_SOON:
        return
    left = (ends - today).days
    verb = "ends" if licence.expires else "covers releases only to"
    if left < 0:
        verb = "ended" if licence.expires else "covers no releases since"
    weight: Weight = "high" if left <= 14 else "medium"
    renew = act("Renew it", "renew", licence=licence.id)
    yield finding(
        context,
        f"licence-end:{licence.id}",
        "blocked" if left < 0 else "waiting",
        weight,
        None,
        f"**{licence.label}** {verb} {day(ends, today)}.",
        f"{view.stops} Bought by {licence.bought_by or 'nobody that is named'}."
        + (
            f" {licence.renewal[:1].upper()}{licence.renewal[1:].rstrip('.')}."
            if licence.renewal
            else ""
        ),
        renew if left < 0 else act("Open licences", "see-licence", licence=licence.id),
        ends,
    )


def of_forecasts(context: Context) -> Iterator[Finding]:
    for forecast in licence_forecasts.forecasts(context):
        untold = [s for s in forecast.sites if not _is_told(context, s, (forecast.product,))]
        if not forecast.missing or not untold:
            continue
        yield finding(
            context,
            f"forecast:{forecast.product}",
            "blocked",
            "medium",
            None,
            f"**{forecast.name}** `{forecast.version}` needs {counted(forecast.missing, 'seat')} "
            "more than there are.",
            forecast.text,
            act("Open licences", "see-forecasts"),
        )
