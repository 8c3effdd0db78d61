"""Across the fleet: each product with its versions in use, and what no feed covers."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable
from datetime import date

from windbreak.core.explanation.passing import Lag, Passed, lag, passed
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import WORST_FIRST, State
from windbreak.core.values.feeds import Feed
from windbreak.core.values.holds import StandingHold
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.sites import Site
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version, parse_version
from windbreak.documents.products import (
    Coverage,
    Covered,
    Group,
    OnSite,
    ProductRow,
    ProductView,
    SiteCoverage,
    Standing,
    Uncovered,
    VersionUse,
)
from windbreak.operations import reasoning, ties, tracking
from windbreak.operations.context import Context
from windbreak.operations.reports import settle
from windbreak.wording.words import counted, day

_SEVERITIES = ("low", "medium", "high", "critical")


def products(context: Context) -> list[ProductRow]:
    """Every product as a row, what wants attention first. Reads, and settles stale rows."""
    settle(context)
    fleet = _Fleet(context)
    rows = [
        _row(fleet, product, fleet.standings.get(product.id, []))
        for product in context.store.products.all()
    ]
    rows.sort(
        key=lambda r: (
            WORST_FIRST.index(r.state),
            -r.to_decide,
            -r.cannot,
            -r.sites,
            r.product.name,
        )
    )
    return rows


class _Fleet:
    """What the rows of all products are made from; read once."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.today = context.clock().date()
        self.licences = reasoning.licences_of(context)
        self.sites: dict[str, Site] = {s.id: s for s in context.store.sites.all()}
        self.standings: dict[str, list[Standing]] = defaultdict(list)
        for standing in context.store.rows.standings():
            self.standings[standing.product].append(standing)
        self.releases: dict[str, list[KnownRelease]] = defaultdict(list)
        for release in context.store.releases.all():
            self.releases[release.product].append(release)
        self.advisories: dict[str, list[KnownAdvisory]] = defaultdict(list)
        for advisory in context.store.advisories.all():
            if not advisory.withdrawn:
                self.advisories[advisory.product].append(advisory)
        self.holds: dict[str, list[StandingHold]] = defaultdict(list)
        for hold in context.store.holds.all():
            if hold.until is None or hold.until >= self.today:
                self.holds[hold.product].append(hold)
        self.approved: dict[str, set[tuple[str, str]]] = defaultdict(set)
        for site, targets in context.store.approved().items():
            for product, version in targets.items():
                self.approved[product].add((version, site))

    def is_twin(self, site: str) -> bool:
        return self.sites[site].environment != "production"


def _listed(releases: Iterable[KnownRelease]) -> list[KnownRelease]:
    """Stable releases that are to be had, oldest first."""
    good = [r for r in releases if r.channel == "stable" and r.withdrawn_at is None]
    return sorted(good, key=lambda r: parse_version(r.version).key)


def _row(fleet: _Fleet, product: KnownProduct, standings: list[Standing]) -> ProductRow:
    releases = _listed(fleet.releases[product.id])
    newest = releases[-1] if releases else None
    installed = [s for s in standings if s.version is not None]
    twins = sum(fleet.is_twin(s.site) for s in installed)
    reaching = _reaching(fleet.advisories[product.id], installed)
    may = sum(s.state == "ready" or (s.state == "exposed" and bool(s.target)) for s in standings)
    states: list[State] = [s.state for s in standings if s.state != "held"]
    exposed = any(s.state == "exposed" for s in standings)
    undecided = sum(r.undecided for r in fleet.releases[product.id])
    worst = min(states, key=WORST_FIRST.index, default="clear")
    return ProductRow(
        product=product,
        newest=None if product.withdrawn_at or newest is None else newest.version,
        since=newest.published if newest else None,
        versions=_uses(fleet, product.id, installed, releases),
        sites=len(installed) - twins,
        twins=twins,
        may=may,
        wait=sum(s.state == "waiting" for s in standings),
        cannot=sum(
            s.state == "blocked" or (s.state == "exposed" and not s.target) for s in standings
        ),
        held=sum(s.state == "held" for s in standings),
        advisories=len(reaching),
        severity=max((a.severity for a in reaching), key=_SEVERITIES.index, default=None),
        decided=_decided(fleet, product, may, exposed=exposed, undecided=undecided),
        origin=_origins(fleet, product, installed),
        state=worst,
        to_decide=undecided,
    )


