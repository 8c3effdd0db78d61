"""What each component may become, and why it may not become more.

Source of the rules: docs/reasoning.md, "What a component may become". Every reason that keeps
a release out is kept, with its particulars. Whether candidates go together is not decided
here (see constraints).
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator
from datetime import date, timedelta
from typing import NamedTuple

from windbreak.core.bits import bits
from windbreak.core.case.catalogue import OFF_LIST, Catalogue, Line
from windbreak.core.case.situation import Case, Component, Hold, Licence, Release
from windbreak.core.values.reasons import (
    AccessExclusion,
    BundleExclusion,
    Carrier,
    ChannelExclusion,
    Exclusion,
    FromExclusion,
    HoldExclusion,
    LicenceExclusion,
    LicenceState,
    OfferExclusion,
    SoakClass,
    SoakExclusion,
    Way,
)
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version, parse_version


class Ways(NamedTuple):
    """By which way of access each release of a line can be had, as bits."""

    public: int = 0
    licensed: int = 0
    shelf: int = 0
    host: int = 0
    bundle: int = 0

    @property
    def any(self) -> int:
        return self.public | self.licensed | self.shelf | self.host | self.bundle

    @property
    def bundle_only(self) -> int:
        return self.bundle & ~(self.public | self.licensed | self.shelf | self.host)

    def first(self, number: int) -> Way | None:
        """The way that is used for a release; None where there is none."""
        for way in _WAYS:
            if getattr(self, way) >> number & 1:
                return way
        return None


_WAYS: tuple[Way, ...] = ("public", "licensed", "shelf", "host", "bundle")


class Member(NamedTuple):
    """A component, or an addition (``component`` None), with what it may become.

    Numbers and bits are those of its line: 0 stands for today's version where nobody listed it,
    or for being absent. ``candidates`` holds ``start``, where it stands today.
    """

    product: str
    component: Component | None
    line: Line
    installed: Version | None
    start: int
    candidates: int
    ways: Ways
    gone: bool = False  # it was removed, and keeps its number only

    @property
    def active(self) -> bool:
        return self.component is None or self.component.active

    @property
    def addition(self) -> bool:
        return self.component is None

    @property
    def bundle_only(self) -> int:
        """The candidates that may be chosen only with a theme release that carries them."""
        return self.ways.bundle_only & self.candidates & ~(1 << self.start)

    @property
    def dated(self) -> bool:
        """Whether another day could make its candidates others."""
        if self.gone:
            return False
        above = self.line.above(self.installed) if self.installed else self.line.listed
        return bool(above & ~self.candidates) or self.line.product.access == "licensed"

    @property
    def universe(self) -> int:
        """Every known release, and today's state."""
        return self.line.listed | 1 << self.start

    def version(self, number: int) -> Version | None:
        """The version a number stands for; None where absent."""
        return self.line.versions[number - 1] if number else self.installed

    def release(self, number: int) -> Release | None:
        """The listed release a number stands for; None where nothing is known."""
        return self.line.releases[number - 1] if number else None


def newest(case: Case, member: Member) -> Version | None:
    """The greater of the installed version and the newest release in a permitted channel."""
    number = in_channel(case, member.line).bit_length() - 1
    listed = member.line.versions[number - 1] if number > 0 else None
    if listed is None or member.installed is None:
        return listed or member.installed
    return max(listed, member.installed)


def in_channel(case: Case, line: Line) -> int:
    """The releases of a product in the channels that the policy permits for it."""
    permitted = 0
    for channel in case.policy.channels_for(line.product.id):
        permitted |= line.channels.get(channel, 0)
    return permitted


def members(case: Case, catalogue: Catalogue) -> tuple[Member, ...]:
    """Every component of the site and every possible addition, by product id."""
    site = _Site(case, catalogue)
    by_product: dict[str, Member] = {}
    # What themes carry depends on what they may become: plugins come last.
    for component in sorted(case.site.components, key=lambda c: c.product.startswith("plugin/")):
        by_product[component.product] = site.member(component.product, component)
    for addition in site.wanted(by_product.values()):
        by_product[addition.product] = addition
    return tuple(by_product[product] for product in sorted(by_product))


def again(
    case: Case, catalogue: Catalogue, before_change: Iterable[Member], products: Iterable[str]
) -> dict[str, Member]:
    """Some members anew, and the plugins that themes among them carry; the others as they are.

    For a case that was changed in what these may become, and no more.
    """
    site = _Site(case, catalogue)
    before = {m.product: m for m in before_change}
    site.themes = {m.product: m for m in before.values() if m.product.startswith("theme/")}
    changed: dict[str, Member] = {}
    for product in sorted(products, key=lambda p: p.startswith("plugin/")):
        changed[product] = site.member(product, before[product].component)
        if product in site.themes:
            for plugin in changed[product].line.bundles:
                if plugin in before and not before[plugin].gone:
                    changed[plugin] = site.member(plugin, before[plugin].component)
    return changed


