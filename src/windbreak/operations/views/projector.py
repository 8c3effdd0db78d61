"""The one projector: committed changes are folded into what is kept ready for reading.

A pass reads the changes since the generation that all views show, works out what they can touch,
and brings that up to date: rows of sites with how their components stand, rows of products,
findings. Many changes make one pass; a site's row is worked out again only when something that it
hangs on was written. The right to project is claimed in the database, so that two never do the
same; whoever dies with it loses it after a minute, and the pass is made again by another.

A site that can't be reasoned about is put into quarantine: its row says so, with the fault, and
every other goes on.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import timedelta

from windbreak.core.case.situation import Case
from windbreak.core.fleet import reach_of
from windbreak.core.values.sites import Site
from windbreak.documents.sites import SiteSummary
from windbreak.operations.context import Context
from windbreak.operations.findings import findings
from windbreak.operations.reasoning import answers
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.reasoning.catalogue import KnownCatalogue
from windbreak.operations.reasoning.explaining import explained
from windbreak.operations.views import products, rows, standings
from windbreak.store.database import Mark

log = logging.getLogger("windbreak.projector")

_AT_ONCE = 250  # rows that are written in one transaction
_STALE = "products whose feed is out of touch"  # a fact: as of the last pass
_CLAIM = timedelta(minutes=1)
_OF_A_SITE = {"site", "plan", "booking", "run", "seat", "right", "registration"}
_OF_ALL = {"everything", "rule", "day"}


@dataclass
class Touched:
    """What some changes touch. ``sites`` None: every site; ``marks`` are for the causes."""

    sites: set[str] | None = field(default_factory=set)
    products: set[str] | None = field(default_factory=set)
    marks: set[Mark] = field(default_factory=set)

    def site(self, *ids: str) -> None:
        if self.sites is not None:
            self.sites.update(ids)

    def product(self, *ids: str) -> None:
        if self.products is not None:
            self.products.update(ids)


@dataclass
class Pass:
    """What one pass has brought up to date; ``touched`` is left to be looked at by the causes."""

    generation: int
    touched: Touched

    @property
    def rows(self) -> set[str]:
        """The sites whose rows were made anew."""
        return {subject for kind, subject in self.touched.marks if kind == "row"}


class Projector:
    """The projector of one context. ``stop`` ends a pass between two batches."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.stop = threading.Event()
        self.last: Pass | None = None  # the pass made last
        self.reached = -1  # the generation that all views show since
        self._catalogue: KnownCatalogue | None = None  # that of the pass before

    def project(self) -> bool:
        """Make one pass, if anything was written since the last; whether one was made. Writes."""
        context, views = self.context, self.context.store.views
        generation = context.store.database.generation()
        reached, _ = views.reached()
        if generation <= reached or not self._claim():
            return False
        try:
            done = self._pass(reached, generation)
            if done is None:
                return False
            findings.look_at(context, done.touched.marks)
            views.reach(generation, context.clock())
            self.reached = generation
            self.last = done
        finally:
            views.release(context.name)
        context.wake()
        return True

    def _claim(self) -> bool:
        now = self.context.clock()
        return self.context.store.views.claim(self.context.name, now, now + _CLAIM)

    def _pass(self, reached: int, generation: int) -> Pass | None:
        changes = [mark for _, mark in self.context.store.database.changes_after(reached)]
        ground = Ground.read(self.context)
        touched = self._touched(changes, ground)
        if not self._project_sites(ground, touched):
            return None
        products.project(self.context, ground, touched.products)
        self._catalogue = ground.catalogue
        return Pass(generation, touched)

    def _touched(self, changes: Iterable[Mark], ground: Ground) -> Touched:
        """What changes can touch: sites and products. Reads."""
        store = self.context.store
        touched = Touched(marks=set(changes))
        products: set[str] = set()  # products whose change can touch the reasoning of sites
        for kind, subject in touched.marks:
            if kind in _OF_ALL or (kind == "entitlement" and subject == "*"):
                touched.sites = None
                if kind != "rule":
                    touched.products = None
            elif kind in _OF_A_SITE:
                touched.site(subject)
            elif kind in ("product", "tie", "entitlement"):
                products.add(subject)
                touched.product(subject)
            elif kind == "hold":
                product, _, site = subject.partition(" ")
                touched.product(product)
                if site:
                    touched.site(site)
                else:
                    products.add(product)
            elif kind == "host":
                touched.site(*(s.id for s in store.sites.all(host=subject)))
            elif kind == "package":
                touched.site(*(right.site for right in store.rights.all(product=subject)))
            elif kind in ("installed", "approval"):
                touched.product(subject)
            elif kind == "fleet":
                touched.site(subject)
                inventory = store.inventories.find(subject)
                if inventory is not None:
                    touched.product(*(c.product for c in inventory.components))
        otherwise = self._feeds_turned(ground)
        if otherwise:
            touched.site(*store.inventories.sites_with(otherwise))
            touched.product(*otherwise)
        if products and touched.sites is not None:
            catalogues = [c.compiled for c in (self._catalogue, ground.catalogue) if c is not None]
            reach = {
                p
                for reached_product in products
                for c in catalogues
                for p in reach_of(c, reached_product)
            }
            touched.site(*store.inventories.sites_with(reach))
        return touched

    def _feeds_turned(self, ground: Ground) -> set[str]:
        """The products whose feed fell out of touch, or came back, since the last pass. Writes."""
        facts, now = self.context.store.facts, " ".join(sorted(ground.stale))
        before = facts.get(_STALE) or ""
        if now != before:
            facts.set(_STALE, now)
        return set(now.split()) ^ set(before.split())

    # Sites.

    def _project_sites(self, ground: Ground, touched: Touched) -> bool:
        """Bring rows and standings up to date; False where it was stopped on the way. Writes."""
        store = self.context.store
        if touched.sites is None:
            sites = store.sites.live()
        else:
            sites = [s for s in store.sites.all(id=touched.sites) if s.retired_at is None]
        if not sites:
            return True
        few = None if len(sites) > _AT_ONCE else [s.id for s in sites]
        doings = rows.Doings.read(self.context, few)
        situations = _Situations(self.context, ground, sites)
        for start in range(0, len(sites), _AT_ONCE):
            if self.stop.is_set() or not self._claim():
                return False
            batch = sites[start : start + _AT_ONCE]
            with store.transaction():
                made = []
                for site in batch:
                    view, fault = situations.of(site)
                    made.append((rows.row_of(site, view, doings, fault), view))
                self._note_standings(made, touched)
                beyond = store.views.beyond_reach([site.id for site in batch])
                store.views.put_rows((row, view.key if view else None) for row, view in made)
                now = store.views.beyond_reach([site.id for site in batch])
                for id in beyond ^ now:  # whoever counts moves that can be made counts others
                    touched.product(*(s.product for s in store.views.standings_of_site(id)))
            touched.marks.update(("row", site.id) for site in batch)
        store.views.forget_situations()
        return True

    def _note_standings(
        self,
        made: Iterable[tuple[SiteSummary, standings.SituationView | None]],
        touched: Touched,
    ) -> None:
        """Keep standings that are new, and note the products that stand otherwise now. Writes."""
        views = self.context.store.views
        compared: set[tuple[str | None, str | None]] = set()
        for row, view in made:
            before = views.situation_of(row.id)
            now = view.key if view else None
            if before == now or (before, now) in compared:
                continue
            compared.add((before, now))
            old = views.standings_in_situation(before) if before else {}
            if view is not None and not views.has_standings([view.key]):
                views.put_standings(view.key, view.standings)
            new = views.standings_in_situation(now) if now else {}
            for product in old.keys() | new.keys():
                if old.get(product) != new.get(product):
                    touched.product(product)
                    touched.marks.add(("standing", product))


