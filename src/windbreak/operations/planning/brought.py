"""What the moves of a plan bring: guards of the run, errands for a person, things to read.

Everything that the crossed releases leave stands beside its step and is approved with it. What the
agent can do is done by the run; what it can't, or what a maker asks of a person, becomes an errand.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from windbreak.core.explanation.passing import Passed, passed
from windbreak.core.values.errands import Brought, BroughtKind
from windbreak.core.values.inventories import Inventory, Limits
from windbreak.core.values.releases import AnnouncedTask, Needs
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.operations.licensing import licence_codes
from windbreak.operations.runs import outcomes

REVIEW_DAYS = 7  # until what a person is to look at is due


# What lies between two versions of a product, once it was looked at.
Crossed = dict[tuple[str, str, str], Passed]


def of_steps(
    context: Context, site_id: str, steps: Sequence[PlannedStep], crossed: Crossed | None = None
) -> tuple[Brought, ...]:
    """What each step brings, in the order of the steps; ``crossed`` where many are looked at.
    Reads.
    """
    site, seen = context.store.sites.get(site_id), {} if crossed is None else crossed
    failed = outcomes.failed(context)
    return tuple(
        brought
        for number, step in enumerate(steps, start=1)
        for move in step.moves
        for brought in _of_move(context, site, number, move, seen, failed)
    )


def _of_move(
    context: Context,
    site: Site,
    number: int,
    move: PlannedMove,
    seen: Crossed,
    failed: Mapping[tuple[str, str], str],
) -> Iterator[Brought]:
    def bring(kind: BroughtKind, text: str, **how: object) -> Brought:
        fields = {"step": number, "product": move.product, "version": move.to, "kind": kind}
        return Brought.model_validate({**fields, "text": text, **how})

    if move.to is None:
        return
    came = failed.get((move.product, move.to))
    if came is not None:
        yield bring("came", came, by="nobody")
    if move.product.startswith("runtime/"):
        if site.host is None or "runtime" not in site.link.agent_can:
            text = f"Ask the host to switch {site.label} to {move.product} {move.to}"
            yield bring("runtime", text, by="person", blocking=True)
        return
    if move.from_ is None:
        return
    key = move.product, move.from_, move.to
    if key not in seen:
        seen[key] = _passed(context, *key)
    crossed = seen[key]
    for change in crossed.changes:
        if change.change.kind == "breaking":
            yield bring("breaking", change.change.text, by="nobody")
    for task in crossed.tasks:
        if task.kind != "register":
            yield bring(task.kind, task.text, **_who(site, task))
    asks = [task for task in crossed.tasks if task.kind == "register"]
    if asks or (crossed.licence is not None and crossed.licence.form == "per-site code"):
        text = asks[0].text if asks else "Enter the site's own code"
        days = crossed.licence.grace_days if crossed.licence else 0
        code = licence_codes.code_for(context, site.id, move.product)
        if code is not None and "register" in site.link.agent_can:
            yield bring("register", text, by="run")
        else:
            yield bring("register", text, by="person", due_days=days or REVIEW_DAYS)


def _who(site: Site, task: AnnouncedTask) -> dict[str, object]:
    """Who does a task, and whether the run waits for it."""
    if task.by == "agent" and task.kind in site.link.agent_can:
        return {"by": "run"}
    if task.kind in ("migrate", "regenerate"):
        return {"by": "person", "blocking": task.kind == "migrate", "due_days": 1}
    return {"by": "person", "due_days": REVIEW_DAYS}


def _passed(context: Context, product: str, start: str, end: str) -> Passed:
    releases = context.store.releases.all(product=product)
    return passed(product, releases, parse_version(start), parse_version(end))


def too_little(context: Context, inventory: Inventory, steps: Sequence[PlannedStep]) -> list[str]:
    """Where a release needs more than the site's runtime allows, as sentences. What the agent does
    not report is not held against it. Reads.
    """
    texts = []
    for step in steps:
        for move in step.moves:
            if move.to is None:
                continue
            release = context.store.releases.find(
                context.store.releases.id_of(move.product, move.to)
            )
            if release is not None:
                lacks = list(_lacking(release.needs, inventory.limits))
                texts += [f"{release.title} needs {lack}" for lack in lacks]
    return texts


def _lacking(needs: Needs, limits: Limits) -> Iterator[str]:
    units = {"memory_mb": "MB of memory", "time_s": "s of time", "upload_mb": "MB for uploads"}
    for name, unit in units.items():
        wanted, have = getattr(needs, name), getattr(limits, name)
        if wanted is not None and have is not None and have < wanted:
            yield f"{wanted} {unit}; the site has {have}"
