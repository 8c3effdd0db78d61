"""The catalogue compiled: every product's releases as one row of bits.

Source of the rules: docs/reasoning.md. Of what releases say of each other nothing is decided
here; it is only brought into a form in which a site's situation can be read off quickly. It
depends on no site, no policy and no clock, so it is made once and used for a whole fleet.

A product's *line* numbers its releases from 1, lowest first; bit ``k`` of a mask is release k.
Bit 0 is kept for what has no release: an installed version that nobody listed, or being absent.
"""

from __future__ import annotations

import hashlib
import pickle
from bisect import bisect_right
from collections.abc import Callable, Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate
from operator import or_
from typing import Literal, TypeVar, cast

from windbreak.core.case.situation import Advisory, Case, Clash, Lockstep, Product, Release
from windbreak.core.values.basics import SEVERITY, Channel, Match
from windbreak.core.versions.ranges import Ladder, parse_range
from windbreak.core.versions.version import Version, jump, parse_version

OFF_LIST = 1  # the bit of an unlisted version, or of being absent


@dataclass(frozen=True, slots=True)
class Jumps:
    """The releases above a version, as bits, by how far away they are."""

    major: int
    minor: int
    patch: int


class Line:
    """One product's releases, lowest first. A custom product has none."""

    def __init__(
        self, product: Product, releases: Iterable[Release], advisories: Sequence[Advisory]
    ) -> None:
        self.product = product
        self.releases = tuple(sorted(releases, key=lambda r: r.parsed.key))
        self.versions = tuple(r.parsed for r in self.releases)
        self.advisories = tuple(advisories)
        self.listed = (1 << len(self.releases) + 1) - 2
        self.ladder = Ladder(self.versions)
        self._within: dict[str, int] = {}
        self._jumps: dict[tuple[Version, int], Jumps] = {}
        self._marks: dict[Match, dict[object, int]] = {}

    @cached_property
    def is_runtime(self) -> bool:
        return self.product.kind == "runtime"

    def number(self, version: Version) -> int:
        """The number of the release equal to a version; 0 where none is listed."""
        rung = self.ladder.find(version)
        return 0 if rung is None else rung + 1

    def above(self, version: Version) -> int:
        """The releases above a version."""
        return self.ladder.above(version) << 1

    def within(self, text: str) -> int:
        """The releases in a range."""
        kept = self._within.get(text)
        if kept is None:
            kept = self._within[text] = self.ladder.mask(parse_range(text)) << 1
        return kept

    def newer_than(self, text: str) -> int:
        """The releases above a version, given as text."""
        return self.above(parse_version(text))

    @cached_property
    def _dates(self) -> tuple[list[int], list[int]]:
        dated = sorted((r.published.toordinal(), k) for k, r in enumerate(self.releases, 1))
        return [day for day, _ in dated], [0, *accumulate((1 << k for _, k in dated), or_)]

    def published_by(self, day: int) -> int:
        """The releases published on a day (as an ordinal) or before it."""
        days, masks = self._dates
        return masks[bisect_right(days, day)]

    @cached_property
    def channels(self) -> Mapping[Channel, int]:
        by_channel: dict[Channel, int] = {}
        for k, release in enumerate(self.releases, 1):
            by_channel[release.channel] = by_channel.get(release.channel, 0) | 1 << k
        return by_channel

    def marks(self, level: Match) -> Mapping[object, int]:
        """The releases by what must be equal at a level of lockstep."""
        by_mark = self._marks.get(level)
        if by_mark is None:
            by_mark = self._marks[level] = {}
            for k, version in enumerate(self.versions, 1):
                mark = lockstep_mark(version, level)
                by_mark[mark] = by_mark.get(mark, 0) | 1 << k
        return by_mark

    def jumps(self, start: Version) -> Jumps:
        """How far each release above ``start`` is away.

        Release parts never fall from one release to the next, so each class is one stretch.
        """
        key = (start, self.product.major_place)
        kept = self._jumps.get(key)
        if kept is None:
            masks = {"major": 0, "minor": 0, "patch": 0}
            above = self.above(start)
            for k, version in enumerate(self.versions, 1):
                if above >> k & 1:
                    masks[jump(start, version, self.product.major_place)] |= 1 << k
            kept = self._jumps[key] = Jumps(**masks)
        return kept

    def repaired_from(self, start: Version) -> int:
        """The releases free of some weakness that ``start`` has."""
        repaired = 0
        for weakness in self.advisories:
            if start in parse_range(weakness.affected):
                repaired |= self.listed & ~self.within(weakness.affected)
        return repaired

    @cached_property
    def weaknesses(self) -> tuple[tuple[int, str, int], ...]:
        """What each advisory weighs, its range, and the releases it affects; the gravest last."""
        return tuple(
            sorted(
                (SEVERITY[a.severity], a.affected, self.within(a.affected)) for a in self.advisories
            )
        )

    def against(self, version: Version | None, number: int) -> list[int]:
        """Which of the weaknesses a version has, by their places; none where absent."""
        if version is None:
            return []
        return [
            k
            for k, (_, affected, mask) in enumerate(self.weaknesses)
            if (mask >> number & 1 if number else version in parse_range(affected))
        ]

    def exposure(self, version: Version | None, number: int) -> int:
        """How much the advisories against a version add up to; 0 where absent."""
        return sum([self.weaknesses[k][0] for k in self.against(version, number)])

    @cached_property
    def stepped(self) -> tuple[int, ...]:
        """The numbers of the releases that not every version may go to, lowest first."""
        return tuple(k for k, r in enumerate(self.releases, 1) if r.from_.strip() != "*")

    @cached_property
    def requires(self) -> Mapping[str, tuple[tuple[int, str], ...]]:
        """By other product: which releases require it, and in which range."""
        return self._ranges(r.requires for r in self.releases)

    @cached_property
    def conflicts(self) -> Mapping[str, tuple[tuple[int, str], ...]]:
        return self._ranges(r.conflicts for r in self.releases)

    @cached_property
    def tested(self) -> Mapping[str, tuple[tuple[int, str], ...]]:
        """By other product: which releases were tried with it, and up to which version."""
        return self._ranges(r.tested for r in self.releases)

    @cached_property
    def bundles(self) -> Mapping[str, tuple[tuple[int, str], ...]]:
        """By plugin: which releases carry it, and in which version."""
        return self._ranges(r.bundles for r in self.releases)

    def _ranges(self, each: Iterable[Mapping[str, str]]) -> dict[str, tuple[tuple[int, str], ...]]:
        by_product: dict[str, dict[str, int]] = {}
        for k, ranges in enumerate(each, 1):
            for other, text in ranges.items():
                if other != self.product.id:
                    row = by_product.setdefault(other, {})
                    row[text] = row.get(text, 0) | 1 << k
        return {
            other: tuple((mask, text) for text, mask in row.items())
            for other, row in sorted(by_product.items())
        }


