"""A site's case made from what is kept.

``Ground`` holds what all cases of a moment are made from, read once for many sites; two sites with
the same ``fingerprint`` on one ground have the same case but for their names.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Final, get_args

from windbreak.core.case.catalogue import among
from windbreak.core.case.situation import (
    OUT_OF_SCOPE,
    Case,
    CaseSite,
    Component,
    Hold,
    Policy,
    Product,
    Release,
    ShelfItem,
    Soak,
)
from windbreak.core.values.holds import StandingHold
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.packages import ShelfRight
from windbreak.core.values.policy import InForce, Rule, SoakKind, in_force, touching
from windbreak.core.values.sites import Host, Site
from windbreak.core.versions.version import Jump, jump, parse_version
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_rights
from windbreak.operations.reasoning.catalogue import KnownCatalogue, ProductFacts, catalogue
from windbreak.operations.tracking import rights
from windbreak.wording.words import day

_JUMPS: tuple[Jump, ...] = ("patch", "minor", "major")  # the shortest first


@dataclass(frozen=True)
class Ground:
    """What the cases of all sites are made from at one moment."""

    context: Context
    at: datetime
    catalogue: KnownCatalogue
    licences: licence_rights.Rights
    holds: tuple[StandingHold, ...]
    rules: tuple[Rule, ...]
    hosts: dict[str, Host]
    stale: dict[str, str]  # products whose feed is out of touch, and what is to be said of that
    right_of: dict[str, tuple[ShelfRight, ...]] = field(default_factory=dict)
    policies: dict[tuple[str, tuple[str, ...]], InForce] = field(default_factory=dict)

    @classmethod
    def read(cls, context: Context) -> Ground:
        """The ground as committed now. Reads."""
        store = context.store
        return cls(
            context,
            context.clock(),
            catalogue(context),
            licence_rights.kept(context),
            tuple(store.holds.all()),
            tuple(store.rules.all()),
            {host.id: host for host in store.hosts.all()},
            _stale(context),
        )

    @property
    def today(self) -> date:
        return self.at.date()

    def shelf(self, site: str) -> tuple[ShelfRight, ...]:
        """What a site may have of the shelf. Reads, once for each site."""
        if site not in self.right_of:
            self.right_of[site] = tuple(rights.of_site(self.context, site))
        return self.right_of[site]

    def fingerprint(self, site: Site, signature: str) -> Hashable:
        """What two sites share exactly when their cases are equal but for the sites' names."""
        return (
            signature,
            site.own,
            site.by_hand,
            site.host,
            self.licences.seats.get(site.id, ()),
            tuple([(r.product, r.version) for r in self.shelf(site.id)]),
            tuple([h.id for h in self.holds if h.site == site.id]),
            tuple(
                [
                    r.id
                    for r in self.rules
                    if r.site in (None, site.id) and r.client in (None, site.client)
                ]
            ),
        )

    def policy_of(self, site: Site, products: Iterable[str]) -> dict[str, InForce]:
        """What the rules of the house say of some products on a site."""
        usual: dict[SoakKind, int] = {k: self.context.soak.get(k, 0) for k in get_args(SoakKind)}
        kept = {}
        for product in products:
            listed = self.catalogue.product(product)
            near = touching(
                self.rules,
                self.today,
                site=site.id,
                client=site.client,
                product=product,
                maker=(listed.maker or "") if listed else "",
            )
            key = (product, tuple([rule.id for rule in near]))
            if key not in self.policies:
                self.policies[key] = in_force(near, product, usual)
            kept[product] = self.policies[key]
        return kept

    def case(
        self,
        site: Site,
        inventory: Inventory,
        *,
        only: frozenset[str] | None = None,
        jumps: Mapping[str, Jump] | None = None,
    ) -> Case:
        """A site's situation. With ``only``, every other product stays where it is; ``jumps``: how
        far some products may go at the most.
        """
        products, releases = self.catalogue.around(site, inventory)
        listed = [self.catalogue.facts[p] for p in sorted(products) if p in self.catalogue.facts]
        own = set(site.own)
        registered = [
            facts for facts in listed if facts.product is not None and facts.product.id not in own
        ]
        holds = [hold for facts in registered for hold in facts.withheld]
        holds += self._not_given(site, registered)
        holds += [
            Hold(product=h.product, range=h.range, until=h.until, reason=h.reason)
            for h in self.holds
            if h.site in (None, site.id) and h.product in products
        ]
        if only is not None:
            holds += [
                Hold(product=c.product, reason=OUT_OF_SCOPE)
                for c in inventory.components
                if c.product not in only
            ]
        holds += _too_far(products, releases, inventory, jumps or {})
        rules = self.policy_of(site, products)
        holds += [
            Hold(product=p, reason=never_taken(rule))
            for p, rule in rules.items()
            if rule.take == "never"
        ]
        compiled = self.catalogue.compiled
        lockstep, clashes = among(
            compiled.lockstep,
            compiled.clashes,
            {p for p, product in products.items() if product.access != "custom"},
        )
        return Case(
            at=self.at,
            products=tuple([products[p] for p in sorted(products)]),
            releases=tuple(releases),
            lockstep=lockstep,
            clashes=clashes,
            advisories=tuple(
                [a for facts in listed for a in facts.advisories if a.product not in own]
            ),
            site=self._site(site, inventory, products),
            policy=self._policy(holds, rules),
        )

    def _not_given(self, site: Site, listed: Iterable[ProductFacts]) -> Iterator[Hold]:
        """What a person brought is offered to the sites that it was given to, and to no others."""
        given = {(r.product, parse_version(r.version)) for r in self.shelf(site.id)}
        for facts in listed:
            for version in facts.brought:
                assert facts.product is not None  # callers look first
                if (facts.product.id, parse_version(version)) not in given:
                    yield Hold(product=facts.product.id, range=f"={version}", reason=NOT_GIVEN)

    def _policy(self, holds: Iterable[Hold], rules: dict[str, InForce]) -> Policy:
        """The policy of a case: what is usual, and where rules say otherwise of a product."""
        usual = Soak(**self.context.soak)
        days = usual.model_dump()
        return Policy(
            holds=tuple(holds),
            soak=usual,
            soaks={p: Soak.model_validate(r.soak) for p, r in rules.items() if r.soak != days},
            channels_of={p: r.channels for p, r in rules.items() if r.channels != ("stable",)},
        )

    def _site(self, site: Site, inventory: Inventory, products: dict[str, Product]) -> CaseSite:
        host = self.hosts.get(site.host) if site.host else None
        return CaseSite(
            id=site.id,
            components=tuple(
                [
                    Component(product=c.product, version=c.version, active=c.active)
                    for c in inventory.components
                ]
            ),
            offers={p: v for p, v in (host.offers if host else {}).items() if p in products},
            licences=tuple(
                [x for x in licence_rights.for_case(self.licences, site) if x.product in products]
            ),
            shelf=tuple(
                [
                    ShelfItem(product=r.product, version=r.version)
                    for r in self.shelf(site.id)
                    if r.product in products and r.product not in site.own
                ]
            ),
        )


