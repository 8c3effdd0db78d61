"""Matters: a run that ended badly stays open until a person closes it, by one of the ways out.

Each way says first what it will do and what is lost. It is written down before it is begun, carried
out by the driver, and taken up again after a crash. What can't be taken now is told with why.
"""

from __future__ import annotations

from windbreak.core.values.accounts import Principal
from windbreak.core.values.matters import Doing, Matter, TakeWayOut
from windbreak.core.values.runs import Run
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused


def open_for(context: Context, run: Run) -> Matter:
    """Open the matter of a run that ended badly. Writes."""
    return context.store.matters.put(
        Matter(id=run.id, site=run.site, text=run.text, opened_at=context.clock())
    )


def settle(context: Context, run: Run) -> None:
    """A run that ended well closes what an earlier run of its plan, or it itself, left. Writes."""
    for matter in context.store.matters.all(site=run.site, open=True):
        if matter.id == run.id or context.store.runs.get(matter.id).plan == run.plan:
            told = f"Run {run.id} of the same plan ended well."
            context.store.matters.change(
                matter.id,
                closed_at=context.clock(),
                closed_by=run.by,
                how="try-again",
                why=told,
                told=told,
            )
            what = f"matter {matter.id}: try-again, closed"
            context.record(run.by, what, run.site, result=told, run=run.id)


def listed(context: Context, *, every: bool = False) -> list[Matter]:
    """The open matters, or all, newest first. Reads."""
    return context.store.matters.all(newest_first=True, **({} if every else {"open": True}))


def take(context: Context, matter_id: int, how: TakeWayOut, by: Principal) -> Matter:
    """Write down that a way out is to be taken; the caller has it carried out. Writes.

    Raises Refused where the matter is closed, or another way is being taken.
    """
    matter = context.store.matters.get(matter_id)
    if matter.closed_at is not None:
        raise Refused("matter-closed", f"matter {matter_id} was closed: {matter.how}")
    if matter.doing is not None:
        raise Refused("matter-busy", f"{matter.doing.act} is being done by {matter.doing.by}")
    for run in context.store.runs.all(site=matter.site, state="running"):
        raise Refused("site-busy", f"run {run.id} is under way on {matter.site}")
    doing = Doing(act=how.act, by=by.name, why=how.why, at=context.clock())
    with context.store.transaction():
        changed = context.store.matters.change(matter_id, doing=doing, taken=matter.taken + 1)
        what = f"matter {matter_id}: {how.act} begun"
        context.record(by.name, what, matter.site, why=how.why, run=matter_id)
    return changed