def _reaching(advisories: list[KnownAdvisory], installed: list[Standing]) -> list[KnownAdvisory]:
    running = [parse_version(s.version) for s in installed if s.version]
    return [a for a in advisories if any(v in parse_range(a.affected) for v in running)]


def _uses(
    fleet: _Fleet, product: str, installed: list[Standing], releases: list[KnownRelease]
) -> tuple[VersionUse, ...]:
    """The versions in use, and the newest even where nobody runs it, oldest first."""
    published = {parse_version(r.version): r.published for r in fleet.releases[product]}
    by_version: dict[Version, list[Standing]] = defaultdict(list)
    for standing in installed:
        by_version[parse_version(standing.version or "")].append(standing)
    for release in releases[-1:]:
        by_version.setdefault(parse_version(release.version), [])
    ranges = [parse_range(a.affected) for a in fleet.advisories[product]]
    found = []
    for version in sorted(by_version, key=lambda v: v.key):
        here = by_version[version]
        found.append(
            VersionUse(
                version=version.text,
                since=published.get(version),
                sites=tuple(s.site for s in here),
                twins=sum(fleet.is_twin(s.site) for s in here),
                exposed=len(here) if any(version in r for r in ranges) else 0,
            )
        )
    return tuple(found)


def _decided(
    fleet: _Fleet, product: KnownProduct, may: int, *, exposed: bool, undecided: int
) -> str:
    """What people have decided of a product, or what waits for their word."""
    if undecided:
        return "Decide: it came twice"
    holds = fleet.holds[product.id]
    if holds:
        hold = holds[0]
        where = "" if hold.site is None else f" on {fleet.sites[hold.site].label}"
        until = f" to {day(hold.until, fleet.today)}" if hold.until else ""
        return f"held{where}{until}: {hold.reason}"
    approved = fleet.approved[product.id]
    if approved:
        version = max((v for v, _ in approved), key=lambda v: parse_version(v).key)
        count = len({s for v, s in approved if v == version})
        return f"{version} for {counted(count, 'site')}"
    if product.withdrawn_at is not None:
        return "withdrawn by its maker"
    if exposed and may:
        return "Decide: an advisory reaches it"
    if may:
        return "Decide"
    return "only for a gain" if product.kind == "runtime" else "nothing to decide"


def _origins(fleet: _Fleet, product: KnownProduct, installed: list[Standing]) -> str:
    """Where it comes from, site by site: "licensed 1, carried 17"."""
    counts: dict[str, int] = defaultdict(int)
    carried = {
        plugin
        for releases in fleet.releases.values()
        for r in releases
        for plugin in r.bundles
        if plugin == product.id
    }
    for standing in installed:
        site = fleet.sites[standing.site]
        if product.id in site.own:
            counts["made for it"] += 1
        elif product.access in ("public", "host"):
            counts[product.access] += 1
        elif product.feed is None:
            counts["by hand"] += 1
        elif product.id in fleet.licences.get(standing.site, set()):
            counts["licensed"] += 1
        else:
            counts["carried" if carried else "no licence"] += 1
    if not counts:
        return "carried" if product.access == "bundled-only" else product.access
    if len(counts) == 1:
        return next(iter(counts))
    return ", ".join(f"{name} {n}" for name, n in sorted(counts.items(), key=lambda x: -x[1]))


