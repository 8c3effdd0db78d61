"""The rest of a run's plan made anew from what is there, within what was approved.

Where the site was not as a step should have left it, or a patch release may be taken, the steps
after that point are replaced. It must end: there are at most as many such turns as the plan has
steps, and what is left never grows.
"""

from __future__ import annotations

from collections.abc import Mapping

from windbreak.core.case.situation import Case, Hold, Soak
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.verdicts import PlannedStep
from windbreak.core.versions.version import Version, jump, parse_version
from windbreak.operations.context import Context
from windbreak.operations.reasoning.answers import reason
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.runs.acting import Acting
from windbreak.operations.runs.course import PLANNED_ANEW

_AT_ONCE = Soak(security=0, patch=0, minor=0, major=0)


def replan(run: Acting, after: int, why: str) -> bool:
    """Plan the rest of a run anew from what is there; whether that could be done. Writes."""
    now, plan = run.course, run.plan
    left = len(now.steps) - after
    if now.turns >= max(1, len(plan.plan.steps)):
        return False
    inventory = run.context.store.inventories.get(run.site.id)
    steps = rest(run.context, plan, inventory)
    if steps is None or len(steps) > left:
        return False
    run.journal.write(
        f"{PLANNED_ANEW} {now.turns + 1}, after step {after}",
        "done",
        text=why,
        detail={
            "after": after,
            "start": {c.product: c.version for c in inventory.components},
            "steps": [step.model_dump(mode="json", by_alias=True) for step in steps],
        },
    )
    return True


def rest(context: Context, plan: SitePlan, inventory: Inventory) -> tuple[PlannedStep, ...] | None:
    """The steps from what is there to what was approved; None where they would go beyond it."""
    patches = bool(plan.approval and plan.approval.patches)
    highest = {
        product: _highest(context, product, version, patches=patches)
        for product, version in plan.targets.items()
    }
    ground = Ground.read(context)
    site = context.store.sites.get(plan.site)
    case = ground.case(site, inventory, only=frozenset(plan.targets))
    steps = reason(context, _within(case, highest)).plan.steps
    for move in (move for step in steps for move in step.moves):
        if move.product not in highest or parse_version(move.to) > highest[move.product]:
            return None
    return steps


def _within(case: Case, highest: Mapping[str, Version]) -> Case:
    """A case in which nothing goes beyond what was approved, and no soak is asked again."""
    holds = [
        Hold(product=product, range=f">{version.text}", reason="it was not approved")
        for product, version in highest.items()
    ]
    policy = case.policy.model_copy(
        update={
            "holds": (*case.policy.holds, *holds),
            "soaks": case.policy.soaks | dict.fromkeys(highest, _AT_ONCE),
        }
    )
    return case.model_copy(update={"policy": policy})


def _highest(context: Context, product: str, target: str, *, patches: bool) -> Version:
    """The newest version that an approval reaches: the target, or a patch release of it."""
    version = parse_version(target)
    if not patches:
        return version
    among = [parse_version(r.version) for r in context.store.releases.all(product=product)]
    return max([version, *[v for v in among if v > version and _is_patch(version, v)]])


def _is_patch(of: Version, version: Version) -> bool:
    """Whether a version differs from another below the second number only."""
    return jump(of, version) == "patch"


def newer_patches(context: Context, plan: SitePlan) -> list[str]:
    """The targets of which a patch release may be taken in their place, in words. Reads."""
    if not (plan.approval and plan.approval.patches):
        return []
    newest = {p: _highest(context, p, v, patches=True) for p, v in plan.targets.items()}
    return [
        f"{product} {version.text} in the place of {plan.targets[product]}"
        for product, version in newest.items()
        if version > parse_version(plan.targets[product])
    ]
