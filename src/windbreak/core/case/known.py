"""What is known here of products, in the words of a case: releases, lockstep, clashes."""

from __future__ import annotations

from windbreak.core.case.situation import Advisory, Clash, Lockstep, Product, Release
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.ties import KnownClash, KnownLockstep


def product_of(product: KnownProduct) -> Product:
    return Product.model_validate(
        {
            "id": product.id,
            "kind": product.kind,
            "access": product.access,
            "name": product.name,
            "major_place": product.major_place,
            "closed": product.withdrawn_at is not None,
        }
    )


def release_of(release: KnownRelease) -> Release:
    return Release(
        product=release.product,
        version=release.version,
        published=release.published,
        channel=release.channel,
        requires=release.requires,
        conflicts=release.conflicts,
        tested=release.tested,
        bundles={p: b.version for p, b in release.bundles.items() if p.startswith("plugin/")},
        from_=release.from_,
    )


def advisory_of(advisory: KnownAdvisory) -> Advisory:
    return Advisory(
        id=advisory.id,
        product=advisory.product,
        affected=advisory.affected,
        severity=advisory.severity,
    )


def lockstep_of(lockstep: KnownLockstep) -> Lockstep:
    return Lockstep(products=lockstep.products, match=lockstep.match)


def clash_of(clash: KnownClash) -> Clash:
    return Clash(a=clash.a, b=clash.b, note=clash.reason)