def product(context: Context, id: str) -> ProductView:
    """One product across the fleet. Reads, and settles stale rows. Raises NotFound."""
    known = context.store.products.get(id)
    settle(context)
    fleet = _Fleet(context)
    standings = fleet.standings.get(id, [])
    releases = fleet.releases[id]
    row = _row(fleet, known, standings)
    on_sites = [_on_site(fleet, s) for s in standings]
    feed = context.store.feeds.find(known.feed) if known.feed else None
    aged = feed.aged(context.clock()) if feed else None
    carried_newest, carried_in = _carried_newest(fleet, id)
    lockstep, clashes = ties.of_product(context, id)
    return ProductView(
        row=row,
        releases=tuple(sorted(releases, key=lambda r: parse_version(r.version).key, reverse=True)),
        on_sites=tuple(on_sites),
        above=tuple(_above(row, releases)),
        may=tuple(s for s in on_sites if s.state == "ready" or (s.state == "exposed" and s.target)),
        wait=tuple(s for s in on_sites if s.state in ("waiting", "running")),
        cannot=tuple(_groups(fleet, [s for s in standings if _stands_still(s)])),
        lags=tuple(_lags(fleet, id)),
        advisories=tuple(fleet.advisories[id]),
        lockstep=tuple(lockstep),
        clashes=tuple(clashes),
        feed_state=aged.state if aged else "no feed",
        feed_read_at=aged.fresh_at if aged else None,
        carried_newest=carried_newest,
        carried_in=carried_in,
    )


def _stands_still(standing: Standing) -> bool:
    return standing.state == "blocked" or (standing.state == "exposed" and not standing.target)


def _on_site(fleet: _Fleet, standing: Standing) -> OnSite:
    site = fleet.sites[standing.site]
    return OnSite(
        site=site.id,
        label=site.label,
        twin=fleet.is_twin(site.id),
        version=standing.version,
        target=standing.target,
        state=standing.state,
        text=standing.text,
    )


def _above(row: ProductRow, releases: list[KnownRelease]) -> Iterable[Passed]:
    """From each version in use to the newest, everything in between added up."""
    if row.newest is None:
        return
    end = parse_version(row.newest)
    for use in row.versions:
        yield passed(row.product.id, releases, parse_version(use.version), end)


def _groups(fleet: _Fleet, standings: list[Standing]) -> list[Group]:
    """Sites that cannot, grouped by reason, the largest group first.

    Two sites have the same reason when their sentences differ in nothing but names of versions;
    where they stay or go, and what else would stand in the way, is left out of it.
    """
    by_text: dict[tuple[str, str], list[Standing]] = defaultdict(list)
    for standing in standings:
        why = standing.text.partition(" Apart from that,")[0].partition(". ")
        bare = re.sub(r"\b[0-9][\w.+-]*\b", "…", why[2] or why[0])
        by_text[standing.reason, bare].append(standing)
    groups = [
        Group(
            reason=reason or "none",
            text=found[0].text,
            sites=tuple(_on_site(fleet, s) for s in found),
        )
        for (reason, _), found in by_text.items()
    ]
    return sorted(groups, key=lambda g: (-len(g.sites), g.text))


def _carried_newest(fleet: _Fleet, id: str) -> tuple[str | None, str | None]:
    """The newest version that a theme's release carries, and which release that is."""
    found: tuple[Version, str] | None = None
    for product, releases in fleet.releases.items():
        known = fleet.context.store.products.find(product)
        for release in _listed(releases):
            bundled = release.bundles.get(id)
            if bundled is not None:
                version = parse_version(bundled.version)
                name = f"{known.name if known else product} {release.version}"
                if found is None or version > found[0]:
                    found = version, name
    return (found[0].text, found[1]) if found else (None, None)


def _lags(fleet: _Fleet, id: str) -> Iterable[Lag]:
    """How long each theme that carries it takes."""
    for product, releases in sorted(fleet.releases.items()):
        if any(id in r.bundles for r in releases):
            yield lag(product, id, releases, fleet.releases[id])


# What no feed covers.


