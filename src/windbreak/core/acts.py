"""Acts: what somebody could do to change a case, and the case after it was done.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". An act changes
what is true of the site, its host or the policy; whether it helps is found by reasoning again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, time, timedelta
from typing import Literal

from windbreak.core.case import Case, Channel, Frozen, Licence, Release, ShelfItem, soak_over
from windbreak.core.versions import Version

ActKind = Literal["wait", "activate", "lift-hold", "licence", "offer", "remove", "channel", "shelf"]


class Act(Frozen):
    """One act; the fields its kind does not use are None."""

    act: ActKind
    product: str | None = None
    version: str | None = None
    channel: Channel | None = None
    until: date | None = None


def applied(case: Case, acts: Iterable[Act]) -> Case:
    """The case as it would be after the acts."""
    for act in acts:
        case = _apply(case, act)
    return case


def _apply(case: Case, act: Act) -> Case:
    site, policy = case.site, case.policy
    product = act.product or ""
    match act.act:
        case "wait":
            assert act.until is not None
            return case.model_copy(update={"at": datetime.combine(act.until, time.min, tzinfo=UTC)})
        case "activate":
            changed = tuple(
                c.model_copy(update={"active": True}) if c.product == product else c
                for c in site.components
            )
            site = site.model_copy(update={"components": changed})
        case "remove":
            kept = tuple(c for c in site.components if c.product != product)
            site = site.model_copy(update={"components": kept})
        case "licence":
            more = (*site.licences, Licence(product=product))
            site = site.model_copy(update={"licences": more})
        case "offer":
            offered = (*site.offers.get(product, ()), act.version or "")
            site = site.model_copy(update={"offers": {**site.offers, product: offered}})
        case "shelf":
            item = ShelfItem(product=product, version=act.version or "")
            site = site.model_copy(update={"shelf": (*site.shelf, item)})
        case "lift-hold":
            holds = tuple(h for h in policy.holds if h.product != product)
            policy = policy.model_copy(update={"holds": holds})
        case "channel":
            assert act.channel is not None
            policy = policy.model_copy(update={"channels": (*policy.channels, act.channel)})
    return case.model_copy(update={"site": site, "policy": policy})


def promising(case: Case, product: str, version: Version) -> list[Act]:
    """The acts worth trying for one version of a product, in the order equals are preferred."""
    return list(_promising(case, product, version))


def _promising(case: Case, product: str, version: Version) -> Iterator[Act]:
    for when in sorted(_days(case)):
        yield Act(act="wait", until=when)
    for component in case.site.components:
        if not component.active:
            yield Act(act="activate", product=component.product)
    for held in sorted({h.product for h in case.policy.holds}):
        yield Act(act="lift-hold", product=held)
    licensed = [p.id for p in case.products if p.access == "licensed"]
    for name in sorted(licensed):
        yield Act(act="licence", product=name)
    for name, release in _above(case):
        if name.startswith("runtime/"):
            yield Act(act="offer", product=name, version=release.version)
    for component in case.site.components:
        if component.product.startswith("plugin/") and component.product != product:
            yield Act(act="remove", product=component.product)
    for channel in sorted({r.channel for r in case.releases} - set(case.policy.channels)):
        yield Act(act="channel", channel=channel)
    for name, release in _above(case):
        access = case.product[name].access
        wanted = name != product or release.parsed == version
        if wanted and access != "public" and not name.startswith("runtime/"):
            yield Act(act="shelf", product=name, version=release.version)


def _above(case: Case) -> Iterator[tuple[str, Release]]:
    """The known releases above what is installed, of the products on the site."""
    for component in sorted(case.site.components, key=lambda c: c.product):
        own = [r for r in case.releases if r.product == component.product]
        for release in case.releases_of[component.product] if own else ():
            if release.version != component.version:
                yield component.product, release


def _days(case: Case) -> set[date]:
    """The days on which waiting changes something: a soak or a hold is over."""
    soak = case.policy.soak
    found = set()
    for release in case.releases:
        for days in {soak.major, soak.minor, soak.patch, soak.security}:
            over = soak_over(release, days)
            if over > case.at.astimezone(UTC):
                found.add(over.date())
    for hold in case.policy.holds:
        if hold.until is not None and hold.until >= case.day:
            found.add(hold.until + timedelta(days=1))
    return found
