"""A site's case made from what is kept, its verdicts, and its plan."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from datetime import UTC, datetime

from windbreak.core.case import (
    Case,
    CaseSite,
    Component,
    Hold,
    Licence,
    Policy,
    Product,
    Release,
    Soak,
)
from windbreak.core.explain import Answer, Plan, answer, plan
from windbreak.core.fleet import Inventory, Site
from windbreak.core.order import order
from windbreak.core.resolve import resolve
from windbreak.core.work import SitePlan
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused

_KEPT_RESULTS = 512


@dataclass(frozen=True)
class Reasoned:
    """A case with its answer and its plan."""

    case: Case
    answer: Answer
    plan: Plan


def case_of(context: Context, site: str, *, only: frozenset[str] | None = None) -> Case:
    """A site's situation now. Reads. Raises Refused when its inventory is not known.

    With ``only``, every other product is held where it is.
    """
    known = context.store.sites.get(site)
    inventory = context.store.inventories.find(site)
    if inventory is None:
        raise Refused(
            "no-inventory",
            f"what is installed on {known.label} is not known; link it, then refresh it",
        )
    products, releases = _catalogue(context, inventory)
    holds = [
        Hold(product=h.product, range=h.range, until=h.until, reason=h.reason)
        for h in context.store.holds.all()
        if h.site in (None, site) and h.product in products
    ]
    if only is not None:
        holds += [
            Hold(product=c.product, reason="it is not part of this rollout")
            for c in inventory.components
            if c.product not in only
        ]
    return Case(
        at=context.clock(),
        products=tuple(products[p] for p in sorted(products)),
        releases=tuple(releases),
        site=_case_site(context, known, inventory, products),
        policy=Policy(holds=tuple(holds), soak=Soak(**context.soak)),
    )


def _case_site(
    context: Context, site: Site, inventory: Inventory, products: dict[str, Product]
) -> CaseSite:
    host = context.store.hosts.find(site.host) if site.host else None
    return CaseSite(
        id=site.id,
        components=tuple(
            Component(product=c.product, version=c.version, active=c.active)
            for c in inventory.components
        ),
        offers={p: v for p, v in (host.offers if host else {}).items() if p in products},
        licences=tuple(
            Licence(product=x.product, covers_until=x.covers_until, expires=x.expires)
            for x in context.store.licences.all(site=site.id)
            if x.product in products
        ),
    )


def _catalogue(context: Context, inventory: Inventory) -> tuple[dict[str, Product], list[Release]]:
    """The products that matter to a site: those on it, and what their releases ask for or carry."""
    products: dict[str, Product] = {}
    releases: list[Release] = []
    waiting = [(c.product, c.name) for c in inventory.components]
    while waiting:
        id, name = waiting.pop()
        if id in products:
            continue
        known = context.store.products.find(id)
        fields = (
            {"access": known.access, "name": known.name, "major_place": known.major_place}
            if known
            else {"access": "public", "name": name}
        )
        kind = id.partition("/")[0]
        products[id] = Product.model_validate({"id": id, "kind": kind, **fields})
        for release in context.store.releases.all(product=id):
            own = release.to_case()
            releases.append(own)
            for other in (*own.requires, *own.bundles):
                if context.store.products.find(other) is not None:
                    waiting.append((other, other))
    return products, releases


_results: OrderedDict[str, Reasoned] = OrderedDict()
_guard = threading.Lock()


def reason(case: Case) -> Reasoned:
    """The answer and plan of a case. Equal cases of one day are reasoned about once."""
    at = case.at
    day = datetime(at.year, at.month, at.day, tzinfo=UTC) if at.tzinfo is UTC else at
    key = case.model_copy(update={"at": day}).model_dump_json()
    with _guard:
        if key in _results:
            _results.move_to_end(key)
            return _results[key]
    resolution = resolve(case)
    found = Reasoned(case, answer(resolution), plan(order(resolution)))
    with _guard:
        _results[key] = found
        while len(_results) > _KEPT_RESULTS:
            _results.popitem(last=False)
    return found


def verdicts(context: Context, site: str) -> Answer:
    """The verdicts of a site now. Reads. Raises Refused when its inventory is not known."""
    return reason(case_of(context, site)).answer


def draft(context: Context, site: str, *, only: frozenset[str] | None = None) -> SitePlan:
    """Make a plan for a site as it stands, and keep it as a draft. Writes."""
    found = reason(case_of(context, site, only=only))
    inventory = context.store.inventories.get(site)
    targets = {
        v.product: v.to
        for v in found.answer.verdicts
        if v.outcome in ("move", "part", "add") and v.to
    }
    reached = {m.product: m.to for s in found.plan.steps for m in s.moves}
    with context.store.transaction():
        kept = context.store.plans.add(
            SitePlan(
                id=0,
                site=site,
                made_at=context.clock(),
                start={c.product: c.version for c in inventory.components},
                answer=found.answer,
                plan=found.plan,
                targets={p: reached.get(p, v) for p, v in targets.items()},
            )
        )
    context.tell("plan", site, f"plan {kept.id} drafted")
    return kept


def draft_for(context: Context, site: str, product: str, version: str) -> SitePlan:
    """A plan that takes one release, and no more beside it than it needs. Writes.

    Raises Refused when the release can't be reached now; the text is the reason.
    """
    case = case_of(context, site)
    # Alone first; then with everything that is tied to it by what releases say; then with all.
    tied = frozenset(
        {product}
        | {q for r in case.releases if r.product == product for q in (*r.requires, *r.bundles)}
        | {r.product for r in case.releases if product in (*r.requires, *r.bundles)}
    )
    for only in (frozenset({product}), tied, None):
        found = reason(case_of(context, site, only=only)).answer
        if any(v.product == product and v.to == version for v in found.verdicts):
            return draft(context, site, only=only)
    label = case.label(product)
    for verdict in reason(case).answer.verdicts:
        if verdict.product == product:
            why = verdict.blocked.text if verdict.blocked else f"it goes to {verdict.to}."
            raise Refused("not-to-be-reached", f"{label} {version} can't be taken now: {why}")
    raise Refused("not-installed", f"{label} is not on this site")
