"""Acts: what somebody could do to change a case, and the case after it was done.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". An act changes
what is true of the site, its host or the policy; whether it helps is found by reasoning again.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, date, datetime, time
from functools import lru_cache
from typing import Literal, get_args

from windbreak.core.case import Case, Channel, Frozen, Licence, ShelfItem
from windbreak.core.versions import parse_version

ActKind = Literal["wait", "activate", "lift-hold", "licence", "offer", "remove", "channel", "shelf"]


class Act(Frozen):
    """One act; the fields its kind does not use are None."""

    act: ActKind
    product: str | None = None
    version: str | None = None
    channel: Channel | None = None
    until: date | None = None


@lru_cache(maxsize=4096)
def act_of(
    kind: ActKind,
    product: str | None = None,
    version: str | None = None,
    channel: Channel | None = None,
    until: date | None = None,
) -> Act:
    """An act; equal ones are one."""
    return Act(act=kind, product=product, version=version, channel=channel, until=until)


def applied(case: Case, acts: Iterable[Act]) -> Case:
    """The case as it would be after the acts."""
    for act in acts:
        case = apply(case, act)
    return case


def apply(case: Case, act: Act) -> Case:
    """The case as it would be after one act."""
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
            more_of = {p: (*own, act.channel) for p, own in policy.channels_of.items()}
            update = {"channels": (*policy.channels, act.channel), "channels_of": more_of}
            policy = policy.model_copy(update=update)
    return case.model_copy(update={"site": site, "policy": policy})


_ORDER = {kind: place for place, kind in enumerate(get_args(ActKind))}


@lru_cache(maxsize=4096)
def rank(act: Act) -> tuple[object, ...]:
    """The place of an act among equals: by kind, then by product, day and version."""
    version = parse_version(act.version).key if act.version else ()
    return (_ORDER[act.act], act.until or date.min, act.product or "", version, act.channel or "")
