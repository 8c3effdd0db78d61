"""Codes entered on sites by their agents, and read back there."""

from __future__ import annotations

import secrets

from windbreak.core.values.accounts import Principal
from windbreak.core.values.licences import Licence, Seat
from windbreak.documents.licences import EntryResult
from windbreak.links.errors import LinkError
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_rights, licence_views
from windbreak.operations.licensing.licence_codes import code_of, installed_of
from windbreak.operations.sites import sites as links
from windbreak.store.sealing import masked


def enter(
    context: Context, licence_id: str, by: Principal, site: str | None = None
) -> list[EntryResult]:
    """Enter the code on the sites that hold a seat, through their agents, and read it back.

    Writes. Each site's own answer is told; one that can't be reached keeps back no other.
    """
    instance.must_drive(context)
    licence = context.store.licences.get(licence_id)
    results = []
    for held in context.store.seats.all(licence=licence_id):
        if site in (None, held.site):
            results.append(_enter_on(context, licence, held, by))
    if not results:
        whom = f"{site} has no seat" if site else "nobody has a seat"
        raise Refused("no-seat", f"{whom} of {licence.label}")
    return results


def _enter_on(context: Context, licence: Licence, held: Seat, by: Principal) -> EntryResult:
    site = context.store.sites.get(held.site)
    code = code_of(context, licence, held)
    if code is None:
        text = f"{site.label}: there is no code to enter."
        return EntryResult(site=site.id, site_label=site.label, state="not asked", text=text)
    try:
        agent = links.agent_for(context, site.id)
        for product in installed_of(context, site.id, licence_rights.covered(context, licence)):
            agent.do("register", secrets.token_hex(12), product=product, code=code)
    except (LinkError, Refused) as error:
        text = f"{site.label}: the code was not entered: {error}."
        return EntryResult(site=site.id, site_label=site.label, state="not asked", text=text)
    links.refresh(context, site.id)
    context.store.seats.change(held.id, entered=masked(code), entered_at=context.clock())
    context.record(by.name, f"code of {licence.label} entered on {site.label}", site.id)
    view = licence_views.seat_view(context, licence, context.store.seats.get(held.id))
    return EntryResult(site=site.id, site_label=site.label, state=view.state, text=view.text)
