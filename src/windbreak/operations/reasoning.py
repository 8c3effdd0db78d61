"""A site's case made from what is kept, its verdicts, and its plan."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import partial
from typing import get_args

from windbreak.core.case.catalogue import Catalogue, among
from windbreak.core.case.known import (
    advisory_of,
    clash_of,
    lockstep_of,
    product_of,
    release_of,
)
from windbreak.core.case.situation import (
    Advisory,
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
from windbreak.core.fleet import (
    changes_on,
    reach_of,
    situation_key,
    spread,
)
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.policy import InForce, SoakKind, in_force, touching
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import Answer, Plan
from windbreak.core.versions.version import parse_version
from windbreak.documents.charts import Chart
from windbreak.operations import licence_rights, rights
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.wording.answers import Answered, Asked, answered
from windbreak.wording.charts import charts

_KEPT_RESULTS = 1024
_WORTH_SENDING = 50
_WHOLE = Asked(acts=True, plans=True)


@dataclass(frozen=True)
class Reasoned:
    """A case with its answer and its plan; the key of its situation, and when it was reasoned."""

    case: Case
    answer: Answer
    plan: Plan
    key: str
    made_at: datetime


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
    catalogue = _catalogue(context)
    products, releases = catalogue.around(known, inventory)
    holds = [h for p in products if p not in known.own for h in catalogue.withheld.get(p, ())]
    holds += [
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
    rules = policy_of(context, known, products)
    lockstep, clashes = among(
        catalogue.compiled.lockstep,
        catalogue.compiled.clashes,
        {p for p, one in products.items() if one.access != "custom"},
    )
    holds += [
        Hold(product=p, reason=f"never taken, by the rule for {rule.take_by}")
        for p, rule in rules.items()
        if rule.take == "never"
    ]
    return Case(
        at=context.clock(),
        products=tuple(products[p] for p in sorted(products)),
        releases=tuple(releases),
        lockstep=lockstep,
        clashes=clashes,
        advisories=tuple(
            a
            for p in sorted(products)
            if p not in known.own
            for a in catalogue.advisories.get(p, ())
        ),
        site=_case_site(context, known, inventory, products, catalogue.licences),
        policy=_policy(context, holds, rules),
    )


def policy_of(context: Context, site: Site, products: Iterable[str]) -> dict[str, InForce]:
    """What the rules of the house say of some products on a site. Reads."""
    rules = context.store.rules.all()
    known = _catalogue(context).known
    today = context.clock().date()
    usual: dict[SoakKind, int] = {k: context.soak.get(k, 0) for k in get_args(SoakKind)}
    found = {}
    for product in products:
        one = known.get(product)
        near = touching(
            rules,
            today,
            site=site.id,
            client=site.client,
            product=product,
            maker=(one.maker or "") if one else "",
        )
        found[product] = in_force(near, product, usual)
    return found


def _policy(context: Context, holds: Iterable[Hold], rules: dict[str, InForce]) -> Policy:
    """The policy of a case: what is usual, and where rules say otherwise of a product."""
    usual = Soak(**context.soak)
    soaks = {p: Soak.model_validate(rule.soak) for p, rule in rules.items()}
    return Policy(
        holds=tuple(holds),
        soak=usual,
        soaks={p: soak for p, soak in soaks.items() if soak != usual},
        channels_of={p: r.channels for p, r in rules.items() if r.channels != ("stable",)},
    )


def _case_site(
    context: Context,
    site: Site,
    inventory: Inventory,
    products: dict[str, Product],
    licences: licence_rights.Rights,
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
            x for x in licence_rights.for_case(licences, site.id) if x.product in products
        ),
        shelf=tuple(
            ShelfItem(product=r.product, version=r.version)
            for r in rights.of_site(context, site.id)
            if r.product in products and r.product not in site.own
        ),
    )


@dataclass(frozen=True)
class _Catalogue:
    """Everything that is known of products, as the reasoning takes it; made once, used for all.

    ``withheld`` are holds on releases that came twice or are not what they claim: nothing takes
    them until somebody has decided. ``withdrawn`` ones are offered to nobody.
    """

    known: dict[str, KnownProduct]
    releases: dict[str, tuple[Release, ...]]
    advisories: dict[str, tuple[Advisory, ...]]
    withheld: dict[str, tuple[Hold, ...]]
    withdrawn: frozenset[tuple[str, str]]
    licences: licence_rights.Rights
    compiled: Catalogue

    def around(self, site: Site, inventory: Inventory) -> tuple[dict[str, Product], list[Release]]:
        """The products that matter to a site: those on it, and what they ask for or carry.

        What was made for the site has no releases: an offer only shares its folder's name.
        """
        products: dict[str, Product] = {}
        releases: list[Release] = []
        waiting = [(c.product, c.name) for c in inventory.components]
        own = set(site.own) | namesakes(self.known, inventory)
        while waiting:
            id, name = waiting.pop()
            if id in products:
                continue
            known = self.known.get(id)
            if id in own or known is None:
                access = "custom" if id in own else "public"
                kind = id.partition("/")[0]
                products[id] = Product.model_validate(
                    {"id": id, "kind": kind, "access": access, "name": name}
                )
            else:
                products[id] = self.compiled.products[id]
            if id in own:
                continue
            installed = inventory.version_of(id)
            for release in self.releases.get(id, ()):
                gone = (id, release.version) in self.withdrawn
                if gone and (installed is None or parse_version(installed) != release.parsed):
                    continue
                releases.append(release)
                for other in (*release.requires, *release.bundles):
                    if other in self.known:
                        waiting.append((other, other))
        return products, releases


def namesakes(known: dict[str, KnownProduct], inventory: Inventory) -> set[str]:
    """Components whose header names another maker than the product's: only the folder is shared."""
    found = set()
    for one in inventory.components:
        product = known.get(one.product)
        if product is None or not one.maker or not product.maker:
            continue
        if one.maker.casefold() != product.maker.casefold():
            found.add(one.product)
    return found


