"""How licences and their seats stand: read back from sites, and what stops when one ends."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from windbreak.core.values.inventories import Inventory, Registration
from windbreak.core.values.licences import Licence, Seat
from windbreak.documents.licences import Entered, LicenceView, SeatView
from windbreak.operations.context import Context
from windbreak.operations.licensing import licence_codes, licence_rights
from windbreak.wording.words import counted, day, listed


def views(context: Context) -> list[LicenceView]:
    """Every licence as it stands, those that end first first. Reads."""
    far = date.max
    licences = context.store.licences.all()
    licences.sort(key=lambda x: (x.expires or far, x.covers_until or far, x.label))
    with context.store.database.remembered():
        return [view(context, licence.id) for licence in licences]


def view(context: Context, licence_id: str) -> LicenceView:
    """One licence as it stands. Reads."""
    licence = context.store.licences.get(licence_id)
    covers = licence_rights.covered(context, licence)
    held = context.store.seats.all(licence=licence_id)
    seats = tuple(seat_view(context, licence, seat) for seat in held)
    own = sum(not seat.riding for seat in held)
    users = _users(context, covers)
    without: tuple[str, ...] = ()
    if licence.seated:
        others = _otherwise_licensed(context, licence, covers)
        without = tuple(s for s in users if s not in {x.site for x in held} and s not in others)
    reaches = tuple(seat.site for seat in held) if licence.seated else tuple(users)
    if licence.form == "through a theme":
        reaches = tuple(s for s in users if licence.through in _on(context, s))
    still_old = tuple(
        v.seat.site for v in seats if v.state == "other code" or _entered_old(licence, v.seat)
    )
    free = None if licence.seats is None or not licence.seated else licence.seats - own
    return LicenceView(
        licence=licence,
        seats=seats,
        own=own,
        riders=len(held) - own,
        free=free,
        without=without,
        still_old=still_old,
        covers=covers,
        reaches=reaches,
        stops=_stops(context, licence, covers, reaches),
        text=_text(context, licence, len(without), free),
    )


def _entered_old(licence: Licence, seat: Seat) -> bool:
    """Whether the code that was last entered there is one that was replaced since."""
    wanted = seat.code or licence.code
    return seat.entered is not None and wanted is not None and seat.entered != wanted


def _on(context: Context, site: str) -> set[str]:
    inventory = context.store.inventories.find(site)
    return {c.product for c in inventory.components} if inventory else set()


def _users(context: Context, products: Iterable[str]) -> list[str]:
    """Live sites that run one of some products, switched on. Reads."""
    users = {
        site
        for product in products
        for site, _, _, active in context.store.inventories.installed(product)
        if active
    }
    live = (context.store.sites.get(site) for site in sorted(users))
    return [site.id for site in live if site.environment == "production"]


def _otherwise_licensed(context: Context, licence: Licence, covers: tuple[str, ...]) -> set[str]:
    """Sites whose right to every covered product they run comes from elsewhere. Reads."""
    rights = licence_rights.rights(context)
    others = licence_rights.Rights(
        tuple((x, p) for x, p in rights.licences if x.id != licence.id), rights.seats, rights.taken
    )
    sites = set()
    for site in _users(context, covers):
        there = context.store.sites.get(site)
        have = {x.product for x in licence_rights.for_case(others, there)}
        have |= _carried_on(context, site)
        if set(licence_codes.installed_of(context, site, covers)) <= have:
            sites.add(site)
    return sites


def _carried_on(context: Context, site: str) -> set[str]:
    """The plugins that the themes of a site carry in some release. Reads."""
    inventory = context.store.inventories.find(site)
    return {
        plugin
        for component in (inventory.components if inventory else ())
        if component.product.startswith("theme/") and component.active
        for release in context.store.releases.all(product=component.product)
        for plugin in release.bundles
    }


def seat_view(context: Context, licence: Licence, seat: Seat) -> SeatView:
    """A seat with what the agent read back on its site. Reads."""
    site = context.store.sites.get(seat.site)
    inventory = context.store.inventories.find(seat.site)
    state, until = _entered(context, licence, seat, inventory)
    today = context.clock().date()
    words = {
        "registered": "its code is in place",
        "grace": f"in grace till {day(until, today)}" if until else "in grace",
        "missing": "no code has been entered there",
        "unknown": "its agent can't tell",
        "other code": "another code than ours is in place",
        "not asked": "it has not been asked",
    }
    return SeatView(
        seat=seat,
        site_label=site.label,
        state=state,
        until=until,
        read_at=inventory.at if inventory else None,
        text=f"{site.label}: {words[state]}{', riding along' if seat.riding else ''}.",
    )


def _entered(
    context: Context, licence: Licence, seat: Seat, inventory: Inventory | None
) -> tuple[Entered, date | None]:
    if inventory is None:
        return "not asked", None
    registrations = [inventory.registration_of(p) for p in licence_rights.covered(context, licence)]
    certain = [r for r in registrations if r is not None]
    if not certain:
        return "unknown", None
    worst = min(certain, key=lambda r: ("missing", "grace", "unknown", "registered").index(r.state))
    if worst.state == "registered" and _is_other(context, licence, seat, certain):
        return "other code", None
    return worst.state, worst.until


def _is_other(
    context: Context, licence: Licence, seat: Seat, registrations: list[Registration]
) -> bool:
    code = licence_codes.code_of(context, licence, seat)
    return code is not None and any(r.last4 and r.last4 != code[-4:] for r in registrations)


def _names(context: Context, products: Iterable[str]) -> list[str]:
    names = []
    for product_id in products:
        product = context.store.products.find(product_id)
        names.append(product.name if product else product_id)
    return names


def _stops(
    context: Context, licence: Licence, covers: tuple[str, ...], reaches: tuple[str, ...]
) -> str:
    """What stops when a licence lapses, and what hangs on it, carried plugins too."""
    carried = sorted(
        {
            plugin
            for product in covers
            if product.startswith("theme/")
            for release in context.store.releases.all(product=product)
            for plugin in release.bundles
            if plugin not in covers
        }
    )
    named = listed(_names(context, covers)) or "What it covers"
    verb = "gets" if len(covers) == 1 else "get"
    text = f"{named} {verb} no newer releases on {counted(len(reaches), 'site')}."
    if carried:
        text += f" {listed(_names(context, carried))} come with them and stay as well."
    return text + " The sites run on."


def _text(context: Context, licence: Licence, without: int, free: int | None) -> str:
    """How a licence stands, in a sentence or two."""
    today = context.clock().date()
    parts = []
    if licence.ended(today):
        assert licence.expires is not None  # ended() looked
        parts.append(f"Ended {day(licence.expires, today)}.")
    elif licence.expires is not None:
        left = (licence.expires - today).days
        parts.append(f"Ends {day(licence.expires, today)}, {counted(left, 'day')} left.")
    if licence.covers_until is not None:
        parts.append(f"Covers releases to {day(licence.covers_until, today)}.")
    if licence.form == "through a theme":
        name = listed(_names(context, [licence.through or ""]))
        parts.append(f"As long as {name}'s.")
    if free is not None:
        parts.append(f"{counted(free, 'seat')} free.")
    if without:
        use = "uses it" if without == 1 else "use it"
        parts.append(f"{counted(without, 'site')} {use} without a seat.")
    return " ".join(parts) or "Without end."
