"""May this site take this release, and by which right: the one answer to that question.

Candidates, findings, forecasts, explanations and the pages of licences all come from it.
"""

from __future__ import annotations

from windbreak.core.values.entitlements import Entitlement, Lack
from windbreak.core.values.findings import NextAct
from windbreak.core.values.sites import Site
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_rights
from windbreak.operations.reasoning.cases import Ground
from windbreak.wording import roots as words


def right(context: Context, site_id: str, product: str, version: str | None) -> Entitlement:
    """Whether a site may take a release; of the newest one where none is named. Reads.

    Raises NotFound for a site or product that is not known, Refused for a release that is not.
    """
    site = context.store.sites.get(site_id)
    name = context.store.products.get(product).name
    ground = Ground.read(context)
    announced = ground.catalogue.facts.get(product)
    releases = sorted(announced.releases if announced else (), key=lambda r: r.parsed.key)
    if not releases:
        raise Refused("no-release", f"no feed tells of a release of {name}")
    if version is None:
        return entitlement(ground, site, product, releases[-1].version)
    wanted = next((r for r in releases if r.parsed == parse_version(version)), None)
    if wanted is None:
        raise Refused(
            "unknown-release",
            f"no feed tells of {name} {version}; the newest is {releases[-1].version}",
        )
    return entitlement(ground, site, product, wanted.version)


def entitlement(ground: Ground, site: Site, product: str, version: str) -> Entitlement:
    """Whether a site may take a release of a product, and by which right; what would bring it."""
    announced = ground.catalogue.facts.get(product)
    release = (
        next((r for r in announced.releases if r.version == version), None) if announced else None
    )
    entry = ground.catalogue.product(product)
    name = entry.name if entry else product
    if entry is not None and entry.access != "licensed":
        text = f"{name} asks for no licence."
        return Entitlement(
            site=site.id, product=product, version=version, by=None, lacks=(), text=text
        )
    by, lacks = licence_rights.lacks(
        ground.licences,
        site,
        product,
        parse_version(version),
        release.published if release else ground.today,
        ground.today,
    )
    if by is not None:
        label = next(x.label for x, _ in ground.licences.licences if x.id == by)
        text = f"{label} gives {site.label} {name} {version}."
        return Entitlement(
            site=site.id, product=product, version=version, by=by, lacks=(), text=text
        )
    return Entitlement(
        site=site.id,
        product=product,
        version=version,
        by=None,
        lacks=lacks,
        text=words.of_licence(name, lacks, ground.today),
        acts=(_way_to_right(site, product, name, lacks),),
    )


def _way_to_right(site: Site, product: str, name: str, lacks: tuple[Lack, ...]) -> NextAct:
    """What brings a right: the nearest licence renewed, a seat of it given or bought, or one."""
    first = lacks[0] if lacks else None
    if first is None:
        return words.way("buy-licence", of=name, product=product, site=site.id)
    match first.why:
        case "seat free":
            return words.way("give-seat", of=first.label, licence=first.licence, site=site.id)
        case "no seat free" | "seat elsewhere":
            return words.way(
                "buy-seat", of=first.label, licence=first.licence, product=product, site=site.id
            )
        case "not covered" if first.since is None:
            return words.way("buy-licence", of=name, product=product, site=site.id)
        case _:
            return words.way("renew", of=first.label, licence=first.licence)
