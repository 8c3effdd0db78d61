"""The codes of licences: sealed, found for a site, exchanged."""

from __future__ import annotations

from collections.abc import Iterable

from windbreak.core.values.accounts import Principal
from windbreak.core.values.licences import Licence, Seat
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_rights
from windbreak.store.sealing import masked, trimmed


def licence_secret(licence: str) -> str:
    """The name under which a licence's code is sealed."""
    return f"licence:{licence}"


def seat_secret(seat: Seat) -> str:
    """The name under which a seat's own code is sealed."""
    return f"seat:{seat.id}"


def former_secret(name: str) -> str:
    """The name under which the code before a sealed one is kept."""
    return f"{name}:former"


def seal(context: Context, name: str, secret: str) -> None:
    """Keep a code sealed. Writes."""
    context.store.secrets.set(name, context.sealer.seal(secret))


def opened(context: Context, name: str) -> str | None:
    """A sealed code, or None. Reads."""
    sealed = context.store.secrets.get(name)
    return context.sealer.open(sealed) if sealed else None


def code_of(context: Context, licence: Licence, seat: Seat) -> str | None:
    """The code that belongs on a seat's site: its own, its site's where it rides, or the one."""
    own = opened(context, seat_secret(seat))
    if own is None and seat.riding:
        own = opened(context, f"seat:{licence.id} {lead(context, seat.site)}")
    return own or opened(context, licence_secret(licence.id))


def code_for(context: Context, site: str, product: str) -> str | None:
    """The code a site has for a product; it leaves the service only to its maker or its site."""
    for held in context.store.seats.all(site=site):
        licence = context.store.licences.get(held.licence)
        if product in licence_rights.covered(context, licence):
            code = code_of(context, licence, held)
            if code is not None:
                return code
    return None


def same(code: str | None, other: str) -> bool:
    """Whether two codes are one, letter case and white space aside."""
    return (
        code is not None and "".join(code.split()).casefold() == "".join(other.split()).casefold()
    )


def check_code(context: Context, licence: Licence, site: Site, code: str, *, riding: bool) -> None:
    """Raise Refused where a code is on another live site already."""
    for other in context.store.seats.all():
        if other.code is None or not same(opened(context, seat_secret(other)), code):
            continue
        holder = context.store.sites.get(other.site)
        if riding and other.site == site.twin_of:
            continue  # the copy rides on its site's own code
        raise Refused(
            "code-in-use",
            f"this code is on {holder.label} already; a code is good for one live site",
        )


def rotate(
    context: Context, licence_id: str, code: str, site: str | None, by: Principal
) -> Licence:
    """Put a new code in the place of a licence's, or of one seat's. Writes.

    The old one stays known by its last four characters, and the view lists where it is still in
    use, until every site has the new one: only then should it be revoked at its maker.
    """
    licence = context.store.licences.get(licence_id)
    secret = trimmed(code)
    if not secret:
        raise Refused("no-code", "the code is empty")
    if (site is None) == (licence.form == "per-site code"):
        which = "say of which site" if site is None else "it has one code for all its seats"
        raise Refused("code-of-a-seat", f"{licence.label} is {licence.form}: {which}")
    with context.store.transaction():
        if site is None:
            context.store.licences.change(
                licence_id, code=masked(secret), former=licence.code or licence.former
            )
            seal(context, licence_secret(licence_id), secret)
        else:
            held = context.store.seats.get(f"{licence_id} {site}")
            riding = held.riding
            check_code(context, licence, context.store.sites.get(site), secret, riding=riding)
            context.store.seats.change(held.id, code=masked(secret), former=held.code)
            seal(context, seat_secret(held), secret)
        context.record(by.name, f"code of {licence.label} replaced", site or licence_id)
    context.tell("product", licence_id, "a code was replaced")
    return context.store.licences.get(licence_id)


def _released(seat: str) -> str:
    return f"released code:{seat}"


def note_released(context: Context, seat: Seat) -> None:
    """Remember by its last four characters a code whose seat was taken back: it may still stand on
    the site. Within a transaction. Writes.
    """
    context.store.facts.set(_released(seat.id), seat.code or "")


def forget_released(context: Context, seat: Seat) -> None:
    """The site has a seat again. Within a transaction. Writes."""
    if context.store.facts.get(_released(seat.id)):
        context.store.facts.set(_released(seat.id), "")


def released(context: Context, licence: str, site: str) -> str:
    """The code, masked, of a seat that a site had and that was taken back; "" for none. Reads."""
    return context.store.facts.get(_released(f"{licence} {site}")) or ""


def installed_of(context: Context, site: str, products: Iterable[str]) -> list[str]:
    """Which of some products a site runs. Reads."""
    wanted = set(products)
    inventory = context.store.inventories.find(site)
    return [c.product for c in inventory.components if c.product in wanted] if inventory else []


def lead(context: Context, site: str) -> str | None:
    return context.store.sites.get(site).twin_of
