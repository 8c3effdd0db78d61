"""Plans of single sites: drafted from the reasoning, kept, and shown with their charts."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from windbreak.core.case.situation import Case
from windbreak.core.values.charts import Chart
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.verdicts import Answer
from windbreak.core.versions.version import Jump
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.planning import brought
from windbreak.operations.reasoning.answers import reason
from windbreak.operations.reasoning.cases import Ground, case_of
from windbreak.operations.reasoning.catalogue import compiled
from windbreak.operations.reasoning.explaining import explained
from windbreak.wording.charts import charts


def charts_of(context: Context, plan: SitePlan) -> list[Chart]:
    """The charts of a plan: those it was approved with, else by what is known now. Reads."""
    if plan.charts is not None:
        return list(plan.charts)
    return drawn(context, plan)


def drawn(context: Context, plan: SitePlan) -> list[Chart]:
    """The charts of a plan by what is known now. Reads."""
    case = case_of(context, plan.site)
    catalogue = compiled(context)
    lean = catalogue.lean(case)
    return charts(lean, catalogue.beside(lean), plan.plan)


def would_move(
    context: Context, site: str, only: frozenset[str], jumps: Mapping[str, Jump]
) -> bool:
    """Whether a plan with some products alone, each no further than it may go, would have a step.
    Reads.
    """
    return bool(reason(context, case_of(context, site, only=only, jumps=jumps)).plan.steps)


def draft(
    context: Context,
    site_id: str,
    *,
    only: frozenset[str] | None = None,
    ground: Ground | None = None,
    jumps: Mapping[str, Jump] | None = None,
) -> SitePlan:
    """Make a plan for a site as it stands, and keep it as a draft; ``ground`` where many are made.
    With ``only`` nothing else moves, and nothing else is spoken of; ``jumps``: how far some may go.
    Writes. Raises Refused for a site that is retired, or of which nothing is known.
    """
    site = context.store.sites.get(site_id)
    if site.retired_at is not None:
        raise Refused("retired", f"{site.label} is retired: it is worked on no more")
    inventory = context.store.inventories.find(site_id)
    if ground is None or inventory is None:
        case = case_of(context, site_id, only=only, jumps=jumps)
    else:
        case = ground.case(site, inventory, only=only, jumps=jumps)
    plan = explained(ground or Ground.read(context), site, reason(context, case))
    inventory = context.store.inventories.get(site_id)
    targets = {
        v.product: v.to
        for v in plan.answer.verdicts
        if v.outcome in ("move", "part", "add") and v.to
    }
    reached = {m.product: m.to for s in plan.plan.steps for m in s.moves}
    with context.store.transaction():
        kept = context.store.plans.add(
            SitePlan(
                id=0,
                site=site_id,
                made_at=context.clock(),
                start={c.product: c.version for c in inventory.components},
                answer=_within(plan.answer, only),
                plan=plan.plan,
                targets={p: reached.get(p, v) for p, v in targets.items()},
                scope=None if only is None else tuple(sorted(only)),
                brings=brought.of_steps(context, site_id, plan.plan.steps),
            )
        )
    context.tell("plan", site_id, f"plan {kept.id} drafted")
    return kept


def _within(answer: Answer, only: frozenset[str] | None) -> Answer:
    """An answer with what is in the scope of a plan: what it may move, and what moves with it."""
    if only is None:
        return answer
    verdicts = tuple(v for v in answer.verdicts if v.product in only or v.to != v.from_)
    return answer.model_copy(update={"verdicts": verdicts})


def scopes(case: Case, products: Collection[str]) -> tuple[frozenset[str] | None, ...]:
    """What a plan for some products may move, the least first: them alone; with all that is tied to
    them by what releases say; everything.
    """
    alone = frozenset(products)
    tied = set(alone)
    for release in case.releases:
        of = (*release.requires, *release.bundles)
        if release.product in alone:
            tied.update(of)
        elif not alone.isdisjoint(of):
            tied.add(release.product)
    return alone, frozenset(tied), None


def draft_for(context: Context, site_id: str, product: str, version: str) -> SitePlan:
    """A plan that takes one release, and no more beside it than it needs. Writes.

    Raises Refused when the release can't be reached now; the text is the reason.
    """
    case = case_of(context, site_id)
    for only in scopes(case, {product}):
        answer = reason(context, case_of(context, site_id, only=only)).answer
        if any(v.product == product and v.to == version for v in answer.verdicts):
            return draft(context, site_id, only=only)
    label = case.label(product)
    ground, site = Ground.read(context), context.store.sites.get(site_id)
    for verdict in explained(ground, site, reason(context, case)).answer.verdicts:
        if verdict.product == product:
            why = verdict.blocked.text if verdict.blocked else f"it goes to {verdict.to}."
            raise Refused("not-to-be-reached", f"{label} {version} can't be taken now: {why}")
    raise Refused("not-installed", f"{label} is not on this site")
