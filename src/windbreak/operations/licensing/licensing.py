"""Licences and seats: entered, changed, allotted, refused, given back."""

from __future__ import annotations

from windbreak.core.values.accounts import Principal
from windbreak.core.values.licences import Licence, LicenceChange, NewLicence, NewSeat, Seat
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_codes
from windbreak.store.sealing import masked, trimmed
from windbreak.wording.words import counted


def add(context: Context, new: NewLicence, by: Principal) -> Licence:
    """Enter a licence; its code is trimmed and sealed. Writes.

    Raises AlreadyThere for its id, Refused for a "per-site code" licence with one code for all.
    """
    code = trimmed(new.code.get_secret_value()) if new.code else ""
    if code and new.form == "per-site code":
        raise Refused(
            "code-of-a-seat", f"{new.label} has a code for each site; give it with each seat"
        )
    licence = Licence(
        **new.model_dump(exclude={"code"}),
        code=masked(code) if code else None,
        set_up_by=by.account,
        made_at=context.clock(),
    )
    with context.store.transaction():
        context.store.licences.add(licence)
        if code:
            licence_codes.seal(context, licence_codes.licence_secret(new.id), code)
        context.record(by.name, f"licence {new.label} entered", new.id, result=new.form)
    context.tell("product", new.id, "a licence was entered")
    return licence


def change(context: Context, licence_id: str, change: LicenceChange, by: Principal) -> Licence:
    """Change what is known of a licence. Writes.

    Raises Refused for fewer seats than are taken, or no riding while copies ride.
    """
    licence = context.store.licences.get(licence_id)
    taken = context.store.seats.all(licence=licence_id)
    own = sum(not seat.riding for seat in taken)
    if change.seats is not None and change.seats < own:
        raise Refused("seats-taken", f"{own} seats of {licence.label} are taken; free some first")
    if change.riding is False and any(seat.riding for seat in taken):
        raise Refused(
            "copies-ride", f"copies ride along on {licence.label}; take their seats first"
        )
    fields = change.model_dump(exclude_none=True)
    with context.store.transaction():
        changed = context.store.licences.change(licence_id, **fields)
        resettle(context, licence_id)
        context.record(by.name, f"licence {licence.label}: {', '.join(fields)} set", licence_id)
    context.tell("product", licence_id, "a licence was changed")
    return changed


def drop(context: Context, licence_id: str, by: Principal) -> None:
    """Forget a licence. Writes. Raises Refused while sites hold seats of it."""
    licence = context.store.licences.get(licence_id)
    taken = context.store.seats.all(licence=licence_id)
    if taken:
        names = ", ".join(seat.site for seat in taken)
        raise Refused("seats-taken", f"{licence.label} has seats taken by {names}; free them first")
    with context.store.transaction():
        context.store.licences.drop(licence_id)
        for name in (
            licence_codes.licence_secret(licence_id),
            licence_codes.former_secret(licence_codes.licence_secret(licence_id)),
        ):
            context.store.secrets.drop(name)
        context.record(by.name, f"licence {licence.label} dropped", licence_id)
    context.tell("product", licence_id, "a licence was dropped")


def seat(context: Context, licence_id: str, new: NewSeat, by: Principal) -> Seat:
    """Allot a seat to a site; a copy rides along where that is permitted. Writes.

    Raises Refused, with nothing changed, for a seat too many, the same code on a second live
    site, a retired site, a code where none is, and none where one is needed.
    """
    licence = context.store.licences.get(licence_id)
    site = context.store.sites.get(new.site)
    code = trimmed(new.code.get_secret_value()) if new.code else ""
    taken = context.store.seats.all(licence=licence_id)
    riding = _check_seat(context, licence, site, code, taken)
    made = Seat(
        licence=licence_id,
        site=site.id,
        since=context.clock(),
        riding=riding,
        code=masked(code) if code else None,
    )
    with context.store.transaction():
        context.store.seats.put(made, made.id)
        licence_codes.forget_released(context, made)
        if code:
            licence_codes.seal(context, licence_codes.seat_secret(made), code)
        resettle(context, licence_id)
        what = f"seat of {licence.label} for {site.label}"
        context.record(by.name, what, site.id, result="riding along" if riding else "its own")
    context.tell("licence", site.id, what)
    return context.store.seats.get(made.id)