def removed(case: Case, catalogue: Catalogue, before: Iterable[Member], product: str) -> Member:
    """What becomes of a plugin that was removed: an addition, if some candidate requires it."""
    members = list(before)
    askers = [m for m in members if m.product in catalogue.required_by.get(product, ())]
    if case.policy.install_required and any(
        mask & m.candidates
        for m in askers
        if m.product != product
        for mask, _ in m.line.requires.get(product, ())
    ):
        site = _Site(case, catalogue)
        site.themes = {m.product: m for m in members if m.product.startswith("theme/")}
        return site.member(product, None)
    return Member(product, None, catalogue.line(product), None, 0, OFF_LIST, Ways(), gone=True)


def asks_for_more(
    catalogue: Catalogue, member: Member, options: int, present: Container[str]
) -> bool:
    """Whether some option requires a plugin that is not present and may join the site."""
    return any(
        product not in present and product.startswith("plugin/") and product in catalogue.products
        for product, tables in member.line.requires.items()
        if any(mask & options for mask, _ in tables)
    )


class _Site:
    """A case's site as candidates are looked for: what it may have, and what themes carry."""

    def __init__(self, case: Case, catalogue: Catalogue) -> None:
        self.case = case
        self.catalogue = catalogue
        day = case.day
        self.today = day.toordinal()
        self.themes: dict[str, Member] = {}  # those on the site, as far as they are known yet
        self.holds: dict[str, list[Hold]] = {}
        for hold in case.policy.holds:
            if hold.until is None or day <= hold.until:
                self.holds.setdefault(hold.product, []).append(hold)
        self.licences: dict[str, list[Licence]] = {}
        for licence in case.site.licences:
            if licence.expires is None or day <= licence.expires:
                self.licences.setdefault(licence.product, []).append(licence)
        self.shelf: dict[str, list[str]] = {}
        for item in case.site.shelf:
            self.shelf.setdefault(item.product, []).append(item.version)

    def wanted(self, components: Iterable[Member]) -> Iterator[Member]:
        """The plugins not on the site that candidates require, directly or through another."""
        waiting = list(components) if self.case.policy.install_required else []
        seen = {member.product for member in waiting}
        while waiting:
            member = waiting.pop()
            for product, tables in member.line.requires.items():
                if product in seen or not product.startswith("plugin/"):
                    continue
                if product in self.catalogue.products and any(
                    mask & member.candidates for mask, _ in tables
                ):
                    seen.add(product)
                    waiting.append(self.member(product, None))
                    yield waiting[-1]

    def carried(self, plugin: str) -> int:
        """The releases of a plugin that candidates of active themes carry."""
        releases = 0
        for name in self.catalogue.carriers.get(plugin, ()):
            theme = self.themes.get(name)
            if theme is not None and theme.active:
                for mask, carried, _ in self.catalogue.table("bundles", name, plugin):
                    if mask & theme.candidates:
                        releases |= carried
        return releases

    def member(self, product: str, component: Component | None) -> Member:
        line = self.catalogue.line(product)
        installed = parse_version(component.version) if component else None
        start = line.number(installed) if installed else 0
        ways = self.ways(line)
        above = line.above(installed) if installed else line.listed
        passing = above & ways.any & in_channel(self.case, line) & ~self.held(line)
        if passing:
            passing &= self.soaked(line, installed)
        candidates = passing | 1 << start
        if installed is not None:
            candidates = _reached(line, installed, start, candidates)
        member = Member(product, component, line, installed, start, candidates, ways)
        if product.startswith("theme/"):
            self.themes[product] = member
        return member

    def ways(self, line: Line) -> Ways:
        product = line.product
        if not line.listed:
            return Ways()
        public = line.listed if product.access == "public" else 0
        licensed = self.licensed(line) if product.access == "licensed" else 0
        shelf = host = 0
        for version in self.shelf.get(product.id, ()):
            shelf |= 1 << line.number(parse_version(version))
        if line.is_runtime:
            for offered in self.case.site.offers.get(product.id, ()):
                host |= 1 << line.number(parse_version(offered))
        off = ~OFF_LIST
        return Ways(public, licensed, shelf & off, host & off, self.carried(product.id))

    def licensed(self, line: Line) -> int:
        covered = 0
        for licence in self.licences.get(line.product.id, ()):
            mask = line.listed if licence.range == "*" else line.within(licence.range)
            if licence.covers_until is not None:
                mask &= line.published_by(licence.covers_until.toordinal())
            covered |= mask
        return covered

    def held(self, line: Line) -> int:
        held = 0
        for hold in self.holds.get(line.product.id, ()):
            held |= line.listed if hold.range == "*" else line.within(hold.range)
        return held

    def soaked(self, line: Line, start: Version | None) -> int:
        """The releases whose soak is over."""
        soak = self.case.policy.soak_of(line.product.id)
        if start is None:
            return line.published_by(self.today - soak.major)
        repaired = line.repaired_from(start) if line.advisories else 0
        far = line.jumps(start)
        over = repaired & line.published_by(self.today - soak.security)
        over |= far.major & ~repaired & line.published_by(self.today - soak.major)
        over |= far.minor & ~repaired & line.published_by(self.today - soak.minor)
        return over | far.patch & ~repaired & line.published_by(self.today - soak.patch)


