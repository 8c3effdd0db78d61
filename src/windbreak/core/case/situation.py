"""The case: one site's situation, frozen, as types and as a file.

Source of the format: docs/reasoning.md, "The case file". A document is read whole or refused
whole: every fault it has is reported at once, each with its JSON path. This module does not
reason; it only makes sure that what is reasoned about can be.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, date
from functools import cached_property
from typing import Annotated, Final, Literal

from pydantic import Field

from windbreak.core.values.basics import (
    ALIASED,
    Access,
    Channel,
    Day,
    Frozen,
    Instant,
    Kind,
    Match,
    ProductId,
    RangeText,
    Severity,
    VersionText,
)
from windbreak.core.values.ties import ClashSide
from windbreak.core.versions.version import Version, parse_version

FORMAT: Final = "windbreak-case/1"
# The reason of a hold on what a plan may not move, though nobody decided against it.
OUT_OF_SCOPE: Final = "it is no part of this plan"


class Product(Frozen):
    """Something that is installed on sites. ``closed``: its maker has withdrawn it."""

    id: ProductId
    kind: Kind
    access: Access
    name: str | None = None
    major_place: Annotated[int, Field(ge=1)] = 1
    closed: bool = False

    @property
    def label(self) -> str:
        return self.name or self.id


class Release(Frozen):
    """One version of a product, with what its maker says of it."""

    product: ProductId
    version: VersionText
    published: Day
    channel: Channel = "stable"
    requires: dict[str, RangeText] = Field(default_factory=dict)
    conflicts: dict[str, RangeText] = Field(default_factory=dict)
    tested: dict[str, VersionText] = Field(default_factory=dict)
    bundles: dict[str, VersionText] = Field(default_factory=dict)
    from_: Annotated[RangeText, Field(alias="from")] = "*"

    model_config = ALIASED

    @cached_property
    def parsed(self) -> Version:
        return parse_version(self.version)


class Lockstep(Frozen):
    """Products whose versions must match: exactly, in two numbers, or in the first."""

    products: tuple[ProductId, ...]
    match: Match


class Advisory(Frozen):
    """A published weakness of a range of versions."""

    id: str
    product: ProductId
    affected: RangeText
    severity: Severity


class Clash(Frozen):
    """Two ranges of two products that are known not to work together."""

    a: ClashSide
    b: ClashSide
    note: str = ""


class Component(Frozen):
    """One product as installed on the site."""

    product: ProductId
    version: VersionText
    active: bool = True


class Licence(Frozen):
    """The right to take releases of a product; ``None`` means without end."""

    product: ProductId
    range: RangeText = "*"
    covers_until: Day | None = None
    expires: Day | None = None


class ShelfItem(Frozen):
    """A package in hand that this site may have."""

    product: ProductId
    version: VersionText


class CaseSite(Frozen):
    id: str
    components: tuple[Component, ...]
    offers: dict[ProductId, tuple[VersionText, ...]] = Field(default_factory=dict)
    licences: tuple[Licence, ...] = ()
    shelf: tuple[ShelfItem, ...] = ()


class Hold(Frozen):
    """A decision not to move a product; it stands through the day ``until``."""

    product: ProductId
    range: RangeText = "*"
    until: Day | None = None
    reason: str


class Soak(Frozen):
    """How many days old a release must be, by the kind of move."""

    major: Annotated[int, Field(ge=0)] = 0
    minor: Annotated[int, Field(ge=0)] = 0
    patch: Annotated[int, Field(ge=0)] = 0
    security: Annotated[int, Field(ge=0)] = 0


class Policy(Frozen):
    """What the house decided for a site. ``soaks`` and ``channels_of`` are for single products and
    outrank what is for all.
    """

    holds: tuple[Hold, ...] = ()
    soak: Soak = Soak()
    soaks: dict[ProductId, Soak] = Field(default_factory=dict)
    channels: tuple[Channel, ...] = ("stable",)
    channels_of: dict[ProductId, tuple[Channel, ...]] = Field(default_factory=dict)
    install_required: bool = True
    order: tuple[Kind, ...] = ("runtime", "plugin", "theme", "core")

    def soak_of(self, product: str) -> Soak:
        return self.soaks.get(product, self.soak)

    def channels_for(self, product: str) -> tuple[Channel, ...]:
        return self.channels_of.get(product, self.channels)


class Case(Frozen):
    """One site's situation. Everything the reasoning may know is in here."""

    format: Literal["windbreak-case/1"] = FORMAT
    at: Instant
    products: tuple[Product, ...]
    releases: tuple[Release, ...] = ()
    lockstep: tuple[Lockstep, ...] = ()
    advisories: tuple[Advisory, ...] = ()
    clashes: tuple[Clash, ...] = ()
    site: CaseSite
    policy: Policy = Policy()

    @property
    def day(self) -> date:
        """The day of ``at`` in UTC, the one that dates are compared with."""
        return self.at.astimezone(UTC).date()

    @cached_property
    def product(self) -> Mapping[str, Product]:
        return {p.id: p for p in self.products}

    @cached_property
    def releases_of(self) -> Mapping[str, tuple[Release, ...]]:
        """The known releases by product, lowest first; a custom product has none."""
        by_product: dict[str, list[Release]] = {p.id: [] for p in self.products}
        for release in self.releases:
            if self.product[release.product].access != "custom":
                by_product[release.product].append(release)
        return {p: tuple(sorted(rs, key=lambda r: r.parsed.key)) for p, rs in by_product.items()}

    def carriers(self, plugin: str) -> Iterator[str]:
        """The themes in use on the site that carry a plugin in some release."""
        for component in self.site.components:
            if component.product.startswith("theme/") and component.active:
                releases = self.releases_of.get(component.product, ())
                if any(plugin in release.bundles for release in releases):
                    yield component.product

    def label(self, product: str) -> str:
        listed = self.product.get(product)
        return listed.label if listed else product

    def to_json(self) -> str:
        """The case as its file: readable back to an equal case."""
        return self.model_dump_json(indent=1)
