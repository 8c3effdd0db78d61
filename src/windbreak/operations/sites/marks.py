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


def change(context: Context, site_id: str, change: SiteChange, by: Principal) -> Site:
    """Change what is known of a site. Writes. Raises Refused for a host that is not there."""
    site = context.store.sites.get(site_id)
    if change.host is not None and context.store.hosts.find(change.host) is None:
        raise Refused("unknown-host", f"there is no host {change.host!r}; add it first")
    if change.address is not None:
        refuse_secrets(change.address, IN_A_SITES)
        other = context.store.sites.at(change.address)
        if other is not None and other.id != site_id:
            raise Refused("address-taken", f"{change.address} is {other.label} already")
    _check_environment(context, site, change)
    fields = change.model_dump(exclude_none=True)
    with context.store.transaction():
        if change.twin_of == "":
            fields["twin_of"] = None
        changed = context.store.sites.change(site_id, **fields)
        if change.twin_of is not None or change.environment is not None:
            licensing.resettle_site(context, site_id)
        context.record(by.name, f"{changed.label}: {', '.join(fields) or 'nothing'} set", site_id)
    context.tell("site", site_id, "changed")
    return changed


def _check_environment(context: Context, site: Site, change: SiteChange) -> None:
    """Raise Refused for a twin in production, of another twin, or of itself."""
    environment = change.environment or site.environment
    twin_of = site.twin_of if change.twin_of is None else change.twin_of
    if not twin_of:
        return
    if environment == "production":
        raise Refused("twin-in-production", "a twin is a staging or development copy")
    lead = context.store.sites.get(twin_of)
    if lead.twin_of is not None or lead.id == site.id:
        raise Refused("twin-of-a-twin", f"{lead.label} can have no twin: it is one itself")


def mark_own(
    context: Context, site_id: str, product: str, by: Principal, *, own: bool = True
) -> Site:
    """Mark a component as made for its site, so that no offer that shares its folder's name is
    taken; or take the mark away. Writes. Raises Refused when it is not there.
    """
    site = context.store.sites.get(site_id)
    inventory = context.store.inventories.find(site_id)
    if inventory is None or inventory.version_of(product) is None:
        raise Refused("not-installed", f"{product} is not on {site.label}")
    marks = set(site.own) | {product} if own else set(site.own) - {product}
    with context.store.transaction():
        changed = context.store.sites.change(site_id, own=tuple(sorted(marks)))
        did = "made for it" if own else "not made for it"
        context.record(by.name, f"{site.label}: {product} is {did}", site_id)
    context.tell("site", site_id, f"{product} is {did}")
    return changed


def look_after(
    context: Context, site_id: str, product: str, new: NewByHand | None, by: Principal
) -> Site:
    """Note that a person looks after a component of which no feed tells, or (None) no longer.

    Writes. Raises Refused when it is not there, when a feed tells of it, or the day has passed.
    """
    site = context.store.sites.get(site_id)
    inventory = context.store.inventories.find(site_id)
    if inventory is None or inventory.version_of(product) is None:
        raise Refused("not-installed", f"{product} is not on {site.label}")
    if new is not None and product in context.store.releases.products_with_releases():
        raise Refused(
            "feed-tells", f"a feed tells of {product}; by hand is for what no feed covers"
        )
    if new is not None and new.until < context.clock().date():
        raise Refused("past", f"{new.until} has passed; give the day to look again")
    rest = tuple(component for component in site.by_hand if component.product != product)
    marks = rest
    if new is not None:
        marks = (*rest, LookedAfter(product=product, by=by.name, until=new.until, why=new.why))
    with context.store.transaction():
        changed = context.store.sites.change(site_id, by_hand=marks)
        did = f"looked after by hand until {new.until}" if new else "no longer looked after by hand"
        why = new.why if new else ""
        context.record(by.name, f"{site.label}: {product} is {did}", site_id, why=why)
    context.tell("site", site_id, f"{product} is {did}")
    return changed


def note(context: Context, site_id: str, audience: NoteFor, new: NewNote, by: Principal) -> Site:
    """Write a note on a site, for staff or for its client; in place of the one before. Writes."""
    site = context.store.sites.get(site_id)
    rest = tuple(note for note in site.notes if note.audience != audience)
    text = new.text.strip()
    if text in {note.text for note in site.notes if note.audience == audience}:
        return site
    made = (Note(text=text, audience=audience, by=by.name, at=context.clock()),) if text else ()
    with context.store.transaction():
        changed = context.store.sites.change(site_id, notes=(*rest, *made))
        whom = "us" if audience == "us" else "its client"
        what = "written" if text else "taken away"
        context.record(by.name, f"{site.label}: note for {whom} {what}", site_id, why=text)
    context.tell("site", site_id, "a note was written")
    return changed
