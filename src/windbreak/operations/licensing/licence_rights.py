"""What licences cover, and what they let each site take."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from typing import Protocol

from windbreak.core.case.situation import Licence as CaseLicence
from windbreak.core.values.entitlements import Lack, Why
from windbreak.core.values.licences import Licence
from windbreak.core.values.sites import Site
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version
from windbreak.operations.context import Context


def covered(context: Context, licence: Licence) -> tuple[str, ...]:
    """The products of a licence: those it names, and all of its maker. Reads."""
    products = dict.fromkeys(licence.products)
    if licence.maker:
        for product in context.store.products.all():
            if licence.maker in (product.maker, product.feed) and product.access == "licensed":
                products[product.id] = None
    return tuple(products)


class Licensee(Protocol):
    """What rights ask of a site."""

    @property
    def id(self) -> str: ...

    @property
    def client(self) -> str: ...


@dataclass(frozen=True)
class Rights:
    """The licences of the fleet with what each covers; made once for many sites.

    ``seats``: the licences of which a site has a seat; ``taken``: how many seats are, copies that
    ride along aside.
    """

    licences: tuple[tuple[Licence, tuple[str, ...]], ...]
    seats: dict[str, tuple[str, ...]]
    taken: dict[str, int]

    def of(self, site: Licensee) -> Iterator[tuple[Licence, tuple[str, ...]]]:
        """The licences that a site has, ended ones too.

        "through a theme" is not among them: it gives what the theme carries, and that is had by
        having the theme.
        """
        seated = self.seats.get(site.id, ())
        for licence, products in self.licences:
            if licence.form == "through a theme" or not licence.good_for(site.client):
                continue
            if not licence.seated or licence.id in seated:
                yield licence, products

    def free(self, licence: Licence) -> int | None:
        """How many seats of a licence are free; None without limit."""
        if licence.seats is None:
            return None
        return max(0, licence.seats - self.taken.get(licence.id, 0))


def kept(context: Context) -> Rights:
    """The same as ``rights``, read anew only after something of it was written. Reads."""
    kinds = ("everything", "licence", "entitlement", "seat", "product")
    key = context.store.database.generation(*kinds)
    return context.cache.kept("licence rights", key, lambda _: rights(context))


def rights(context: Context) -> Rights:
    """Every licence, what it covers, and who holds its seats. Reads."""
    held: dict[str, list[str]] = {}
    taken: Counter[str] = Counter()
    for seat in context.store.seats.all():
        held.setdefault(seat.site, []).append(seat.licence)
        taken[seat.licence] += not seat.riding
    return Rights(
        tuple((x, covered(context, x)) for x in context.store.licences.all()),
        {site: tuple(ids) for site, ids in held.items()},
        taken,
    )


def for_case(rights: Rights, site: Licensee) -> list[CaseLicence]:
    """A site's rights, as the reasoning takes them."""
    return [
        CaseLicence(
            product=product,
            range=licence.range,
            covers_until=licence.covers_until,
            expires=licence.expires,
        )
        for licence, products in rights.of(site)
        for product in products
    ]


def lacks(
    rights: Rights, site: Site, product: str, version: Version, published: date, today: date
) -> tuple[str | None, tuple[Lack, ...]]:
    """The licence by which a site may take a release, or None and what the nearest lack."""
    own = {licence.id for licence, _ in rights.of(site)}
    near: list[tuple[tuple[int, bool, str], Lack]] = []
    by: list[tuple[bool, str]] = []
    for licence, products in rights.licences:
        if product not in products or licence.form == "through a theme":
            continue
        if not licence.good_for(site.client):
            continue
        why, since = _lack(rights, licence, site, version, published, today)
        here = licence.id in own
        if why is None:
            by.append((licence.client is None, licence.id))
            continue
        lack = Lack(
            licence=licence.id,
            label=licence.label,
            why=why,
            since=since,
            range=licence.range,
            seats=licence.seats,
            here=here,
        )
        near.append(((_nearness(lack), licence.client is None, licence.id), lack))
    if by:
        return min(by)[1], ()
    return None, tuple(lack for _, lack in sorted(near, key=lambda pair: pair[0]))


def _nearness(lack: Lack) -> int:
    """How near a licence is to giving the right: what it takes, the least first. What the site has
    of its own comes before what others have.
    """
    match lack.why:
        case "ended" if lack.here:
            return 0
        case "seat free":
            return 1
        case "no seat free" | "seat elsewhere":
            return 2
        case "not covered" if lack.here and lack.since is not None:
            return 3
        case "ended":
            return 4
        case _:
            return 5


def _lack(
    rights: Rights, licence: Licence, site: Site, version: Version, published: date, today: date
) -> tuple[Why | None, date | None]:
    """Why a licence gives a site no right to a release, and the day that matters to it."""
    seated = licence.id in rights.seats.get(site.id, ())
    if version not in parse_range(licence.range):
        return "not covered", None
    if licence.covers_until is not None and published > licence.covers_until:
        return "not covered", licence.covers_until
    if licence.ended(today):
        return "ended", licence.expires
    if not licence.seated or seated:
        return None, None
    if rights.free(licence) != 0:
        return "seat free", None
    if site.twin_of and licence.id in rights.seats.get(site.twin_of, ()):
        return "seat elsewhere", None
    return "no seat free", None