def coverage(context: Context) -> Coverage:
    """Which components feeds cover: the fleet, each site, and what none covers and why. Reads."""
    known = {p.id: p for p in context.store.products.all()}
    feeds = {f.id: f for f in tracking.listed(context)}
    told = context.store.products_told()
    sites = {s.id: s for s in context.store.sites.all() if s.retired_at is None}
    same_folder = {
        inventory.id: reasoning.namesakes(known, inventory)
        for inventory in context.store.inventories_of_note()
    }
    found: dict[tuple[str, Covered], list[tuple[str, str]]] = defaultdict(list)
    counts: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for id, product, version, _ in context.store.installed():
        shared = same_folder.get(id, set())
        why = _covered(known.get(product), product, sites[id], shared, feeds, told)
        counts[id][0] += 1
        counts[id][1] += why in ("covered", "feed down")
        if why != "covered":
            found[product, why].append((id, version))
    per_site = [
        SiteCoverage(site=id, label=sites[id].label, components=all_, covered=covered)
        for id, (all_, covered) in counts.items()
    ]
    uncovered = [
        _uncovered(context, known.get(product), product, why, where, sites)
        for (product, why), where in found.items()
    ]
    uncovered.sort(key=lambda u: (_WHYS.index(u.why), u.name))
    return Coverage(
        components=sum(s.components for s in per_site),
        covered=sum(s.covered for s in per_site),
        uncovered=tuple(uncovered),
        sites=tuple(per_site),
    )


_WHYS: tuple[Covered, ...] = (
    "namesake",
    "made for this site",
    "withdrawn",
    "never listed",
    "feed down",
    "covered",
)


def _covered(
    known: KnownProduct | None,
    product: str,
    site: Site,
    same_folder: set[str],
    feeds: dict[str, Feed],
    told: set[str],
) -> Covered:
    if product in site.own:
        return "made for this site"
    if product in same_folder:
        return "namesake"
    if known is None:
        return "never listed"
    if known.withdrawn_at is not None:
        return "withdrawn"
    if known.feed is None or known.feed not in feeds:
        # A theme's feed tells of what it carries, where it lists the plugin's releases too.
        return "covered" if product in told and known.feed else "never listed"
    return "covered" if feeds[known.feed].state == "fresh" else "feed down"


def _uncovered(
    context: Context,
    known: KnownProduct | None,
    product: str,
    why: Covered,
    where: list[tuple[str, str]],
    sites: dict[str, Site],
) -> Uncovered:
    today = context.clock().date()
    newest = _listed(context.store.releases.all(product=product))
    refused = newest[-1].version if newest and why in ("made for this site", "namesake") else None
    name = known.name if known else product
    if known is None or why in ("made for this site", "namesake"):
        inventory = context.store.inventories.get(where[0][0])
        name = next((c.name for c in inventory.components if c.product == product), name)
    return Uncovered(
        product=product,
        name=name,
        kind=product.partition("/")[0],
        why=why,
        text=_why_text(context, known, why, refused, today),
        versions=tuple(sorted({v for _, v in where}, key=lambda v: parse_version(v).key)),
        sites=tuple(s for s, _ in where),
        labels=tuple(sites[s].label for s, _ in where),
        refused=refused,
    )


def _why_text(
    context: Context, known: KnownProduct | None, why: Covered, refused: str | None, today: date
) -> str:
    match why:
        case "made for this site":
            text = "made for this site"
            return (
                f"{text}; the public {refused} only shares its folder's name" if refused else text
            )
        case "namesake":
            maker = known.maker if known else "the public maker"
            return (
                f"another maker's; {maker}'s {refused or 'releases'} only share its folder's name"
            )
        case "withdrawn":
            assert known is not None and known.withdrawn_at is not None  # that is why
            since = day(known.withdrawn_at.date(), today)
            return f"withdrawn, seen {since}: {known.withdrawn_text.rstrip('.')}; no feed will come"
        case "feed down":
            feed = context.store.feeds.find(known.feed) if known and known.feed else None
            label = feed.label if feed else "its feed"
            said = feed.reason.rstrip(".") if feed else "not read"
            return f"{label} can't be read now ({said}); what was known stands"
        case _:
            typed = [r for r in context.store.releases.all(product=known.id)] if known else []
            if typed:
                last = max(typed, key=lambda r: r.published)
                source = last.text.partition("; ")[2].rstrip(".")
                return f"no feed tells of it; {last.version} was typed in, {source}"
            return "no feed has ever listed it"
