"""What is read across the fleet: products with their versions in use, and what no feed covers."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.explanation.passing import Lag, Passed
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import Day, ProductId, Severity, Slug, State, Value
from windbreak.core.values.findings import NextAct
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.roots import Root
from windbreak.core.values.ties import KnownClash, KnownLockstep
from windbreak.core.values.verdicts import Broken

Covered = Literal[
    "covered", "made for this site", "namesake", "copy", "withdrawn", "feed down", "never listed"
]


class Way(Value):
    """Acts that would bring a component on, in words and as they are done."""

    text: str
    acts: tuple[NextAct, ...]


class Standing(Value):
    """How one component stands on one site; ``reason`` is the kind of what keeps it, or "".

    ``blocked`` is the version it is kept from, ``until`` and ``soak`` say how long and why where
    only time is wanting; ``roots`` are what keeps it, ``ways`` what would change that: their acts
    do not name the site, as all sites of one situation share them. ``broken`` is what it does not
    go together with today.
    """

    site: Slug
    product: ProductId
    version: str | None
    target: str | None
    newest: str | None
    state: State
    reason: str
    text: str
    blocked: str | None = None
    until: Day | None = None
    soak: str | None = None
    broken: tuple[Broken, ...] = ()
    roots: tuple[Root, ...] = ()
    ways: tuple[Way, ...] = ()

    @property
    def root(self) -> str:
        """What is equal where the same things keep it back, whatever the versions."""
        return "; ".join(root.id for root in self.roots)


class VersionUse(Value):
    """A version with the sites that run it; ``since`` where a feed tells of it."""

    version: str
    since: Day | None
    sites: tuple[Slug, ...]
    twins: int = 0
    exposed: int = 0


Decision = Literal["asked", "held", "made"]  # asked: a person's word is wanted


class ProductRow(Value):
    """A product as one row: versions in use from oldest to newest, and how many sites, twins too,
    stand how: each in exactly one of ``may``, ``wait``, ``cannot``, ``held``, ``newest_on`` and
    ``unknown``.
    """

    product: KnownProduct
    newest: str | None
    since: Day | None
    versions: tuple[VersionUse, ...]
    sites: int
    twins: int
    may: int
    wait: int
    cannot: int
    held: int
    newest_on: int
    unknown: int
    advisories: int
    severity: Severity | None = None
    decided: str
    decision: Decision = "made"
    origin: str
    state: State
    to_decide: int = 0


class OnSite(Value):
    """How a product stands on one site, to be shown with others."""

    site: Slug
    label: str
    twin: bool
    version: str | None
    target: str | None
    state: State
    text: str


class Group(Value):
    """Sites that stay for one reason."""

    reason: str
    text: str
    sites: tuple[OnSite, ...]


class ProductView(Value):
    """A product across the fleet: releases, versions in use, what lies above each, and every site
    in exactly one of may, wait, cannot, held, newest and unknown. ``came``: what came of each
    release where a run took it, in words, by version.
    """

    row: ProductRow
    releases: tuple[KnownRelease, ...]
    on_sites: tuple[OnSite, ...]
    above: tuple[Passed, ...]
    may: tuple[OnSite, ...]
    wait: tuple[OnSite, ...]
    cannot: tuple[Group, ...]
    held: tuple[OnSite, ...]
    newest: tuple[OnSite, ...]
    unknown: tuple[OnSite, ...]
    lags: tuple[Lag, ...]
    advisories: tuple[KnownAdvisory, ...]
    feed_state: str
    feed_read_at: datetime | None
    lockstep: tuple[KnownLockstep, ...] = ()
    clashes: tuple[KnownClash, ...] = ()
    carried_newest: str | None = None
    carried_in: str | None = None
    came: dict[str, str] = {}


class Uncovered(Value):
    """A product of which no feed tells on some sites, and why that is."""

    product: ProductId
    name: str
    kind: str
    why: Covered
    text: str
    versions: tuple[str, ...]
    sites: tuple[Slug, ...]
    labels: tuple[str, ...]
    refused: str | None = None


class SiteCoverage(Value):
    """How many components of a site a feed covers."""

    site: Slug
    label: str
    components: int
    covered: int


class Coverage(Value):
    """What feeds cover: the fleet, each site, and every product that none covers."""

    components: int
    covered: int
    uncovered: tuple[Uncovered, ...]
    sites: tuple[SiteCoverage, ...]
