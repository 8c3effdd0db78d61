"""Acts: what somebody could do to change a case, and the case after it was done.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". An act changes
what is true of the site, its host or the policy; whether it helps is found by reasoning again.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, time

from windbreak.core.case.situation import Case, Licence, ShelfItem
from windbreak.core.values.reasons import Act


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