T = TypeVar("T")

Source = tuple[
    tuple[Product, ...],
    tuple[Release, ...],
    tuple[Lockstep, ...],
    tuple[Advisory, ...],
    tuple[Clash, ...],
]


class Catalogue:
    """What is known of products, as the reasoning takes it.

    Lines, and tables between two of them, are made when they are first asked for.
    """

    def __init__(
        self,
        products: Iterable[Product],
        releases: Iterable[Release],
        lockstep: Sequence[Lockstep] = (),
        advisories: Iterable[Advisory] = (),
        clashes: Sequence[Clash] = (),
    ) -> None:
        self.products = {p.id: p for p in products}
        self._releases: dict[str, list[Release]] = {}
        for release in releases:
            self._releases.setdefault(release.product, []).append(release)
        self._advisories: dict[str, list[Advisory]] = {}
        for advisory in advisories:
            self._advisories.setdefault(advisory.product, []).append(advisory)
        self.clashes = tuple(clashes)
        self.lockstep = tuple(lockstep)
        self._shared: Catalogue | None = None  # whose lines are taken, but for ``_own`` products
        self._own: frozenset[str] = frozenset()
        self._lines: dict[str, Line] = {}
        self._tables: dict[tuple[str, str, str], tuple[tuple[int, int, str], ...]] = {}
        self._derived: dict[Hashable, object] = {}
        self._about: dict[Hashable, tuple[str, ...]] = {}  # the products each is derived from
        self._carriage: dict[tuple[str, int], tuple[tuple[str, int], ...]] = {}

    @classmethod
    def of(cls, case: Case) -> Catalogue:
        return cls(case.products, case.releases, case.lockstep, case.advisories, case.clashes)

    @property
    def source(self) -> Source:
        """What it was made from, in the order of the constructor's arguments."""
        products = tuple(self.products.values())
        releases = tuple(r for rs in self._releases.values() for r in rs)
        advisories = tuple(a for advisory in self._advisories.values() for a in advisory)
        return products, releases, self.lockstep, advisories, self.clashes

    @cached_property
    def packed(self) -> tuple[bytes, bytes]:
        """Its source as bytes, to be sent to others, with a mark by which they know it again."""
        source = pickle.dumps(self.source, protocol=pickle.HIGHEST_PROTOCOL)
        return hashlib.sha256(source).digest(), source

    def replaced(
        self,
        products: Mapping[str, Product | None],
        releases: Mapping[str, Sequence[Release]],
        advisories: Mapping[str, Sequence[Advisory]],
        lockstep: Sequence[Lockstep],
        clashes: Sequence[Clash],
    ) -> Catalogue:
        """This catalogue where some products are others, or (None) are known no longer.

        What was compiled of the rest is kept, so that one new release costs what it touches.
        """
        other = Catalogue((), (), lockstep, (), clashes)
        gone = {p for p, now in products.items() if now is None}
        listed = {**self.products, **{p: now for p, now in products.items() if now is not None}}
        other.products = {p: now for p, now in listed.items() if p not in gone}
        other._releases = {**self._releases, **{p: list(rs) for p, rs in releases.items()}}
        other._advisories = {**self._advisories, **{p: list(a) for p, a in advisories.items()}}
        for product in (*gone, *(p for p in products if not other._releases.get(p))):
            other._releases.pop(product, None)
        for product in [p for p, some in other._advisories.items() if not some or p in gone]:
            del other._advisories[product]
        changed = products.keys()
        other._lines = {p: line for p, line in self._lines.items() if p not in changed}
        other._tables = {k: t for k, t in self._tables.items() if changed.isdisjoint(k[1:])}
        if not any(p.startswith("theme/") for p in changed):
            other._carriage = {k: c for k, c in self._carriage.items() if k[0] not in changed}
        other._derived = {
            k: made for k, made in self._derived.items() if changed.isdisjoint(self._about[k])
        }
        other._about = {k: about for k, about in self._about.items() if k in other._derived}
        return other

    def lean(self, case: Case) -> Case:
        """A case without what it shares with this catalogue, to be put ``beside`` it again."""
        other = {p.id for p in case.products if self.products.get(p.id) != p}
        own: dict[str, list[Release]] = {p.id: [] for p in case.products}
        for release in case.releases:
            own[release.product].append(release)
        other |= {p for p, releases in own.items() if releases != self._releases.get(p, [])}
        return case.model_copy(
            update={
                "products": tuple(p for p in case.products if p.id in other),
                "releases": tuple(r for r in case.releases if r.product in other),
                "advisories": tuple(a for a in case.advisories if a.product in other),
                "lockstep": (),
                "clashes": (),
            }
        )

    def beside(self, case: Case) -> Catalogue:
        """This catalogue with the products of a lean case, which it knows otherwise, their
        releases and advisories in the place of those here; itself where there are none.
        """
        if not case.products:
            return self
        changed = {p.id: p for p in case.products}
        own: dict[str, list[Release]] = {p: [] for p in changed}
        for release in case.releases:
            own[release.product].append(release)
        # What was made for the site only shares its name with what is in lockstep or clashes.
        own_made = {p.id for p in case.products if p.access == "custom"}
        others = self.products.keys() - own_made
        lockstep, clashes = (
            among(self.lockstep, self.clashes, others)
            if own_made
            else (self.lockstep, self.clashes)
        )
        joined = Catalogue((), (), lockstep, (), clashes)
        joined.products = {**self.products, **changed}
        joined._releases = {**self._releases, **own}
        joined._advisories = {p: a for p, a in self._advisories.items() if p not in changed}
        for advisory in case.advisories:
            joined._advisories.setdefault(advisory.product, []).append(advisory)
        joined._shared = self
        joined._own = frozenset(changed)
        return joined

    def label(self, product: str) -> str:
        listed = self.products.get(product)
        return listed.label if listed else product

    def line(self, product: str) -> Line:
        """Raises KeyError for a product that is not listed."""
        if self._shared is not None and product not in self._own:
            return self._shared.line(product)
        compiled = self._lines.get(product)
        if compiled is None:
            listed = self.products[product]
            own = () if listed.access == "custom" else self._releases.get(product, ())
            compiled = Line(listed, own, self._advisories.get(product, ()))
            self._lines[product] = compiled
        return compiled

    def table(self, field: str, p: str, q: str) -> tuple[tuple[int, int, str], ...]:
        """What the releases of p say of q in one field, as bits of both: ``(p, q, text)``.

        For "requires" the releases of q that do, for "conflicts" those that do not conflict, for
        "tested" those newer than was tried, for "bundles" the one that is carried, if it is listed.
        """
        if self._shared is not None and self._own.isdisjoint((p, q)):
            return self._shared.table(field, p, q)
        key = (field, p, q)
        kept = self._tables.get(key)
        if kept is None:
            other = self.line(q)
            ranges: Sequence[tuple[int, str]] = getattr(self.line(p), field)[q]
            match field:
                case "requires":
                    rows = [(mask, other.within(text), text) for mask, text in ranges]
                case "conflicts":
                    rows = [
                        (mask, other.listed & ~other.within(text), text) for mask, text in ranges
                    ]
                case "bundles":
                    numbers = [other.number(parse_version(text)) for _, text in ranges]
                    rows = [
                        (mask, 1 << number & ~OFF_LIST, text)
                        for (mask, text), number in zip(ranges, numbers, strict=True)
                    ]
                case _:
                    rows = [(mask, other.newer_than(text), text) for mask, text in ranges]
            kept = self._tables[key] = tuple(rows)
        return kept

    def derived(self, key: Hashable, products: Sequence[str], make: Callable[[], T]) -> T:
        """What is made once of some products' lines, and kept with whichever catalogue has them."""
        if self._shared is not None and self._own.isdisjoint(products):
            return self._shared.derived(key, products, make)
        if key not in self._derived:
            self._derived[key] = make()
            self._about[key] = tuple(products)
        return cast(T, self._derived[key])

    def carriage(self, plugin: str, number: int) -> tuple[tuple[str, int], ...]:
        """The themes that carry a plugin's release, each with its releases that do, as bits."""
        key = (plugin, number)
        themes = self._carriage.get(key)
        if themes is None:
            carrying = []
            for theme in self.carriers.get(plugin, ()):
                rows = self.table("bundles", theme, plugin)
                mask = sum(own for own, carried, _ in rows if carried >> number & 1)
                if mask:
                    carrying.append((theme, mask))
            themes = self._carriage[key] = tuple(carrying)
        return themes

    @cached_property
    def required_by(self) -> Mapping[str, tuple[str, ...]]:
        """The products some release of which requires a product, by that product."""
        shared = self._shared.required_by if self._shared else {}
        return self._naming("requires", shared)

    @cached_property
    def carriers(self) -> Mapping[str, tuple[str, ...]]:
        """The themes some release of which carries a plugin, by plugin."""
        shared = self._shared.carriers if self._shared else {}
        return self._naming("bundles", shared)

    def _naming(
        self, field: Literal["requires", "bundles"], shared: Mapping[str, tuple[str, ...]]
    ) -> dict[str, tuple[str, ...]]:
        """By product, those whose releases name it in a field; what is shared is not read again.

        A custom product has no releases, whatever is listed under its name.
        """
        named: dict[str, set[str]] = {}
        own = self._own if self._shared else self._releases
        for product in own:
            if self.products[product].access == "custom":
                continue
            for release in self._releases[product]:
                for other in getattr(release, field):
                    named.setdefault(other, set()).add(product)
        by_product = dict(shared)
        for other in named.keys() | {o for o, by in shared.items() if not self._own.isdisjoint(by)}:
            by = named.get(other, set()) | {p for p in shared.get(other, ()) if p not in self._own}
            by_product[other] = tuple(sorted(by))
        return by_product


def among(
    groups: Iterable[Lockstep], clashes: Iterable[Clash], products: Collection[str]
) -> tuple[tuple[Lockstep, ...], tuple[Clash, ...]]:
    """What is left of groups and clashes between some products alone."""
    left = (
        Lockstep(products=tuple(p for p in g.products if p in products), match=g.match)
        for g in groups
    )
    return (
        tuple(g for g in left if len(g.products) > 1),
        tuple(c for c in clashes if c.a.product in products and c.b.product in products),
    )


def lockstep_mark(version: Version, level: Match) -> object:
    """What must be equal in two versions at a level of lockstep."""
    if level == "exact":
        return version.key
    return tuple(version.place(n) for n in range(2 if level == "minor" else 1))
