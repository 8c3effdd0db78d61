"""What each component may become, and why it may not become more.

Source of the rules: docs/reasoning.md, "What a component may become". Every reason that keeps
a release out is kept, with its particulars. Whether candidates go together is not decided
here (see constraints).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.case import Case, Channel, Component, Frozen, Release, soak_over
from windbreak.core.versions import Version, jump, parse_range, parse_version

Way = Literal["public", "licensed", "shelf", "host", "bundle"]
SoakClass = Literal["major", "minor", "patch", "security"]
LicenceState = Literal["none", "expired", "not-covered"]


class Carrier(Frozen):
    """A theme release that carries a plugin release inside it."""

    product: str
    version: str


class ChannelExclusion(Frozen):
    kind: Literal["channel"] = "channel"
    channel: Channel


class HoldExclusion(Frozen):
    kind: Literal["hold"] = "hold"
    until: date | None
    reason: str


class SoakExclusion(Frozen):
    """``over`` is the first day on which the soak is over."""

    kind: Literal["soak"] = "soak"
    soak_class: Annotated[SoakClass, Field(alias="class")]
    over: date

    model_config = Release.model_config


class LicenceExclusion(Frozen):
    kind: Literal["licence"] = "licence"
    state: LicenceState
    carried_by: tuple[Carrier, ...] = ()


class OfferExclusion(Frozen):
    kind: Literal["offer"] = "offer"


class BundleExclusion(Frozen):
    kind: Literal["bundle"] = "bundle"
    carried_by: tuple[Carrier, ...]


class AccessExclusion(Frozen):
    kind: Literal["access"] = "access"


class FromExclusion(Frozen):
    kind: Literal["from"] = "from"
    needs: str


Exclusion = (
    ChannelExclusion
    | HoldExclusion
    | SoakExclusion
    | LicenceExclusion
    | OfferExclusion
    | BundleExclusion
    | AccessExclusion
    | FromExclusion
)


@dataclass(frozen=True, slots=True)
class Option:
    """One thing a member may be: a version, or absent (``version`` None, additions only).

    ``release`` is the listed release equal to the version, or None where nothing is known and
    so nothing binds. ``ways`` are the ways of access; empty for what is installed already.
    """

    version: Version | None
    release: Release | None
    ways: tuple[Way, ...] = ()

    @property
    def bundle_only(self) -> bool:
        """Whether it may be chosen only together with a theme release that carries it."""
        return self.ways == ("bundle",)


@dataclass(frozen=True, slots=True)
class Member:
    """A component, or an addition (``component`` None), with what it may become.

    ``options`` are its candidates, lowest first; the first is today's state. ``excluded`` maps
    every other release above today's to all reasons that keep it out. ``universe`` is today's
    state and every known release of the product, lowest first, whether a candidate or not.
    """

    product: str
    component: Component | None
    options: tuple[Option, ...]
    excluded: Mapping[Version, tuple[Exclusion, ...]]
    universe: tuple[Option, ...]
    newest: Version | None = field(default=None)

    @property
    def active(self) -> bool:
        return self.component is None or self.component.active

    @property
    def addition(self) -> bool:
        return self.component is None


def members(case: Case) -> tuple[Member, ...]:
    """Every component of the site and every possible addition, by product id."""
    components = {c.product: c for c in case.site.components}
    found: dict[str, Member] = {}
    carried: dict[tuple[str, Version], list[Carrier]] = {}
    for product, component in components.items():
        if not product.startswith("plugin/"):
            found[product] = _member(case, product, component, carried)
    for product, member in found.items():
        if product.startswith("theme/") and member.active:
            for option in member.options:
                for plugin, version in _bundles(option):
                    carrier = Carrier(product=product, version=str(option.version))
                    carried.setdefault((plugin, version), []).append(carrier)
    for product, component in components.items():
        if product.startswith("plugin/"):
            found[product] = _member(case, product, component, carried)
    if case.policy.install_required:
        waiting = list(found.values())
        while waiting:
            for product in sorted(_required(waiting.pop())):
                known = case.product.get(product)
                if known is not None and known.kind == "plugin" and product not in found:
                    found[product] = _member(case, product, None, carried)
                    waiting.append(found[product])
    return tuple(found[product] for product in sorted(found))


def carriers(case: Case, product: str, version: Version) -> tuple[Carrier, ...]:
    """Every known theme release that bundles this version of a plugin."""
    found = []
    for release in case.releases:
        bundled = release.bundles.get(product)
        if bundled is not None and parse_version(bundled) == version:
            found.append(Carrier(product=release.product, version=release.version))
    return tuple(found)


def soak_class(case: Case, release: Release, start: Version | None) -> SoakClass:
    """The class whose soak a release has to stand: "security", or the jump from ``start``."""
    if start is None:
        return "major"
    for advisory in case.advisories:
        if advisory.product == release.product:
            affected = parse_range(advisory.affected)
            if start in affected and release.parsed not in affected:
                return "security"
    return jump(start, release.parsed, case.product[release.product].major_place)


def _required(member: Member) -> set[str]:
    return {q for option in member.options if option.release for q in option.release.requires}


def _bundles(option: Option) -> Iterator[tuple[str, Version]]:
    if option.release is not None:
        for plugin, version in option.release.bundles.items():
            yield plugin, parse_version(version)


_Carried = Mapping[tuple[str, Version], list[Carrier]]


def _member(case: Case, product: str, component: Component | None, carried: _Carried) -> Member:
    start = parse_version(component.version) if component else None
    releases = case.releases_of[product]
    own = next((r for r in releases if r.parsed == start), None) if start else None
    today = Option(start, own)
    options, universe, excluded = [today], [], {}
    placed = False
    for release in releases:
        version = release.parsed
        if not placed and (start is None or version >= start):
            universe.append(today)
            placed = True
        if start is not None and version == start:
            continue
        ways = tuple(_ways(case, release, carried))
        option = Option(version, release, ways)
        universe.append(option)
        if start is not None and version < start:
            continue
        reasons = tuple(_reasons(case, release, start, ways, options))
        if reasons:
            excluded[version] = reasons
        else:
            options.append(option)
    if not placed:
        universe.append(today)
    permitted = [r.parsed for r in releases if r.channel in case.policy.channels]
    newest = max([*permitted, *([start] if start else [])], default=None)
    return Member(product, component, tuple(options), excluded, tuple(universe), newest)


def _ways(case: Case, release: Release, carried: _Carried) -> Iterator[Way]:
    product, version = case.product[release.product], release.parsed
    if product.access == "public":
        yield "public"
    if product.access == "licensed" and _licence_state(case, release) is None:
        yield "licensed"
    for item in case.site.shelf:
        if item.product == product.id and parse_version(item.version) == version:
            yield "shelf"
            break
    if product.kind == "runtime":
        offers = case.site.offers.get(product.id, ())
        if any(parse_version(offered) == version for offered in offers):
            yield "host"
    if (product.id, version) in carried:
        yield "bundle"


def _licence_state(case: Case, release: Release) -> LicenceState | None:
    """None when a licence of the site lets it take the release, else the nearest miss."""
    own = [licence for licence in case.site.licences if licence.product == release.product]
    if not own:
        return "none"
    running = [x for x in own if x.expires is None or case.day <= x.expires]
    if not running:
        return "expired"
    reaching = [x for x in running if release.parsed in parse_range(x.range)]
    if any(x.covers_until is None or release.published <= x.covers_until for x in reaching):
        return None
    return "not-covered"


def _reasons(
    case: Case,
    release: Release,
    start: Version | None,
    ways: tuple[Way, ...],
    below: list[Option],
) -> Iterator[Exclusion]:
    version = release.parsed
    if release.channel not in case.policy.channels:
        yield ChannelExclusion(channel=release.channel)
    for hold in case.policy.holds:
        stands = hold.until is None or case.day <= hold.until
        if hold.product == release.product and stands and version in parse_range(hold.range):
            yield HoldExclusion(until=hold.until, reason=hold.reason)
    wanted = soak_class(case, release, start)
    over = soak_over(release, getattr(case.policy.soak, wanted))
    if case.at.astimezone(UTC) < over:
        yield SoakExclusion(soak_class=wanted, over=over.date())
    if not ways:
        yield _no_access(case, release)
    if start is not None:
        allowed = parse_range(release.from_)
        if not any(o.version in allowed for o in below if o.version is not None):
            yield FromExclusion(needs=release.from_)


def _no_access(case: Case, release: Release) -> Exclusion:
    product = case.product[release.product]
    carried_by = carriers(case, product.id, release.parsed)
    if product.access == "licensed":
        state = _licence_state(case, release)
        assert state is not None  # else "licensed" would be among its ways
        return LicenceExclusion(state=state, carried_by=carried_by)
    if product.access == "bundled-only" and carried_by:
        return BundleExclusion(carried_by=carried_by)
    if product.kind == "runtime":
        return OfferExclusion()
    return AccessExclusion()
