"""Plans let go: exactly their targets, with every package in hand."""

from __future__ import annotations

from collections.abc import Iterable

from windbreak.core.values.accounts import Principal
from windbreak.core.values.plans import Approval, ApprovePlan, SitePlan
from windbreak.feeds.errors import FeedError
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.planning import allowed, brought, planning
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.runs import own_files
from windbreak.operations.sites import sites
from windbreak.operations.tracking import shelving
from windbreak.packages.errors import PackageRefused
from windbreak.wording.words import counted


def approve(
    context: Context,
    plan_id: int,
    words: ApprovePlan,
    by: Principal,
    *,
    rollout: int | None = None,
    rules: tuple[str, ...] = (),
) -> SitePlan:
    """Let a plan go: exactly its targets; ``rollout``: as a part of one; ``rules``: those of the
    house that let it go. Writes.

    Raises Refused when it is no draft, moves nothing, or starts from what is no longer there.
    """
    plan = context.store.plans.get(plan_id)
    site = context.store.sites.get(plan.site)
    if plan.state != "draft":
        raise Refused("not-a-draft", f"plan {plan_id} is {plan.state}; draft a new one")
    if not plan.plan.steps:
        raise Refused("nothing-to-do", f"plan {plan_id} moves nothing on {site.label}")
    check_start(context, plan)
    if context.store.agents.key(plan.site) is not None and instance.may_drive(context):
        agent = sites.agent_for(context, plan.site)
        own_files.check_if_it_answers(context, agent, plan, words.changed_files)
    _check_limits(context, plan)
    if rollout is None:  # what a rollout approves was drafted at the same instant
        _check_permit(context, plan)
    if words.fetch:
        _fetch_packages(context, plan)
    approval = Approval(
        by=by.name,
        at=context.clock(),
        why=words.why,
        restore_anyway=words.restore_anyway,
        changed_files=words.changed_files,
        patches_until=words.patches_until,
        rules=rules,
    )
    drawn = tuple(planning.drawn(context, plan))
    with context.store.transaction():
        for other in context.store.plans.all(site=plan.site):
            if other.state == "approved":
                context.store.plans.change(other.id, state="replaced")
        changed = context.store.plans.change(
            plan_id, state="approved", approval=approval, charts=drawn, rollout=rollout
        )
        what = f"plan {plan_id} for {site.label} approved"
        steps, products = len(plan.plan.steps), len(plan.targets) or len(plan.removes)
        result = f"{counted(steps, 'step')}, {counted(products, 'product')}"
        context.record(by.name, what, plan.site, why=words.why, result=result)
    context.tell("plan", plan.site, what)
    return changed


def _check_permit(context: Context, plan: SitePlan) -> None:
    """Raise Refused where something stands against a step since the plan was drafted."""
    site = context.store.sites.get(plan.site)
    inventory = context.store.inventories.get(plan.site)
    steps = enumerate(plan.plan.steps, start=1)
    for number, against in allowed.refused(context, Ground.read(context), site, inventory, steps):
        text = f"step {number} of {len(plan.plan.steps)} is not allowed now: {' '.join(against)}"
        raise Refused("not-allowed", f"{text} Draft a new plan")


def plan_anew(context: Context, plan_id: int, changed: Iterable[str]) -> SitePlan | None:
    """A plan for what is left of an approved one whose site is no longer as it was planned from:
    approved as that was, where it moves nothing but what that moved, to where that moved it. None
    where a person has to approve it anew; the old one is replaced all the same. Writes.
    """
    plan = context.store.plans.get(plan_id)
    if plan.removes:
        context.store.plans.change(plan_id, state="replaced")
        return None
    scope = None if plan.scope is None else frozenset(plan.scope)
    try:
        anew = planning.draft(context, plan.site, only=scope or frozenset(plan.targets))
    except OperationError:
        return None
    within = anew.targets.items() <= plan.targets.items() and bool(anew.plan.steps)
    what = f"{', '.join(changed)} changed on the site since plan {plan_id} was made"
    with context.store.transaction():
        context.store.plans.change(plan_id, state="replaced")
        if not within or plan.approval is None:
            return None
        changed_plan = context.store.plans.change(
            anew.id,
            state="approved",
            approval=plan.approval,
            charts=tuple(planning.drawn(context, anew)),
            to_book=plan.to_book,
            rollout=plan.rollout,
        )
        text = f"plan {plan_id} planned anew as plan {anew.id}"
        context.record("Windbreak", text, plan.site, why=what)
    context.tell("plan", plan.site, text)
    return changed_plan


def _check_limits(context: Context, plan: SitePlan) -> None:
    """Raise Refused where a release needs more than the site's runtime allows."""
    inventory = context.store.inventories.get(plan.site)
    lacks = brought.too_little(context, inventory, plan.plan.steps)
    if lacks:
        raise Refused("limit", f"{'; '.join(lacks)}. Have it raised, then refresh the site")


def _fetch_packages(context: Context, plan: SitePlan) -> None:
    """Every package of a plan in hand and examined, when it is approved and not at step 5. Raises
    Refused where one can't be had or is not what was announced.
    """
    for move in (move for step in plan.plan.steps for move in step.moves):
        if move.to is None or move.product.startswith("runtime/"):
            continue
        try:
            shelving.fetch_package(context, move.product, move.to, plan.site, lent=True)
        except (FeedError, PackageRefused) as error:
            raise Refused(
                "no-package",
                f"the package of {move.product} {move.to} can't be had now: {error}. The plan is "
                "as it was; approve it when it can be fetched",
            ) from error


def check_start(context: Context, plan: SitePlan) -> None:
    """Raise Refused when a plan starts from what is no longer there: it must be shown again."""
    changed = plan.changed_since(context.store.inventories.get(plan.site))
    if changed:
        raise Refused(
            "start-has-changed",
            f"plan {plan.id} was made for another state of the site: {', '.join(changed)} "
            f"changed since. See it anew with `windbreak plan {plan.site}`",
        )