_catalogues: dict[int, tuple[tuple[int, ...], _Catalogue]] = {}


def _catalogue(context: Context) -> _Catalogue:
    """The catalogue as it stands; made anew only after something in it was written. Reads."""
    store = context.store
    mark = tuple(
        d.changes for d in (store.products, store.releases, store.advisories, store.licences)
    ) + (store.seats.changes, store.locksteps.changes, store.clashes.changes)
    kept = _catalogues.get(id(store))
    if kept is not None and kept[0] == mark:
        return kept[1]
    releases: dict[str, list[Release]] = {}
    withheld: dict[str, list[Hold]] = {}
    withdrawn: set[tuple[str, str]] = set()
    for release in store.releases.all():
        if release.withdrawn_at is not None:
            withdrawn.add((release.product, release.version))
        releases.setdefault(release.product, []).append(release_of(release))
        reason = why_withheld(release)
        if reason is not None:
            one = Hold(product=release.product, range=f"={release.version}", reason=reason)
            withheld.setdefault(release.product, []).append(one)
    advisories: dict[str, list[Advisory]] = {}
    for told in store.advisories.all():
        if not told.withdrawn:
            advisories.setdefault(told.product, []).append(advisory_of(told))
    known = {p.id: p for p in store.products.all()}
    lockstep, clashes = among(
        [lockstep_of(g) for g in store.locksteps.all()],
        [clash_of(c) for c in store.clashes.all()],
        known,
    )
    made = _Catalogue(
        known,
        {p: tuple(found) for p, found in releases.items()},
        {p: tuple(found) for p, found in advisories.items()},
        {p: tuple(found) for p, found in withheld.items()},
        frozenset(withdrawn),
        licence_rights.rights(context),
        Catalogue(
            [product_of(p) for p in known.values()],
            [
                r
                for p, found in releases.items()
                for r in found
                if p in known and (p, r.version) not in withdrawn
            ],
            lockstep=lockstep,
            advisories=[a for p, found in advisories.items() if p in known for a in found],
            clashes=clashes,
        ),
    )
    if kept is not None:
        _forget(kept[1].compiled, made.compiled)
    _catalogues.clear()
    _catalogues[id(store)] = (mark, made)
    return made


def compiled(context: Context) -> Catalogue:
    """Everything that is known of products, compiled for the reasoning. Reads."""
    return _catalogue(context).compiled


def licences_of(context: Context) -> dict[str, set[str]]:
    """The products each site has a licence for. Reads."""
    known = _catalogue(context).licences
    sites = [s.id for s in context.store.sites.all()]
    return {site: {x.product for x in licence_rights.for_case(known, site)} for site in sites}


UNDECIDED = "somebody has to decide"  # how the reason of a hold begins that nobody made


def why_withheld(release: KnownRelease) -> str | None:
    """Why nothing takes a release until somebody has decided, or None."""
    if release.undecided:
        return f"{UNDECIDED}: it came twice, with different packages"
    if release.refused is not None:
        return f"{UNDECIDED}: its package is not what it claims ({release.refused})"
    return None


@dataclass(frozen=True)
class _Kept:
    """A result, the days it holds, and the products whose catalogue it came from."""

    told: Answered
    made_at: datetime
    first_day: date  # the case's own: what is supposed may lie ahead of today
    last_day: date
    products: frozenset[str]