def _reached(line: Line, installed: Version, start: int, candidates: int) -> int:
    """The candidates to which a chain of hops leads, lowest first, each stop a candidate."""
    for number in line.stepped:
        if candidates >> number & 1 and number != start:
            text = line.releases[number - 1].from_
            below = candidates & ((1 << number) - 1)
            if not line.within(text) & below and installed not in parse_range(text):
                candidates &= ~(1 << number)
    return candidates


def hops(member: Member, number: int) -> int:
    """The candidates from which a release may be gone to in one hop, as bits."""
    text = member.line.releases[number - 1].from_
    below = member.candidates & ((1 << number) - 1)
    if text.strip() == "*":
        return below
    from_here = below & member.line.within(text)
    if not member.start and member.installed and member.installed in parse_range(text):
        from_here |= OFF_LIST
    return from_here


def soak_class(member: Member, number: int) -> SoakClass:
    """The class whose soak a release has to stand: "security", or the jump from today's."""
    if member.installed is None:
        return "major"
    if member.line.repaired_from(member.installed) >> number & 1:
        return "security"
    far = member.line.jumps(member.installed)
    if far.major >> number & 1:
        return "major"
    return "minor" if far.minor >> number & 1 else "patch"


def reasons(case: Case, catalogue: Catalogue, member: Member, number: int) -> tuple[Exclusion, ...]:
    """Every reason that keeps a release above today's out; none for a candidate."""
    if member.candidates >> number & 1:
        return ()
    return tuple(_reasons(case, catalogue, member, number))


def _reasons(case: Case, catalogue: Catalogue, member: Member, number: int) -> Iterator[Exclusion]:
    line = member.line
    release = line.releases[number - 1]
    if release.channel not in case.policy.channels_for(member.product):
        yield ChannelExclusion(channel=release.channel)
    for hold in case.policy.holds:
        stands = hold.until is None or case.day <= hold.until
        if hold.product == member.product and stands and line.within(hold.range) >> number & 1:
            yield HoldExclusion(until=hold.until, reason=hold.reason)
    over = soak_over(case, member, number)
    if case.day < over or over == date.max:
        yield SoakExclusion(soak_class=soak_class(member, number), over=over)
    if not member.ways.any >> number & 1:
        yield _no_access(case, catalogue, member, number)
    if member.installed is not None and release.from_.strip() != "*":
        lower = member.candidates & ((1 << number) - 1)
        from_ = line.within(release.from_) & lower
        if not from_ and member.installed not in parse_range(release.from_):
            yield FromExclusion(needs=release.from_)


def soak_over(case: Case, member: Member, number: int) -> date:
    """The first day on which the soak of a release is over."""
    published = member.line.releases[number - 1].published
    days = getattr(case.policy.soak_of(member.product), soak_class(member, number))
    left = date.max.toordinal() - published.toordinal()
    return published + timedelta(days=min(days, left))


def _no_access(case: Case, catalogue: Catalogue, member: Member, number: int) -> Exclusion:
    product = member.line.product
    carried_by = carriers(catalogue, product.id, number)
    if product.access == "licensed":
        state = licence_state(case, member, number)
        assert state is not None  # else "licensed" would be among its ways
        return LicenceExclusion(state=state, carried_by=carried_by)
    if product.access == "bundled-only" and carried_by:
        return BundleExclusion(carried_by=carried_by)
    if product.kind == "runtime":
        return OfferExclusion()
    return AccessExclusion()


def licence_state(case: Case, member: Member, number: int) -> LicenceState | None:
    """None when a licence of the site lets it take the release, else the nearest miss."""
    if member.ways.licensed >> number & 1:
        return None
    own = [licence for licence in case.site.licences if licence.product == member.product]
    if not own:
        return "none"
    running = any(x.expires is None or case.day <= x.expires for x in own)
    return "not-covered" if running else "expired"


def carriers(catalogue: Catalogue, plugin: str, number: int) -> tuple[Carrier, ...]:
    """Every known theme release that bundles a plugin's release."""
    return tuple(
        Carrier(product=theme, version=catalogue.line(theme).releases[k - 1].version)
        for theme, mask in catalogue.carriage(plugin, number)
        for k in bits(mask)
    )
