"""What gives cause for a finding, and what each cause hangs on.

A cause looks at one subject of its sort (a site, a product, a feed, a licence, or the fleet as a
whole) and says what it sees there. ``hangs_on`` are the kinds of change after which it looks again:
those the store marks, and two of the projector's own, ``row`` (a site's row was made anew) and
``standing`` (a product stands otherwise somewhere). ``timed`` causes look again as time goes by.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from windbreak.core.values.findings import Finding
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.findings.causes import (
    codes,
    feeds,
    helpers,
    licences,
    nights,
    releases,
    runs,
    seen,
    sites,
)
from windbreak.operations.reasoning.cases import Ground
from windbreak.store.database import Mark

Sort = Literal["site", "product", "feed", "licence", "fleet"]
FLEET = ""  # the subject of a cause that looks at the fleet as a whole
# Kinds of change whose subject is a site, a product, and so on.
_SUBJECT: dict[str, Sort] = {
    **dict.fromkeys(("site", "plan", "booking", "run", "row", "registration"), "site"),
    **dict.fromkeys(("seat", "right", "fleet", "files"), "site"),
    **dict.fromkeys(("product", "standing", "installed", "approval", "tie"), "product"),
    "feed": "feed",
    "licence": "licence",
}


class Sight:
    """What causes look at, each thing read once."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self._sites: dict[str, Site | None] = {}

    @cached_property
    def _products(self) -> list[KnownProduct]:
        return self.context.store.products.all()

    @cached_property
    def names(self) -> dict[str, str]:
        return {p.id: p.name for p in self._products}

    @cached_property
    def helpers(self) -> list[KnownProduct]:
        """Makers' own helper plugins."""
        return [p for p in self._products if p.helps]

    def all_sites(self) -> None:
        """Read every site at once, for causes that look at all of them."""
        for site in self.context.store.sites.all():
            self._sites[site.id] = None if site.retired_at is not None else site

    @cached_property
    def ground(self) -> Ground:
        """What all cases share."""
        return Ground.read(self.context)

    @cached_property
    def booked(self) -> frozenset[str]:
        """The sites of which something is booked."""
        return frozenset([b.site for b in self.context.store.bookings.all(state="waiting")])

    @cached_property
    def missed(self) -> frozenset[str]:
        """The sites of which a booking was missed."""
        return frozenset([b.site for b in self.context.store.bookings.all(state="missed")])

    def site(self, id: str) -> Site | None:
        """A site that is not retired. Reads."""
        if id not in self._sites:
            site = self.context.store.sites.find(id)
            self._sites[id] = None if site is None or site.retired_at is not None else site
        return self._sites[id]


Look = Callable[[Sight, str], Iterator[Finding]]


@dataclass(frozen=True)
class Cause:
    """One cause: its name, what it looks at, what it hangs on, and how it looks."""

    name: str
    each: Sort
    hangs_on: frozenset[str]
    look: Look
    timed: bool = False

    def subjects(self, context: Context, marks: Iterable[Mark]) -> set[str] | None:
        """What it has to look at again after some changes; None: everything. Reads."""
        subjects: set[str] = set()
        for kind, subject in marks:
            if kind in ("everything", "day") or (kind == "hour" and self.timed):
                return None
            if kind not in self.hangs_on:
                continue
            if self.each == "fleet":
                subjects.add(FLEET)
            elif _SUBJECT.get(kind) == self.each:
                subjects.add(subject)
            elif self.each == "product" and _SUBJECT.get(kind) == "site":
                inventory = context.store.inventories.find(subject)
                subjects |= {c.product for c in inventory.components} if inventory else set()
            else:
                return None
        return subjects

    def all_subjects(self, context: Context) -> Collection[str]:
        """Every subject of its sort, and those it has findings of. Reads."""
        store = context.store
        match self.each:
            case "site":
                now = set(store.sites.live_ids())
            case "product":
                now = {p.id for p in store.products.all()} | store.releases.products_with_releases()
            case "feed":
                now = {feed.id for feed in store.feeds.all()}
            case "licence":
                now = {licence.id for licence in store.licences.all()}
            case _:
                now = {FLEET}
        return now | store.findings.subjects(self.name)


def _on_site(look: Callable[[Sight, Site], Iterator[Finding]]) -> Look:
    """A look at a site, for one that is there; a retired one gives cause for nothing."""

    def at(sight: Sight, subject: str) -> Iterator[Finding]:
        site = sight.site(subject)
        if site is not None:
            yield from look(sight, site)

    return at


def _of_registrations(sight: Sight, site: Site) -> Iterator[Finding]:
    inventory = sight.context.store.inventories.find(site.id)
    if inventory is not None:
        yield from sites.of_registrations(sight.context, site, inventory, sight.names)


def _cause(name: str, each: Sort, hangs_on: str, look: Look, *, timed: bool = False) -> Cause:
    return Cause(name, each, frozenset(hangs_on.split()), look, timed)