_results: OrderedDict[str, _Kept] = OrderedDict()
_guard = threading.Lock()


def _forget(before: Catalogue, after: Catalogue) -> None:
    """Forget the results that what changed in the catalogue can touch, and no others."""
    changed = after.differs(before)
    if not changed:
        return
    touched = {p for one in changed for p in reach_of(after, one) | reach_of(before, one)}
    with _guard:
        for key in [k for k, kept in _results.items() if not touched.isdisjoint(kept.products)]:
            del _results[key]


def reason(context: Context, case: Case) -> Reasoned:
    """The answer and plan of a case. Equal situations are reasoned about once, whichever site
    they are of, and again only when something that can touch them has changed. Reads.
    """
    catalogue = _catalogue(context).compiled
    lean = catalogue.lean(case)
    key = situation_key(lean)
    kept = _kept(key, case)
    if kept is None:
        kept = _keep(context, key, case, answered(lean, catalogue, _WHOLE))
    assert kept.told.plan is not None  # it was asked for
    same = {"site": case.site.id}
    return Reasoned(
        case,
        kept.told.answer.model_copy(update=same),
        kept.told.plan.model_copy(update=same),
        key,
        kept.made_at,
    )


def prepare(context: Context, sites: Iterable[str]) -> None:
    """Reason about what is not known yet of many sites, where there is an executor for it. Reads.

    For few sites the way to an executor costs more than it saves.
    """
    ids = list(sites)
    if context.executor is None or len(ids) < _WORTH_SENDING:
        return
    catalogue = _catalogue(context).compiled
    wanted: dict[str, Case] = {}
    leans: dict[str, Case] = {}
    for id in ids:
        if context.store.inventories.find(id) is None:
            continue
        case = case_of(context, id)
        lean = catalogue.lean(case)
        key = situation_key(lean)
        if key not in wanted and _kept(key, case) is None:
            wanted[key], leans[key] = case, lean
    work = partial(answered, asked=_WHOLE)
    for key, told in spread(catalogue, leans, work, context.executor).items():
        _keep(context, key, wanted[key], told)


def _kept(key: str, case: Case) -> _Kept | None:
    with _guard:
        kept = _results.get(key)
        if kept is None or not kept.first_day <= case.day <= kept.last_day:
            return None
        _results.move_to_end(key)
        return kept


def _keep(context: Context, key: str, case: Case, told: Answered) -> _Kept:
    last = changes_on(case)
    last_day = last if last == date.max else last - timedelta(days=1)
    products = frozenset(p.id for p in case.products)
    kept = _Kept(told, context.clock(), case.day, last_day, products)
    with _guard:
        _results[key] = kept
        while len(_results) > _KEPT_RESULTS:
            _results.popitem(last=False)
    return kept


def touch(context: Context, products: Iterable[str]) -> None:
    """Mark the rows of the sites that a change of some products can touch. Writes."""
    catalogue = _catalogue(context).compiled
    touched = {p for one in products for p in reach_of(catalogue, one)}
    context.store.rows.touch_where(touched)


def verdicts(context: Context, site: str) -> Answer:
    """The verdicts of a site now. Reads. Raises Refused when its inventory is not known."""
    return reason(context, case_of(context, site)).answer


def charts_of(context: Context, plan: SitePlan) -> list[Chart]:
    """The charts of a plan, by what is known now. Reads."""
    case = case_of(context, plan.site)
    catalogue = _catalogue(context).compiled
    lean = catalogue.lean(case)
    return charts(lean, catalogue.beside(lean), plan.plan)


def would_move(context: Context, site: str, only: frozenset[str]) -> bool:
    """Whether a plan with some products alone would have a step. Reads."""
    return bool(reason(context, case_of(context, site, only=only)).plan.steps)


def draft(context: Context, site: str, *, only: frozenset[str] | None = None) -> SitePlan:
    """Make a plan for a site as it stands, and keep it as a draft. Writes."""
    found = reason(context, case_of(context, site, only=only))
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
        found = reason(context, case_of(context, site, only=only)).answer
        if any(v.product == product and v.to == version for v in found.verdicts):
            return draft(context, site, only=only)
    label = case.label(product)
    for verdict in reason(context, case).answer.verdicts:
        if verdict.product == product:
            why = verdict.blocked.text if verdict.blocked else f"it goes to {verdict.to}."
            raise Refused("not-to-be-reached", f"{label} {version} can't be taken now: {why}")
    raise Refused("not-installed", f"{label} is not on this site")
