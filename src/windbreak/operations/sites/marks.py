"""What people say of a site: its facts set right, marks on its components, notes."""

from __future__ import annotations

from windbreak.core.values.accounts import Principal
from windbreak.core.values.sites import (
    LookedAfter,
    NewByHand,
    NewNote,
    Note,
    NoteFor,
    Site,
    SiteChange,
)
from windbreak.operations.addresses import IN_A_SITES, refuse_secrets
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licensing


def change(context: Context, site: str, told: SiteChange, by: Principal) -> Site:
    """Change what is known of a site. Writes. Raises Refused for a host that is not there."""
    known = context.store.sites.get(site)
    if told.host is not None and context.store.hosts.find(told.host) is None:
        raise Refused("unknown-host", f"there is no host {told.host!r}; add it first")
    if told.address is not None:
        refuse_secrets(told.address, IN_A_SITES)
        other = context.store.sites.at(told.address)
        if other is not None and other.id != site:
            raise Refused("address-taken", f"{told.address} is {other.label} already")
    _check_environment(context, known, told)
    fields = told.model_dump(exclude_none=True)
    with context.store.transaction():
        if told.twin_of == "":
            fields["twin_of"] = None
        changed = context.store.sites.change(site, **fields)
        if told.twin_of is not None or told.environment is not None:
            licensing.resettle_site(context, site)
        context.record(by.name, f"{changed.label}: {', '.join(fields) or 'nothing'} set", site)
    context.tell("site", site, "changed")
    return changed


def _check_environment(context: Context, known: Site, told: SiteChange) -> None:
    """Raise Refused for a twin in production, of another twin, or of itself."""
    environment = told.environment or known.environment
    twin_of = known.twin_of if told.twin_of is None else told.twin_of
    if not twin_of:
        return
    if environment == "production":
        raise Refused("twin-in-production", "a twin is a staging or development copy")
    lead = context.store.sites.get(twin_of)
    if lead.twin_of is not None or lead.id == known.id:
        raise Refused("twin-of-a-twin", f"{lead.label} can have no twin: it is one itself")


def mark_own(context: Context, site: str, product: str, by: Principal, *, own: bool = True) -> Site:
    """Mark a component as made for its site, so that no offer that shares its folder's name is
    taken; or take the mark away. Writes. Raises Refused when it is not there.
    """
    known = context.store.sites.get(site)
    inventory = context.store.inventories.find(site)
    if inventory is None or inventory.version_of(product) is None:
        raise Refused("not-installed", f"{product} is not on {known.label}")
    marks = set(known.own) | {product} if own else set(known.own) - {product}
    with context.store.transaction():
        changed = context.store.sites.change(site, own=tuple(sorted(marks)))
        said = "made for it" if own else "not made for it"
        context.record(by.name, f"{known.label}: {product} is {said}", site)
    context.tell("site", site, f"{product} is {said}")
    return changed


def look_after(
    context: Context, site: str, product: str, new: NewByHand | None, by: Principal
) -> Site:
    """Note that a person looks after a component of which no feed tells, or (None) no longer.

    Writes. Raises Refused when it is not there, when a feed tells of it, or the day has passed.
    """
    known = context.store.sites.get(site)
    inventory = context.store.inventories.find(site)
    if inventory is None or inventory.version_of(product) is None:
        raise Refused("not-installed", f"{product} is not on {known.label}")
    if new is not None and product in context.store.releases.told_products():
        raise Refused(
            "feed-tells", f"a feed tells of {product}; by hand is for what no feed covers"
        )
    if new is not None and new.until < context.clock().date():
        raise Refused("past", f"{new.until} has passed; give the day to look again")
    rest = tuple(one for one in known.by_hand if one.product != product)
    marks = rest
    if new is not None:
        marks = (*rest, LookedAfter(product=product, by=by.name, until=new.until, why=new.why))
    with context.store.transaction():
        changed = context.store.sites.change(site, by_hand=marks)
        said = (
            f"looked after by hand until {new.until}" if new else "no longer looked after by hand"
        )
        why = new.why if new else ""
        context.record(by.name, f"{known.label}: {product} is {said}", site, why=why)
    context.tell("site", site, f"{product} is {said}")
    return changed


def note(context: Context, site: str, audience: NoteFor, new: NewNote, by: Principal) -> Site:
    """Write a note on a site, for staff or for its client; in place of the one before. Writes."""
    known = context.store.sites.get(site)
    rest = tuple(one for one in known.notes if one.audience != audience)
    text = new.text.strip()
    if text in {one.text for one in known.notes if one.audience == audience}:
        return known
    made = (Note(text=text, audience=audience, by=by.name, at=context.clock()),) if text else ()
    with context.store.transaction():
        changed = context.store.sites.change(site, notes=(*rest, *made))
        whom = "us" if audience == "us" else "its client"
        what = "written" if text else "taken away"
        context.record(by.name, f"{known.label}: note for {whom} {what}", site, why=text)
    context.tell("site", site, "a note was written")
    return changed
