"""What licences cover, and what they let each site take."""

from __future__ import annotations

from dataclasses import dataclass

from windbreak.core.case.situation import Licence as CaseLicence
from windbreak.core.values.licences import Licence
from windbreak.operations.context import Context


def covered(context: Context, licence: Licence) -> tuple[str, ...]:
    """The products of a licence: those it names, and all of its maker. Reads."""
    found = dict.fromkeys(licence.products)
    if licence.maker:
        for product in context.store.products.all():
            if licence.maker in (product.maker, product.feed) and product.access == "licensed":
                found[product.id] = None
    return tuple(found)


@dataclass(frozen=True)
class Rights:
    """The licences of the fleet with what each covers; made once for many sites."""

    licences: tuple[tuple[Licence, tuple[str, ...]], ...]
    seats: dict[str, tuple[str, ...]]


def kept(context: Context) -> Rights:
    """The same as ``rights``, read anew only after something of it was written. Reads."""
    kinds = ("everything", "licence", "entitlement", "seat", "product")
    key = context.store.database.generation(*kinds)
    return context.cache.kept("licence rights", key, lambda _: rights(context))


def rights(context: Context) -> Rights:
    """Every licence, what it covers, and who holds its seats. Reads."""
    held: dict[str, list[str]] = {}
    for one in context.store.seats.all():
        held.setdefault(one.site, []).append(one.licence)
    return Rights(
        tuple((x, covered(context, x)) for x in context.store.licences.all()),
        {site: tuple(ids) for site, ids in held.items()},
    )


def for_case(known: Rights, site: str) -> list[CaseLicence]:
    """A site's rights, as the reasoning takes them.

    "through a theme" is not among them: it gives what the theme carries, and that is had by
    having the theme.
    """
    seated = known.seats.get(site, ())
    return [
        CaseLicence(
            product=product,
            range=licence.range,
            covers_until=licence.covers_until,
            expires=licence.expires,
        )
        for licence, products in known.licences
        if licence.form != "through a theme" and (not licence.seated or licence.id in seated)
        for product in products
    ]
