"""Tasks of sites: many refreshed at once, twins refreshed, backups proved, keys turned.

A task is written down before it is begun, says how far it has come, and is taken up again after a
restart with the sites it had not come to.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator, Sequence

from windbreak.core.values.tasks import Subject, Task, TaskKind
from windbreak.links.errors import LinkError
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.sites import keys, sites, twins
from windbreak.wording.tasks import ended_text

log = logging.getLogger("windbreak.tasks")

_EXCLUSIVE: tuple[TaskKind, ...] = ("refresh twin", "prove backup")


def start(context: Context, kind: TaskKind, asked: Sequence[str], by: str) -> Task:
    """Write a task down; the caller then has it carried out. Writes. Raises Refused where its sites
    can't have it now.
    """
    instance.must_drive(context)
    for site in asked:
        context.store.sites.get(site)
        if kind in _EXCLUSIVE:
            twins.check(context, site)
            busy(context, site)
    if kind == "rotate keys":
        keys.begin(context)
    if not asked:
        asked = [s.id for s in sites.live(context) if context.store.agents.key(s.id) is not None]
    with context.store.transaction():
        task = context.store.tasks.add(
            Task(id=0, kind=kind, sites=tuple(asked), by=by, made_at=context.clock())
        )
        if kind != "refresh":
            for site in asked if kind in _EXCLUSIVE else ("instance",):
                context.record(by, f"task {task.id} begun: {kind}", site)
    context.tell("task", str(task.id), f"{kind}: begun")
    return task


def busy(context: Context, site: str) -> None:
    """Raise Refused while a task has a site, or its twin, for itself. Reads."""
    for task in context.store.tasks.all(state="running"):
        if task.kind not in _EXCLUSIVE:
            continue
        for site_id in task.sites:
            taken = context.store.sites.get(site_id)
            if site in (site_id, taken.twin_of):
                raise Refused("site-busy", f"task {task.id} ({task.kind}) has {taken.label}")


def carry_out(context: Context, task_id: int) -> Task:
    """Carry a task out to its end, or take it up where it was. Writes.

    Never raises for what happens at a site: the task then says so.
    """
    task = context.store.tasks.get(task_id)
    left = [site for site in task.sites if site not in {s.site for s in task.ended}]
    try:
        for subject in _work(context, task, left):
            ended = (*context.store.tasks.get(task_id).ended, subject)
            context.store.tasks.change(task_id, ended=ended)
            context.tell("task", str(task_id), f"{len(ended)} of {len(task.sites)}")
    except (LinkError, OperationError) as error:
        return _end(context, task_id, str(error), well=False)
    ended = context.store.tasks.get(task_id).ended
    amiss = [subject for subject in ended if not subject.well]
    labels = [context.store.sites.get(subject.site).label for subject in amiss]
    text = ended_text(task.kind, len(ended), labels)
    if task.kind in _EXCLUSIVE and ended:
        text = "; ".join(subject.text for subject in ended)
    return _end(context, task_id, text, well=task.kind not in _EXCLUSIVE or not amiss)


def broke(context: Context, task: int, fault: str) -> Task:
    """A task stopped on a fault of this service: it has failed, and keeps nobody off. Writes."""
    return _end(context, task, f"It stopped on a fault of this service: {fault}.", well=False)


def _end(context: Context, task: int, text: str, *, well: bool) -> Task:
    state = "done" if well else "failed"
    changed = context.store.tasks.change(
        task, state=state, text=text, phase="", ended_at=context.clock()
    )
    if changed.kind in _EXCLUSIVE and not well:
        context.record(
            "Windbreak", f"task {task}: {changed.kind} failed", changed.sites[0], result=text
        )
    context.tell("task", str(task), text)
    return changed


def _work(context: Context, task: Task, left: Sequence[str]) -> Iterator[Subject]:
    def tell(phase: str) -> None:
        context.store.tasks.change(task.id, phase=phase)
        context.tell("task", str(task.id), phase)

    match task.kind:
        case "refresh":
            there = [context.store.sites.get(site) for site in left]
            for site in sites.refresh_many(context, there):
                yield Subject(site=site.id, text=site.link.reason, well=site.link.state == "linked")
        case "rotate keys":
            for site_id in left:
                yield keys.turn(context, site_id)
        case "refresh twin" | "prove backup":
            work: Callable[[Context, str, twins.Tell], Subject]
            work = twins.refresh if task.kind == "refresh twin" else twins.prove
            for twin in left:
                yield work(context, twin, tell)
