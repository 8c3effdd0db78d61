"""Across the fleet: each product with its versions in use, and what no feed covers."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from typing import Literal

from windbreak.core.explanation.passing import Lag, Passed, lag, passed
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import WORST_FIRST, State
from windbreak.core.values.holds import StandingHold
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version, parse_version
from windbreak.documents.products import (
    Decision,
    Group,
    OnSite,
    ProductRow,
    ProductView,
    Standing,
    VersionUse,
)
from windbreak.operations.context import Context
from windbreak.operations.licensing import licence_rights
from windbreak.operations.planning import ties
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.runs import outcomes
from windbreak.wording.words import counted, day

_SEVERITIES = ("low", "medium", "high", "critical")


def products(context: Context) -> list[ProductRow]:
    """Every product as a row, what wants attention first. Reads what is kept ready."""
    rows = [ProductRow.model_validate_json(body) for body in context.store.views.product_rows()]
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


def project(context: Context, ground: Ground, touched: set[str] | None) -> None:
    """Make the rows of some products anew, or of all. Writes."""
    store = context.store
    every = {p.id: p for p in store.products.all()}
    wanted = every.keys() if touched is None else touched & every.keys()
    for gone in () if touched is None else touched - every.keys():
        store.views.drop_product_row(gone)
    if not wanted:
        return
    fleet = _Fleet(context, ground)
    store.views.put_product_rows(
        {
            id: _row(fleet, every[id], store.views.standings_of_product(id)).model_dump_json()
            for id in sorted(wanted)
        }
    )


class _Fleet:
    """What the rows of products are made from; what is of one product is read when it is asked."""

    def __init__(self, context: Context, ground: Ground) -> None:
        self.context = context
        self.ground = ground
        self.today = context.clock().date()
        self.sites = context.store.sites.notes()
        self.beyond = context.store.views.beyond_reach()
        self.holds: dict[str, list[StandingHold]] = defaultdict(list)
        for hold in context.store.holds.all():
            if hold.until is None or hold.until >= self.today:
                self.holds[hold.product].append(hold)
        self.approved: dict[str, set[tuple[str, str]]] = defaultdict(set)
        for site, targets in context.store.plans.approved().items():
            for product, version in targets.items():
                self.approved[product].add((version, site))

    def releases(self, product: str) -> list[KnownRelease]:
        return self.context.store.releases.all(product=product)

    def advisories(self, product: str) -> list[KnownAdvisory]:
        return self.context.store.advisories.all(product=product, withdrawn=False)

    def carried(self, product: str) -> bool:
        return bool(self.ground.catalogue.compiled.carriers.get(product))

    def licensed(self, site: str) -> set[str]:
        """The products that a site has a licence for."""
        return {x.product for x in licence_rights.for_case(self.ground.licences, self.sites[site])}

    def reachable(self, site: str) -> bool:
        """Whether a site's agent can be asked to move anything now."""
        return site not in self.beyond

    def is_twin(self, site: str) -> bool:
        return not self.sites[site].production


def listed_releases(releases: Iterable[KnownRelease]) -> list[KnownRelease]:
    """Stable releases that are to be had, oldest first."""
    good = [r for r in releases if r.channel == "stable" and r.withdrawn_at is None]
    return sorted(good, key=lambda r: parse_version(r.version).key)


def _row(fleet: _Fleet, product: KnownProduct, standings: list[Standing]) -> ProductRow:
    listed = fleet.releases(product.id)
    releases = listed_releases(listed)
    newest = releases[-1] if releases else None
    installed = [s for s in standings if s.version is not None]
    twins = sum(fleet.is_twin(s.site) for s in installed)
    advisories = fleet.advisories(product.id)
    reaching = _reaching(advisories, installed)
    places = Counter(_place(fleet, s) for s in standings)
    may = places["may"]
    states: list[State] = [s.state for s in standings if s.state != "held"]
    exposed = any(s.state == "exposed" for s in standings)
    undecided = sum(r.undecided for r in listed)
    worst = min(states, key=WORST_FIRST.index, default="clear")
    decision, decided = _decided(fleet, product, may, exposed=exposed, undecided=undecided)
    return ProductRow(
        product=product,
        newest=None if product.withdrawn_at or newest is None else newest.version,
        since=newest.published if newest else None,
        versions=_uses(fleet, installed, listed, advisories),
        sites=len(installed) - twins,
        twins=twins,
        may=may,
        wait=places["wait"],
        cannot=places["cannot"],
        held=places["held"],
        newest_on=places["newest"],
        unknown=places["unknown"],
        advisories=len(reaching),
        severity=max((a.severity for a in reaching), key=_SEVERITIES.index, default=None),
        decision=decision,
        decided=decided,
        origin=_origins(fleet, product, installed),
        state=worst,
        to_decide=undecided,
    )