def _stale(context: Context) -> dict[str, str]:
    """The products of which nobody has told lately, as their feed can't be read. Reads."""
    now, store = context.clock(), context.store
    key = (store.database.generation("everything", "feed", "product"), f"{now:%Y-%m-%dT%H}")

    def made(_: dict[str, str] | None) -> dict[str, str]:
        silent = {}
        for feed in store.feeds.all():
            if feed.is_out_of_touch(now):
                since = f"since {day(feed.fresh_at.date(), now.date())}" if feed.fresh_at else "yet"
                verb = "could not be read" if feed.fresh_at else "has not been read"
                silent[feed.id] = f"{feed.label} {verb} {since}"
        if not silent:
            return {}
        products = store.products.all()
        return {p.id: silent[p.feed] for p in products if p.feed in silent}

    return context.cache.kept("stale products", key, made)


# The reason of a hold on a package that a person brought for other sites.
NOT_GIVEN: Final = "it was brought by hand, and not given to this site"


def never_taken(rule: InForce) -> str:
    """The reason of a hold by a rule that never takes a product."""
    return f"never taken, by the rule for {rule.take_by}"


def _too_far(
    products: Mapping[str, Product],
    releases: Iterable[Release],
    inventory: Inventory,
    jumps: Mapping[str, Jump],
) -> Iterator[Hold]:
    """What keeps products from going further than they may."""
    if not jumps:
        return
    there = {c.product: parse_version(c.version) for c in inventory.components}
    beyond: dict[str, list[str]] = {}
    for release in releases:
        most, start = jumps.get(release.product), there.get(release.product)
        if most is None or start is None:
            continue
        place = products[release.product].major_place
        if _JUMPS.index(jump(start, release.parsed, place)) > _JUMPS.index(most):
            beyond.setdefault(release.product, []).append(f"={release.version}")
    for product, versions in beyond.items():
        yield Hold(product=product, range=" || ".join(versions), reason=OUT_OF_SCOPE)


def case_of(
    context: Context,
    site_id: str,
    *,
    only: frozenset[str] | None = None,
    jumps: Mapping[str, Jump] | None = None,
) -> Case:
    """A site's situation now. Reads. Raises Refused when its inventory is not known.

    With ``only``, every other product stays where it is; ``jumps``: how far some products may go.
    """
    site = context.store.sites.get(site_id)
    inventory = context.store.inventories.find(site_id)
    if inventory is None:
        raise Refused(
            "no-inventory",
            f"what is installed on {site.label} is not known; link it, then refresh it",
        )
    return Ground.read(context).case(site, inventory, only=only, jumps=jumps)


def policy_of(context: Context, site: Site, products: Iterable[str]) -> dict[str, InForce]:
    """What the rules of the house say of some products on a site. Reads."""
    return Ground.read(context).policy_of(site, products)
