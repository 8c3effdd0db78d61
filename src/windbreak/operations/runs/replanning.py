"""The rest of a run's plan made anew from what is there, within what was approved.

Where the site was not as a step should have left it, or a patch release may be taken, the steps
after that point are replaced. It must end: there are at most as many such turns as the plan has
steps, and what is left never grows.

A patch release is taken in the place of a target where that was approved, has soaked, was taken by
the wave before, and brings no work that was not shown when the target was approved.
"""

from __future__ import annotations

from collections.abc import Mapping

from windbreak.core.case.situation import Case, Hold, Soak
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.journal import PlannedAnew, planned_anew
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.verdicts import PlannedStep
from windbreak.core.versions.version import Version, jump, parse_version
from windbreak.operations.context import Context
from windbreak.operations.planning import brought
from windbreak.operations.reasoning.answers import reason
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.runs.acting import Acting
from windbreak.operations.scheduling import gates

_AT_ONCE = Soak(security=0, patch=0, minor=0, major=0)


def replan(run: Acting, after: int, why: str) -> bool:
    """Plan the rest of a run anew from what is there; whether that could be done. Writes."""
    now, plan = run.course, run.plan
    left = len(now.steps) - after
    if now.turns >= max(1, len(plan.plan.steps)) or plan.removes:
        return False  # what leaves a site was approved as the site was
    inventory = run.context.store.inventories.get(run.site.id)
    steps = rest(run.context, plan, inventory)
    if steps is None or len(steps) > left:
        return False
    start = {c.product: c.version for c in inventory.components}
    anew = PlannedAnew(after=after, start=start, steps=steps)
    run.journal.write(planned_anew(after, now.turns + 1), "done", text=why, detail=anew)
    return True


def rest(context: Context, plan: SitePlan, inventory: Inventory) -> tuple[PlannedStep, ...] | None:
    """The steps from what is there to what was approved; None where they would go beyond it."""
    case = _case(context, plan, inventory)
    highest = _reach(context, plan, case)
    steps = _steps(context, case, highest)
    if _asks_for_more(context, plan, steps):
        highest = _targets(plan)
        steps = _steps(context, case, highest)
    for move in (move for step in steps for move in step.moves):
        if move.to is None or move.product not in highest:
            return None
        if parse_version(move.to) > highest[move.product]:
            return None
    return steps


def _within(case: Case, highest: Mapping[str, Version]) -> Case:
    """A case in which nothing goes beyond what was approved, and no soak is asked again."""
    held = _held(case, highest)
    soaks = held.policy.soaks | dict.fromkeys(highest, _AT_ONCE)
    return held.model_copy(update={"policy": held.policy.model_copy(update={"soaks": soaks})})


def _held(case: Case, highest: Mapping[str, Version]) -> Case:
    """A case in which nothing goes beyond some versions."""
    holds = [
        Hold(product=product, range=f">{version.text}", reason="it was not approved")
        for product, version in highest.items()
    ]
    policy = case.policy.model_copy(update={"holds": (*case.policy.holds, *holds)})
    return case.model_copy(update={"policy": policy})


def _case(context: Context, plan: SitePlan, inventory: Inventory) -> Case:
    site = context.store.sites.get(plan.site)
    return Ground.read(context).case(site, inventory, only=frozenset(plan.targets))


def _steps(context: Context, case: Case, highest: Mapping[str, Version]) -> tuple[PlannedStep, ...]:
    return reason(context, _within(case, highest)).plan.steps


def _targets(plan: SitePlan) -> dict[str, Version]:
    return {product: parse_version(version) for product, version in plan.targets.items()}


def _reach(context: Context, plan: SitePlan, case: Case) -> dict[str, Version]:
    """The newest version of each product that an approval reaches: its target, or a patch release
    of it that may go to this site by now.
    """
    targets = _targets(plan)
    until = plan.approval.patches_until if plan.approval else None
    if until is None or context.clock().date() > until:
        return targets
    candidates = {
        product: [
            version
            for version in (parse_version(r.version) for r in case.releases_of[product])
            if version >= target and (version == target or is_patch(target, version))
        ]
        for product, target in targets.items()
    }
    newest = {
        product: max([targets[product], *versions]) for product, versions in candidates.items()
    }
    answer = reason(context, _held(case, newest)).answer
    reached = {v.product: parse_version(v.to) for v in answer.verdicts if v.to is not None}
    tried = _tried_before(context, plan)
    reach = {}
    for product, target in targets.items():
        version = reached.get(product, target)
        highest = version if tried is None else tried.get(product, target)
        allowed = version in candidates[product] and version <= highest
        reach[product] = version if allowed else target
    return reach


def _tried_before(context: Context, plan: SitePlan) -> dict[str, Version] | None:
    """What the sites run by now that go before a site of a rollout; None where none goes before."""
    if plan.rollout is None:
        return None
    rollout = context.store.rollouts.get(plan.rollout)
    before = [
        member.site
        for gate in gates.of_rollout(context, rollout)
        if any(member.site == plan.site for member in gate.before)
        for member in gate.after
    ]
    if not before:
        return None
    tried: dict[str, Version] = {}
    for site in before:
        for component in context.store.inventories.get(site).components:
            version = parse_version(component.version)
            tried[component.product] = max(version, tried.get(component.product, version))
    return tried


def _asks_for_more(context: Context, plan: SitePlan, steps: tuple[PlannedStep, ...]) -> bool:
    """Whether some steps bring work that was not shown when their plan was approved."""
    shown = {(b.product, b.kind, b.text) for b in plan.brings}
    return any(
        (b.product, b.kind, b.text) not in shown
        for b in brought.of_steps(context, plan.site, steps)
        if b.by == "person" or b.kind == "migrate"
    )


def is_patch(of: Version, version: Version) -> bool:
    """Whether a version is newer than another, and differs below the second number only."""
    return version > of and jump(of, version) == "patch"


def newer_patches(context: Context, plan: SitePlan, inventory: Inventory) -> list[str]:
    """The targets of which a patch release may be taken in their place, in words. Reads."""
    case = _case(context, plan, inventory)
    highest = _reach(context, plan, case)
    if _asks_for_more(context, plan, _steps(context, case, highest)):
        return []
    return [
        f"{product} {version.text} in the place of {plan.targets[product]}"
        for product, version in highest.items()
        if version > parse_version(plan.targets[product])
    ]
