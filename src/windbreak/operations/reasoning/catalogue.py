"""All that is known of products, as the reasoning takes it: compiled once, used for all sites.

It is kept under the committed generation of what it was made from. When something was written, only
the products that changed are read and compiled anew, and only answers that they can touch are
forgotten.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

from windbreak.core.case.catalogue import Catalogue, among
from windbreak.core.case.known import (
    advisory_of,
    clash_of,
    lockstep_of,
    product_of,
    release_of,
)
from windbreak.core.case.situation import Advisory, Hold, Product, Release
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import BY_HAND, KnownRelease
from windbreak.core.values.sites import Site
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.store.database import CHANGES_KEPT

KINDS = ("everything", "product", "tie")  # the changes that it hangs on
_MOST_CHANGED = 500  # products changed at once beyond which it is read as a whole


@dataclass(frozen=True)
class ProductFacts:
    """What is known of one product.

    ``withheld`` are holds on releases that came twice or are not what they claim: nothing takes
    them until somebody has decided, or brought a right package. ``withdrawn`` ones are offered to
    nobody.
    """

    product: KnownProduct | None
    releases: tuple[Release, ...] = ()
    withheld: tuple[Hold, ...] = ()
    withdrawn: frozenset[str] = frozenset()
    undecided: frozenset[str] = frozenset()  # versions that wait for a person's word
    refused: frozenset[str] = frozenset()  # versions whose package is not what it claims
    brought: dict[str, str] = field(default_factory=dict)  # by version, packages a person brought
    advisories: tuple[Advisory, ...] = ()

    @property
    def offered(self) -> list[Release]:
        return [r for r in self.releases if r.version not in self.withdrawn]


@dataclass(frozen=True)
class KnownCatalogue:
    """What is known of products as of a generation, and compiled. ``changed`` since the one before
    it: None where it was read as a whole.
    """

    generation: int
    facts: dict[str, ProductFacts]
    compiled: Catalogue
    changed: frozenset[str] | None = None

    @property
    def products(self) -> dict[str, KnownProduct]:
        return {p: facts.product for p, facts in self.facts.items() if facts.product is not None}

    def product(self, id: str) -> KnownProduct | None:
        facts = self.facts.get(id)
        return facts.product if facts else None

    def around(self, site: Site, inventory: Inventory) -> tuple[dict[str, Product], list[Release]]:
        """The products that matter to a site: those on it, and what they ask for or carry.

        What was made for the site has no releases: an offer only shares its folder's name.
        """
        products: dict[str, Product] = {}
        releases: list[Release] = []
        waiting = [(c.product, c.name) for c in inventory.components]
        own = set(site.own) | self.namesakes(inventory)
        while waiting:
            id, name = waiting.pop()
            if id in products:
                continue
            listed = self.facts.get(id)
            if id in own or listed is None or listed.product is None:
                access = "custom" if id in own else "public"
                kind = id.partition("/")[0]
                products[id] = Product.model_validate(
                    {"id": id, "kind": kind, "access": access, "name": name}
                )
            else:
                products[id] = self.compiled.products[id]
            if id in own or listed is None:
                continue
            installed = inventory.version_of(id)
            for release in listed.releases:
                gone = release.version in listed.withdrawn
                if gone and (installed is None or parse_version(installed) != release.parsed):
                    continue
                releases.append(release)
                for other in (*release.requires, *release.bundles):
                    if self.product(other) is not None:
                        waiting.append((other, other))
        return products, releases

    def namesakes(self, inventory: Inventory) -> set[str]:
        """Components whose header names another maker than the product's: only the folder is
        shared.
        """
        namesakes = set()
        for component in inventory.components:
            product = self.product(component.product)
            if product is None or not component.maker or not product.maker:
                continue
            if component.maker.casefold() != product.maker.casefold():
                namesakes.add(component.product)
        return namesakes


def catalogue(context: Context) -> KnownCatalogue:
    """Everything that is known of products, as committed. Reads."""
    key = context.store.database.generation(*KINDS)
    return context.cache.kept("catalogue", key, lambda before: _made(context, key, before))


def compiled(context: Context) -> Catalogue:
    """The same, compiled for the reasoning. Reads."""
    return catalogue(context).compiled


def _made(context: Context, generation: int, before: KnownCatalogue | None) -> KnownCatalogue:
    with context.store.database.snapshot():
        changed = _changed(context, before)
        if before is None or changed is None:
            return _whole(context, generation)
        products = {**before.facts, **_facts_of(context, changed)}
        lockstep, clashes = among(
            [lockstep_of(g) for g in context.store.locksteps.all()],
            [clash_of(c) for c in context.store.clashes.all()],
            {p for p, facts in products.items() if facts.product is not None},
        )
    fresh = {p: products[p] for p in changed}
    compiled = before.compiled.replaced(
        {p: product_of(facts.product) if facts.product else None for p, facts in fresh.items()},
        {p: facts.offered for p, facts in fresh.items() if facts.product},
        {p: facts.advisories for p, facts in fresh.items() if facts.product},
        lockstep,
        clashes,
    )
    return KnownCatalogue(generation, products, compiled, frozenset(changed))


def _changed(context: Context, before: KnownCatalogue | None) -> set[str] | None:
    """The products that changed since a catalogue was made; None where all may have. Reads."""
    if before is None:
        return None
    database = context.store.database
    if database.generation() - before.generation > CHANGES_KEPT:
        return None  # changes of long ago are no longer listed
    products = set()
    for _, (kind, subject) in database.changes_after(before.generation):
        if kind == "everything":
            return None
        if kind in KINDS:
            products.add(subject)
    return products if len(products) <= _MOST_CHANGED else None


def _whole(context: Context, generation: int) -> KnownCatalogue:
    products = _facts_of(context, None)
    ids = [p for p, facts in products.items() if facts.product is not None]
    lockstep, clashes = among(
        [lockstep_of(g) for g in context.store.locksteps.all()],
        [clash_of(c) for c in context.store.clashes.all()],
        set(ids),
    )
    compiled = Catalogue(
        [product_of(facts.product) for facts in products.values() if facts.product is not None],
        [release for p in ids for release in products[p].offered],
        lockstep=lockstep,
        advisories=[a for p in ids for a in products[p].advisories],
        clashes=clashes,
    )
    return KnownCatalogue(generation, products, compiled)


def _facts_of(context: Context, products: Collection[str] | None) -> dict[str, ProductFacts]:
    """What is known of some products, or of all. Reads."""
    store = context.store
    if products is None:
        by_id = {p.id: p for p in store.products.all()}
        releases, advisories = store.releases.all(), store.advisories.all(withdrawn=False)
    else:
        some = sorted(products)
        by_id = {p.id: p for p in store.products.all(id=some)}
        releases = store.releases.all(product=some)
        advisories = store.advisories.all(product=some, withdrawn=False)
    by_product: dict[str, list[KnownRelease]] = {}
    for release in releases:
        by_product.setdefault(release.product, []).append(release)
    weak: dict[str, list[Advisory]] = {}
    for advisory in advisories:
        weak.setdefault(advisory.product, []).append(advisory_of(advisory))
    ids: Iterable[str] = {*by_id, *by_product, *weak} if products is None else products
    return {
        p: _of_product(by_id.get(p), by_product.get(p, []), weak.get(p, [])) for p in sorted(ids)
    }


def _of_product(
    product: KnownProduct | None, releases: list[KnownRelease], advisories: list[Advisory]
) -> ProductFacts:
    return ProductFacts(
        product,
        tuple([release_of(r) for r in releases]),
        tuple(
            [
                Hold(product=r.product, range=f"={r.version}", reason=why)
                for r in releases
                if (why := why_withheld(r)) is not None
            ]
        ),
        frozenset([r.version for r in releases if r.withdrawn_at is not None]),
        frozenset([r.version for r in releases if r.undecided]),
        frozenset([r.version for r in releases if r.refused is not None and not r.undecided]),
        {r.version: r.sha256 for r in releases if r.feed == BY_HAND and r.sha256 is not None},
        tuple(advisories),
    )


def why_withheld(release: KnownRelease) -> str | None:
    """Why nothing takes a release until somebody has decided, or None."""
    if release.undecided:
        return "it came twice, with different packages"
    if release.refused is not None:
        return f"its package is not what it claims ({release.refused})"
    return None