def _reaching(advisories: list[KnownAdvisory], installed: list[Standing]) -> list[KnownAdvisory]:
    running = [parse_version(s.version) for s in installed if s.version]
    return [a for a in advisories if any(v in parse_range(a.affected) for v in running)]


def _uses(
    fleet: _Fleet,
    installed: list[Standing],
    listed: list[KnownRelease],
    advisories: list[KnownAdvisory],
) -> tuple[VersionUse, ...]:
    """The versions in use, and the newest even where nobody runs it, oldest first."""
    releases = listed_releases(listed)
    published = {parse_version(r.version): r.published for r in listed}
    by_version: dict[Version, list[Standing]] = defaultdict(list)
    for standing in installed:
        by_version[parse_version(standing.version or "")].append(standing)
    for release in releases[-1:]:
        by_version.setdefault(parse_version(release.version), [])
    ranges = [parse_range(a.affected) for a in advisories]
    uses = []
    for version in sorted(by_version, key=lambda v: v.key):
        here = by_version[version]
        uses.append(
            VersionUse(
                version=version.text,
                since=published.get(version),
                sites=tuple(s.site for s in here),
                twins=sum(fleet.is_twin(s.site) for s in here),
                exposed=len(here) if any(version in r for r in ranges) else 0,
            )
        )
    return tuple(uses)


def _decided(
    fleet: _Fleet, product: KnownProduct, may: int, *, exposed: bool, undecided: int
) -> tuple[Decision, str]:
    """What people have decided of a product, or what waits for their word."""
    if undecided:
        return "asked", "Decide: it came twice"
    holds = fleet.holds[product.id]
    if holds:
        hold = holds[0]
        where = "" if hold.site is None else f" on {fleet.sites[hold.site].label}"
        until = f" to {day(hold.until, fleet.today)}" if hold.until else ""
        return "held", f"held{where}{until}: {hold.reason}"
    approved = fleet.approved[product.id]
    if approved:
        version = max((v for v, _ in approved), key=lambda v: parse_version(v).key)
        count = len({s for v, s in approved if v == version})
        return "made", f"{version} for {counted(count, 'site')}"
    if product.withdrawn_at is not None:
        return "made", "withdrawn by its maker"
    if exposed and may:
        return "asked", "Decide: an advisory reaches it"
    if may:
        return "asked", "Decide"
    return "made", "only for a gain" if product.kind == "runtime" else "nothing to decide"


def _origins(fleet: _Fleet, product: KnownProduct, installed: list[Standing]) -> str:
    """Where it comes from, site by site: "licensed 1, carried 17"."""
    counts: dict[str, int] = defaultdict(int)
    carried = fleet.carried(product.id)
    told_only = "news alone" if product.access == "bundled-only" and not carried else ""
    for standing in installed:
        site = fleet.sites[standing.site]
        if product.id in site.own:
            counts["made for it"] += 1
        elif product.access in ("public", "host"):
            counts[product.access] += 1
        elif product.feed is None:
            counts["by hand"] += 1
        elif product.id in fleet.licensed(standing.site):
            counts["licensed"] += 1
        else:
            counts["carried" if carried else told_only or "no licence"] += 1
    if not counts:
        return told_only or ("carried" if product.access == "bundled-only" else product.access)
    if len(counts) == 1:
        return next(iter(counts))
    return ", ".join(f"{name} {n}" for name, n in sorted(counts.items(), key=lambda x: -x[1]))