class _Situations:
    """The situations of some sites, each worked out once."""

    def __init__(self, context: Context, ground: Ground, sites: Sequence[Site]) -> None:
        self.context = context
        self.ground = ground
        few = [site.id for site in sites] if len(sites) <= _AT_ONCE else None
        self.signatures = context.store.inventories.signatures(few)
        self.views: dict[Hashable, tuple[standings.SituationView | None, str | None]] = {}
        self._cases: dict[Hashable, Case] = {}
        if context.executor is not None:
            self._prepare(sites)

    def _prepare(self, sites: Iterable[Site]) -> None:
        """Reason about different situations at once, on the context's executor."""
        for site in sites:
            key = self._key(site)
            if key is not None and key not in self._cases:
                try:
                    self._cases[key] = self._case(site)
                except Exception:
                    continue  # told when it comes to its row
        try:
            answers.prepare(self.context, {str(hash(k)): c for k, c in self._cases.items()})
        except Exception:
            log.exception("situations could not be reasoned about at once; one by one, then")

    def _key(self, site: Site) -> Hashable | None:
        signature = self.signatures.get(site.id)
        return None if signature is None else self.ground.fingerprint(site, signature)

    def _case(self, site: Site) -> Case:
        return self.ground.case(site, self.context.store.inventories.get(site.id))

    def of(self, site: Site) -> tuple[standings.SituationView | None, str | None]:
        """What is shown of a site's situation, and the fault where there is one. Reads."""
        key = self._key(site)
        if key is None:
            return None, None
        if key not in self.views:
            try:
                case = self._cases.get(key) or self._case(site)
                reasoned = answers.reason(self.context, case)
                document = explained(self.ground, site, reasoned)
                view = standings.view_of(document, standings.Knowledge.of(self.ground, site))
                self.views[key] = view, None
            except Exception as error:
                log.exception("%s can't be reasoned about; it is put aside", site.id)
                self.views[key] = None, f"{type(error).__name__}: {error}"
        return self.views[key]


def catch_up(context: Context) -> None:
    """Bring all views to what is committed now. Writes."""
    projector = Projector(context)
    for _ in _until_still(projector):
        pass


def _until_still(projector: Projector) -> Iterator[None]:
    while projector.project():
        yield
