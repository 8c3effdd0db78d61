"""What a release that changes the form of licence will ask for."""

from __future__ import annotations

from windbreak.core.values.licences import SEATED
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.versions.version import parse_version
from windbreak.documents.licences import Forecast
from windbreak.operations.context import Context
from windbreak.operations.licensing import licence_rights, licence_views
from windbreak.wording.words import counted


def forecasts(context: Context) -> list[Forecast]:
    """Seats that will be asked for by releases that change the form of licence. Reads."""
    with context.store.database.remembered():
        every = [_forecast(context, product) for product in context.store.products.all()]
    return [forecast for forecast in every if forecast is not None]


def _forecast(context: Context, product: KnownProduct) -> Forecast | None:
    release = form_changes_at(context.store.releases.all(product=product.id))
    if release is None or release.licence is None:
        return None
    version = parse_version(release.version)
    fitting = [
        x
        for x in context.store.licences.all()
        if product.id in licence_rights.covered(context, x) and x.form == release.licence.form
    ]
    seated = {s.site for x in fitting for s in context.store.seats.all(licence=x.id)}
    below = []
    for id, _, text, _ in context.store.inventories.installed(product.id):
        site = context.store.sites.get(id)
        if site.environment == "production" and parse_version(text) < version and id not in seated:
            below.append(id)
    if not below:
        return None
    frees = [licence_views.view(context, x.id).free for x in fitting]
    free = None if any(f is None for f in frees) and fitting else sum(f or 0 for f in frees)
    missing = 0 if free is None else max(0, len(below) - free)
    grace = counted(release.licence.grace_days, "day")
    sites_ = counted(len(below), "site")
    text = (
        f"{product.name} {release.version} asks for a {release.licence.form} licence, with {grace} "
        f"of grace from each site's own update. {sites_} below it "
        f"{'needs' if len(below) == 1 else 'need'} a seat, "
        + (
            "seats are without limit."
            if free is None
            else f"{free} {'is' if free == 1 else 'are'} free"
        )
        + ("" if free is None else f": {missing} to buy first." if missing else ".")
    )
    return Forecast(
        product=product.id,
        name=product.name,
        version=release.version,
        form=release.licence.form,
        grace_days=release.licence.grace_days,
        sites=tuple(below),
        needed=len(below),
        free=free,
        missing=missing,
        text=text,
    )


def form_changes_at(releases: list[KnownRelease]) -> KnownRelease | None:
    """The newest release at which the form of licence becomes another one, or None.

    A release that says nothing of its form has that of the one before it.
    """
    ordered = sorted(releases, key=lambda r: parse_version(r.version).key)
    form, change = None, None
    for release in ordered:
        if release.licence is None or release.channel != "stable":
            continue
        if release.licence.form != form:
            change = release
        form = release.licence.form
    if change is None or change is ordered[0]:
        return None
    return change if change.licence and change.licence.form in SEATED else None