def resettle(context: Context, licence_id: str) -> None:
    """Let copies ride where they may: a live site takes the seat and its copy rides along, in
    whatever order they were entered. Within a transaction. Writes.
    """
    licence = context.store.licences.get(licence_id)
    taken = context.store.seats.all(licence=licence_id)
    sites = {seat.site: context.store.sites.get(seat.site) for seat in taken}
    live = {s.id for s in sites.values() if s.environment == "production" and s.retired_at is None}
    ridden: set[str] = set()
    for seat in sorted(taken, key=lambda s: (not s.riding, s.since)):
        site = sites[seat.site]
        lead = site.twin_of
        may = (
            licence.riding
            and site.environment != "production"
            and lead is not None
            and lead in live
            and lead not in ridden
        )
        if may and lead is not None:
            ridden.add(lead)
        if seat.riding != may:
            context.store.seats.change(seat.id, riding=may)


def resettle_site(context: Context, site: str) -> None:
    """The same for every licence that a site has a seat of, as whose copy it is has changed.
    Within a transaction. Writes.
    """
    for held in context.store.seats.all(site=site):
        resettle(context, held.licence)


def _check_seat(
    context: Context, licence: Licence, site: Site, code: str, taken: list[Seat]
) -> bool:
    """Whether the seat rides. Raises Refused."""
    if not licence.seated:
        raise Refused("no-seats", f"{licence.label} ({licence.form}) has no seats to give")
    if site.retired_at is not None:
        raise Refused("retired", f"{site.label} is retired; a seat would be wasted on it")
    if not licence.good_for(site.client):
        raise Refused(
            "another-clients",
            f"{licence.label} is {licence.client}’s own, and {site.label} is {site.client}’s",
        )
    if any(seat.site == site.id for seat in taken):
        raise Refused("has-a-seat", f"{site.label} has a seat of {licence.label} already")
    lead = site.twin_of
    leads = {seat.site for seat in taken if not seat.riding}
    riding = site.environment != "production" and licence.riding and lead in leads
    if riding and any(
        seat.riding and licence_codes.lead(context, seat.site) == lead for seat in taken
    ):
        riding = False
    per_site = licence.form == "per-site code"
    if per_site and not code and not riding:
        raise Refused("no-code", f"{licence.label} has a code for each site; give the one for this")
    if code and not per_site:
        raise Refused("code-of-licence", f"{licence.label} has one code for all its seats")
    own = sum(not seat.riding for seat in taken)
    if licence.riding and site.environment == "production":
        copies = (o for o in taken if licence_codes.lead(context, o.site) == site.id)
        own -= any(not seat.riding for seat in copies)  # it rides along from now on
    if not riding and licence.seats is not None and own >= licence.seats:
        held = ", ".join(seat.site for seat in taken if not seat.riding)
        raise Refused(
            "seat-too-many",
            f"{licence.label} has {counted(licence.seats, 'seat')}, and all are taken: {held}",
        )
    if code:
        licence_codes.check_code(context, licence, site, code, riding=riding)
    return riding


def unseat(context: Context, licence_id: str, site: str, by: Principal) -> None:
    """Take a site's seat, and that of the copy that rides along with it. Writes."""
    licence = context.store.licences.get(licence_id)
    held = context.store.seats.get(f"{licence_id} {site}")
    with context.store.transaction():
        for seat in context.store.seats.all(licence=licence_id):
            rides_here = (
                seat.riding and licence_codes.lead(context, seat.site) == site and not held.riding
            )
            if seat.site == site or rides_here:
                context.store.seats.drop(seat.id)
                if seat.code is not None and not seat.riding:
                    licence_codes.note_released(context, seat)
                for name in (
                    licence_codes.seat_secret(seat),
                    licence_codes.former_secret(licence_codes.seat_secret(seat)),
                ):
                    context.store.secrets.drop(name)
                context.record(by.name, f"seat of {licence.label} taken back", seat.site)
        resettle(context, licence_id)
    context.tell("licence", site, f"seat of {licence.label} taken back")


def free_seats_of(context: Context, site: str, by: Principal) -> list[str]:
    """Free every seat of a site; the labels of the licences. Writes."""
    labels = []
    for held in context.store.seats.all(site=site):
        labels.append(context.store.licences.get(held.licence).label)
        unseat(context, held.licence, site, by)
    return labels