CAUSES: tuple[Cause, ...] = (
    _cause("link", "site", "site", _on_site(lambda s, x: sites.of_link(s.context, x))),
    _cause("pages", "site", "site", _on_site(lambda s, x: sites.of_pages(s.context, x))),
    _cause(
        "files",
        "site",
        "files fleet",
        _on_site(lambda s, x: seen.of_files(s.context, x, s.names)),
    ),
    _cause(
        "by-hand",
        "site",
        "site",
        _on_site(lambda s, x: seen.of_by_hand(s.context, x, s.names)),
        timed=True,
    ),
    _cause("checks", "site", "site", _on_site(lambda s, x: seen.of_checks(s.context, x))),
    _cause(
        "complaints",
        "site",
        "site",
        _on_site(lambda s, x: seen.of_complaints(s.context, x, s.names)),
    ),
    _cause(
        "helpers",
        "fleet",
        "product installed registration fleet",
        lambda s, _: helpers.of_helpers(s.context, s.helpers, s.names),
    ),
    _cause("fault", "site", "row", _on_site(lambda s, x: sites.of_fault(s.context, x))),
    _cause(
        "other-hands",
        "site",
        "site",
        _on_site(lambda s, x: seen.of_other_hands(s.context, x)),
        timed=True,
    ),
    _cause("run", "site", "run", _on_site(lambda s, x: runs.of_runs(s.context, x)), timed=True),
    _cause("proofs", "site", "site", _on_site(lambda s, x: runs.of_proofs(s.context, x))),
    _cause("blocks", "site", "row", _on_site(lambda s, x: sites.of_blocks(s.context, x, s.names))),
    _cause("broken", "site", "row", _on_site(lambda s, x: sites.of_broken(s.context, x, s.names))),
    _cause(
        "registrations",
        "site",
        "site registration seat licence",
        _on_site(_of_registrations),
    ),
    _cause(
        "codes",
        "site",
        "site registration seat licence",
        _on_site(lambda s, x: codes.of_codes(s.context, x, s.names)),
    ),
    _cause("namesakes", "site", "site", _on_site(lambda s, x: seen.of_namesakes(s.context, x))),
    _cause("copies", "site", "site", _on_site(lambda s, x: seen.of_copies(s.context, x))),
    _cause(
        "bookings",
        "site",
        "booking plan",
        _on_site(lambda s, x: sites.of_bookings(s.context, x) if x.id in s.missed else iter(())),
        timed=True,
    ),
    _cause(
        "booked",
        "site",
        "row booking plan",
        _on_site(
            lambda s, x: (
                sites.of_what_is_booked(s.context, s.ground, x) if x.id in s.booked else iter(())
            )
        ),
    ),
    _cause("ready", "fleet", "row", lambda s, _: sites.of_plans(s.context)),
    _cause("soaks", "product", "standing product", lambda s, p: releases.of_soaks(s.context, p)),
    _cause(
        "advisories",
        "product",
        "standing product installed fleet",
        lambda s, p: releases.of_advisories(s.context, p),
    ),
    _cause(
        "releases",
        "product",
        "product installed",
        lambda s, p: releases.of_releases(s.context, p),
    ),
    _cause(
        "withdrawn",
        "product",
        "product installed fleet",
        lambda s, p: releases.of_withdrawn(s.context, p),
    ),
    _cause(
        "abandoned",
        "product",
        "product installed",
        lambda s, p: releases.of_abandoned(s.context, p),
        timed=True,
    ),
    _cause("watch", "product", "product installed", lambda s, p: releases.of_watch(s.context, p)),
    _cause("feeds", "feed", "feed account", lambda s, f: feeds.of_feeds(s.context, f), timed=True),
    _cause(
        "licences",
        "licence",
        "licence seat installed registration account fleet",
        lambda s, x: licences.of_licence(s.context, x),
    ),
    _cause(
        "forecasts",
        "fleet",
        "licence seat product installed fleet",
        lambda s, _: licences.of_forecasts(s.context),
    ),
    _cause("gates", "fleet", "rollout run booking", lambda s, _: nights.of_gates(s.context)),
    _cause(
        "failed-moves",
        "fleet",
        "failed-move booking plan",
        lambda s, _: nights.of_failed_moves(s.context),
    ),
    _cause(
        "no-place",
        "fleet",
        "timetable plan fleet",
        lambda s, _: nights.of_left_out(s.context),
    ),
    _cause("patches", "fleet", "rollout day", lambda s, _: nights.of_patches(s.context)),
    _cause("calendars", "fleet", "freeze-calendar", lambda s, _: nights.of_calendars(s.context)),
    _cause("reviews", "fleet", "hold rule", lambda s, _: sites.of_reviews(s.context, s.names)),
    _cause("instance", "fleet", "fact", lambda s, _: sites.of_instance(s.context)),
)