def product(context: Context, id: str) -> ProductView:
    """One product across the fleet. Reads what is kept ready. Raises NotFound."""
    product = context.store.products.get(id)
    fleet = _Fleet(context, Ground.read(context))
    standings = context.store.views.standings_of_product(id)
    releases = fleet.releases(id)
    row = _row(fleet, product, standings)
    by_place: dict[Place, list[Standing]] = defaultdict(list)
    for standing in standings:
        by_place[_place(fleet, standing)].append(standing)
    shown = {place: tuple(_on_site(fleet, s) for s in here) for place, here in by_place.items()}
    feed = context.store.feeds.find(product.feed) if product.feed else None
    aged = feed.aged(context.clock()) if feed else None
    carried_newest, carried_in = _carried_newest(fleet, id)
    lockstep, clashes = ties.of_product(context, id)
    return ProductView(
        row=row,
        releases=tuple(sorted(releases, key=lambda r: parse_version(r.version).key, reverse=True)),
        on_sites=tuple(_on_site(fleet, s) for s in standings),
        above=tuple(_above(row, releases)),
        may=shown.get("may", ()),
        wait=shown.get("wait", ()),
        cannot=tuple(_groups(fleet, by_place["cannot"])),
        held=shown.get("held", ()),
        newest=shown.get("newest", ()),
        unknown=shown.get("unknown", ()),
        lags=tuple(_lags(fleet, id)),
        advisories=tuple(fleet.advisories(id)),
        lockstep=tuple(lockstep),
        clashes=tuple(clashes),
        feed_state=aged.state if aged else "no feed",
        feed_read_at=aged.fresh_at if aged else None,
        carried_newest=carried_newest,
        carried_in=carried_in,
        came=outcomes.sentences(context, id),
    )


Place = Literal["may", "wait", "cannot", "held", "newest", "unknown"]


def _place(fleet: _Fleet, standing: Standing) -> Place:
    """The one group that a site is in, of those that run a product."""
    if standing.target is not None:
        return "may" if fleet.reachable(standing.site) else "cannot"
    match standing.state:
        case "waiting" | "running":
            return "wait"
        case "held" | "unknown":
            return standing.state
        case "clear" | "ready":
            return "newest"
        case _:
            return "cannot"


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


_BEYOND = "It could move; the site can’t be reached."


def _groups(fleet: _Fleet, standings: list[Standing]) -> list[Group]:
    """Sites that cannot, grouped by reason, the largest group first.

    Two sites have the same reason when what keeps them back has the same root: the same kinds of
    exclusion, or the same facts, whatever the versions are.
    """
    by_root: dict[tuple[str, str], list[Standing]] = defaultdict(list)
    for standing in standings:
        beyond = standing.target is not None
        reason = ("unreachable", "") if beyond else (standing.reason, standing.root)
        by_root[reason].append(standing)
    groups = [
        Group(
            reason=reason or "none",
            text=_BEYOND if reason == "unreachable" else reasons[0].text,
            sites=tuple(_on_site(fleet, s) for s in reasons),
        )
        for (reason, _), reasons in by_root.items()
    ]
    return sorted(groups, key=lambda g: (-len(g.sites), g.text))


def _carried_newest(fleet: _Fleet, id: str) -> tuple[str | None, str | None]:
    """The newest version that a theme's release carries, and which release that is."""
    newest: tuple[Version, str] | None = None
    for theme in fleet.ground.catalogue.compiled.carriers.get(id, ()):
        product = fleet.context.store.products.find(theme)
        for release in listed_releases(fleet.releases(theme)):
            bundled = release.bundles.get(id)
            if bundled is not None:
                version = parse_version(bundled.version)
                name = f"{product.name if product else theme} {release.version}"
                if newest is None or version > newest[0]:
                    newest = version, name
    return (newest[0].text, newest[1]) if newest else (None, None)


def _lags(fleet: _Fleet, id: str) -> Iterable[Lag]:
    """How long each theme that carries it takes."""
    own = fleet.releases(id)
    for theme in sorted(fleet.ground.catalogue.compiled.carriers.get(id, ())):
        yield lag(theme, id, fleet.releases(theme), own)
