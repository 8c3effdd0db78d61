"""Freezes: entered and lifted, of the fleet, a client, a host or a site."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from windbreak.core.values.accounts import Principal
from windbreak.core.values.freezes import NewFreeze, SiteFreeze
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.sites import clients


def listed(context: Context) -> list[SiteFreeze]:
    """The freezes that are not over, soonest first. Reads."""
    now = context.clock()
    every = (freeze for freeze in context.store.freezes.all() if freeze.to > now)
    return sorted(every, key=lambda f: (f.from_, f.id))


def of_site(context: Context, site: Site) -> list[SiteFreeze]:
    """The freezes that hold at a site, now or later. Reads."""
    return [freeze for freeze in listed(context) if holds(freeze, site)]


def holds(freeze: SiteFreeze, site: Site) -> bool:
    """Whether a freeze is for a site."""
    if freeze.site is not None:
        return freeze.site == site.id
    if freeze.host is not None:
        return freeze.host == site.host
    return freeze.client is None or freeze.client == site.client


def between(context: Context, site: Site, start: datetime, end: datetime) -> SiteFreeze | None:
    """A freeze of a site that meets a stretch of time. Reads."""
    return meeting(of_site(context, site), start, end)


def meeting(some: Iterable[SiteFreeze], start: datetime, end: datetime) -> SiteFreeze | None:
    """The first of some freezes that meets a stretch of time."""
    return next((f for f in some if f.from_ < end and start < f.to), None)


def add(context: Context, new: NewFreeze, by: Principal) -> SiteFreeze:
    """Leave sites alone for a while. Writes. Raises NotFound, Refused."""
    if new.site is not None:
        context.store.sites.get(new.site)
    if new.host is not None:
        context.store.hosts.get(new.host)
    clients.check(context, new.client)
    if new.to <= context.clock():
        raise Refused("in-the-past", "this freeze is over already")
    fields = {**new.model_dump(), "id": 0, "made_by": by.name, "made_at": context.clock()}
    with context.store.transaction():
        kept = context.store.freezes.add(SiteFreeze.model_validate(fields))
        context.record(by.name, f"freeze {kept.id} of {kept.where}", kept.where, why=new.reason)
    context.tell("freeze", str(kept.id), f"{kept.where} is frozen")
    return kept


def lift(context: Context, freeze_id: int, by: Principal) -> None:
    """Let sites be worked on again. Writes. Raises NotFound."""
    freeze = context.store.freezes.get(freeze_id)
    with context.store.transaction():
        context.store.freezes.drop(freeze_id)
        context.record(by.name, f"freeze {freeze_id} of {freeze.where} lifted", freeze.where)
    context.tell("freeze", str(freeze_id), f"{freeze.where} is frozen no more")
