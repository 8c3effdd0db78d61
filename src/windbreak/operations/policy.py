"""What people decide beside plans: holds, and which sites hold a licence."""

from __future__ import annotations

import secrets

from windbreak.core.fleet import NewHold, NewLicence, SiteLicence, StandingHold
from windbreak.core.tracking import Package
from windbreak.core.work import Principal
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.packages.errors import PackageRefused


def hold(context: Context, new: NewHold, by: Principal) -> StandingHold:
    """Decide not to move a product. Writes. Raises NotFound for a site that is not there."""
    if new.site is not None:
        context.store.sites.get(new.site)
    with context.store.transaction():
        kept = context.store.holds.add(
            StandingHold(
                **dict(new), id=secrets.token_hex(4), author=by.name, made_at=context.clock()
            )
        )
        where = new.site or "everywhere"
        context.record(by.name, f"{new.product} held {where}", new.product, why=new.reason)
    context.tell("hold", new.product, f"held {where}")
    return kept


def lift(context: Context, id: str, by: Principal) -> None:
    """Lift a hold. Writes. Raises NotFound."""
    known = context.store.holds.get(id)
    with context.store.transaction():
        context.store.holds.drop(id)
        context.record(by.name, f"hold on {known.product} lifted", known.product)
    context.tell("hold", known.product, "lifted")


def add_licence(context: Context, new: NewLicence, by: Principal) -> SiteLicence:
    """Give a site the right to a product's releases. Writes. Raises Refused for a second one."""
    site = context.store.sites.get(new.site)
    for other in context.store.licences.all(site=new.site):
        if other.product == new.product:
            raise Refused("has-a-licence", f"{site.label} has a licence for {new.product} already")
    with context.store.transaction():
        kept = context.store.licences.add(SiteLicence(**dict(new), id=secrets.token_hex(4)))
        context.record(by.name, f"licence for {new.product}", new.site)
    context.tell("licence", new.site, new.product)
    return kept


def drop_licence(context: Context, id: str, by: Principal) -> None:
    """Take a licence away from its site. Writes. Raises NotFound."""
    known = context.store.licences.get(id)
    with context.store.transaction():
        context.store.licences.drop(id)
        context.record(by.name, f"licence for {known.product} taken away", known.site)
    context.tell("licence", known.site, known.product)


def put_on_shelf(context: Context, archive: bytes, by: Principal) -> Package:
    """Examine an archive that a person brings and keep it. Writes. Raises Refused."""
    try:
        package = context.shelf.add(archive, at=context.clock(), source=f"by hand, {by.name}")
    except PackageRefused as error:
        raise Refused("wrong-archive", f"the archive was not kept: {error}") from error
    context.record(by.name, f"{package.name} {package.version} put on the shelf", package.product)
    return package
