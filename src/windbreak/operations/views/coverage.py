"""What no feed covers: across the fleet and on each site, and why that is."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from datetime import date

from windbreak.core.values.feeds import Feed
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.sites import Site
from windbreak.core.versions.version import parse_version
from windbreak.documents.products import Coverage, Covered, SiteCoverage, Uncovered
from windbreak.operations.context import Context
from windbreak.operations.reasoning.catalogue import catalogue
from windbreak.operations.tracking import feeds
from windbreak.operations.views.products import listed_releases
from windbreak.wording.words import day


def coverage(context: Context) -> Coverage:
    """Which components feeds cover: the fleet, each site, and what none covers and why. Reads."""
    products = {p.id: p for p in context.store.products.all()}
    by_feed = {f.id: f for f in feeds.listed(context)}
    announced = context.store.releases.products_with_releases()
    sites = {s.id: s for s in context.store.sites.all() if s.retired_at is None}
    same_folder = {
        inventory.id: catalogue(context).namesakes(inventory)
        for inventory in context.store.inventories.of_note()
    }
    groups: dict[tuple[str, Covered], list[tuple[str, str]]] = defaultdict(list)
    counts: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for id, product, version, _ in context.store.inventories.installed():
        shared = same_folder.get(id, set())
        why = _covered(products.get(product), product, sites[id], shared, by_feed, announced)
        if why == "never listed" and products.get(product) is None:
            why = "copy" if _is_copy(context, id, product, products) else why
        counts[id][0] += 1
        counts[id][1] += why in ("covered", "feed down")
        if why != "covered":
            groups[product, why].append((id, version))
    per_site = [
        SiteCoverage(site=id, label=sites[id].label, components=all_, covered=covered)
        for id, (all_, covered) in counts.items()
    ]
    uncovered = [
        _uncovered(context, products.get(product), product, why, where, sites)
        for (product, why), where in groups.items()
    ]
    uncovered.sort(key=lambda u: (_WHYS.index(u.why), u.name))
    return Coverage(
        components=sum(s.components for s in per_site),
        covered=sum(s.covered for s in per_site),
        uncovered=tuple(uncovered),
        sites=tuple(per_site),
    )


def namesakes_on(context: Context, site: Site) -> list[Uncovered]:
    """The components of one site that only share a folder's name with a product. Reads."""
    inventory = context.store.inventories.find(site.id)
    if inventory is None:
        return []
    current = catalogue(context)
    shared = sorted(current.namesakes(inventory) - set(site.own))
    return [
        _uncovered(
            context,
            current.product(product),
            product,
            "namesake",
            [(site.id, inventory.version_of(product) or "")],
            {site.id: site},
        )
        for product in shared
    ]


_WHYS: tuple[Covered, ...] = (
    "namesake",
    "copy",
    "made for this site",
    "withdrawn",
    "never listed",
    "feed down",
    "covered",
)


def _covered(
    listed: KnownProduct | None,
    product: str,
    site: Site,
    same_folder: set[str],
    feeds: dict[str, Feed],
    announced: set[str],
) -> Covered:
    if product in site.own:
        return "made for this site"
    if product in same_folder:
        return "namesake"
    if listed is None:
        return "never listed"
    if listed.withdrawn_at is not None:
        return "withdrawn"
    if listed.feed is None or listed.feed not in feeds:
        # A theme's feed tells of what it carries, where it lists the plugin's releases too.
        return "covered" if product in announced and listed.feed else "never listed"
    return "covered" if feeds[listed.feed].state == "fresh" else "feed down"


def _is_copy(
    context: Context, site: str, product: str, products: Mapping[str, KnownProduct]
) -> bool:
    """Whether a folder that no feed tells of is off, and bears the name of what lies beside it."""
    there = context.store.inventories.get(site).components
    copy = next(c for c in there if c.product == product)
    names = {c.name.casefold() for c in there if c.product in products and c.active}
    return not copy.active and copy.name.casefold() in names


def _uncovered(
    context: Context,
    listed: KnownProduct | None,
    product: str,
    why: Covered,
    where: list[tuple[str, str]],
    sites: dict[str, Site],
) -> Uncovered:
    today = context.clock().date()
    newest = listed_releases(context.store.releases.all(product=product))
    refused = newest[-1].version if newest and why in ("made for this site", "namesake") else None
    name = listed.name if listed else product
    if listed is None or why in ("made for this site", "namesake"):
        inventory = context.store.inventories.get(where[0][0])
        name = next((c.name for c in inventory.components if c.product == product), name)
    return Uncovered(
        product=product,
        name=name,
        kind=product.partition("/")[0],
        why=why,
        text=_why_text(context, listed, why, refused, today),
        versions=tuple(sorted({v for _, v in where}, key=lambda v: parse_version(v).key)),
        sites=tuple(s for s, _ in where),
        labels=tuple(sites[s].label for s, _ in where),
        refused=refused,
    )


def _why_text(
    context: Context, listed: KnownProduct | None, why: Covered, refused: str | None, today: date
) -> str:
    match why:
        case "made for this site":
            text = "made for this site"
            return (
                f"{text}; the public {refused} only shares its folder's name" if refused else text
            )
        case "namesake":
            maker = listed.maker if listed else "the public maker"
            return (
                f"another maker's; {maker}'s {refused or 'releases'} only share its folder's name"
            )
        case "copy":
            return "switched off, and bears the name of what lies beside it: left over"
        case "withdrawn":
            assert listed is not None and listed.withdrawn_at is not None  # that is why
            since = day(listed.withdrawn_at.date(), today)
            return (
                f"withdrawn, seen {since}: {listed.withdrawn_text.rstrip('.')}; no feed will come"
            )
        case "feed down":
            feed = context.store.feeds.find(listed.feed) if listed and listed.feed else None
            label = feed.label if feed else "its feed"
            reason = feed.reason.rstrip(".") if feed else "not read"
            return f"{label} can't be read now ({reason}); what was known stands"
        case _:
            typed = [r for r in context.store.releases.all(product=listed.id)] if listed else []
            if typed:
                last = max(typed, key=lambda r: r.published)
                source = last.text.partition("; ")[2].rstrip(".")
                return f"no feed tells of it; {last.version} was typed in, {source}"
            return "no feed has ever listed it"
