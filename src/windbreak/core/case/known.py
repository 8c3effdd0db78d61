"""What is known here of products, in the words of a case: releases, lockstep, clashes."""

from __future__ import annotations

from windbreak.core.case.situation import Advisory, Clash, Lockstep, Product, Release
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.ties import KnownClash, KnownLockstep


def product_of(known: KnownProduct) -> Product:
    return Product.model_validate(
        {
            "id": known.id,
            "kind": known.kind,
            "access": known.access,
            "name": known.name,
            "major_place": known.major_place,
            "closed": known.withdrawn_at is not None,
        }
    )


def release_of(known: KnownRelease) -> Release:
    return Release(
        product=known.product,
        version=known.version,
        published=known.published,
        channel=known.channel,
        requires=known.requires,
        conflicts=known.conflicts,
        tested=known.tested,
        bundles={p: b.version for p, b in known.bundles.items() if p.startswith("plugin/")},
        from_=known.from_,
    )


def advisory_of(known: KnownAdvisory) -> Advisory:
    return Advisory(
        id=known.id, product=known.product, affected=known.affected, severity=known.severity
    )


def lockstep_of(known: KnownLockstep) -> Lockstep:
    return Lockstep(products=known.products, match=known.match)


def clash_of(known: KnownClash) -> Clash:
    return Clash(a=known.a, b=known.b, note=known.reason)
