"""Runs: begun, asked to stop, gone on with, carried out in the background (see runner)."""

from __future__ import annotations

from datetime import timedelta

from windbreak.core.scheduling.openings import openings
from windbreak.core.values.accounts import Principal
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.runs import matters
from windbreak.operations.runs.runner import Runner
from windbreak.operations.scheduling import (
    approving,
    bookings,
    estimates,
    failed_moves,
    freezes,
)
from windbreak.operations.sites import sites, tasks
from windbreak.store.errors import AlreadyThere


def start(
    context: Context,
    plan_id: int,
    by: str,
    *,
    booking: int | None = None,
    although_it_failed: bool = False,
) -> Run:
    """Begin a run of an approved plan; the caller then has it carried out. Writes.

    Raises Refused when the plan is not approved, starts from what is no longer there, or the
    site is not linked, has a run already, or its host bears no more.
    """
    instance.must_drive(context)
    plan = context.store.plans.get(plan_id)
    site = context.store.sites.get(plan.site)
    if plan.state != "approved":
        raise Refused("not-approved", f"plan {plan_id} is {plan.state}; approve it first")
    tasks.busy(context, plan.site)
    sites.agent_for(context, plan.site)  # refuses a site that is not linked
    approving.check_start(context, plan)
    host = context.store.hosts.find(site.host) if site.host else None
    now = context.clock()
    with context.store.transaction():
        # Looked at inside: two starts at one instant would both find room.
        if host is not None and context.store.runs.running_on_host(host.id) >= host.at_once:
            raise Refused("host-busy", f"{host.name} bears {host.at_once} at once; wait for one")
        if context.store.plans.get(plan_id).state != "approved":
            raise Refused("not-approved", f"plan {plan_id} is no longer approved")
        steps, brings = plan.plan.steps, plan.brings
        reckoned = estimates.estimate(context, site, steps, brings)
        try:
            run = context.store.runs.add(
                Run(
                    id=0,
                    plan=plan_id,
                    site=plan.site,
                    state="running",
                    phase="before",
                    step=0,
                    steps=len(plan.plan.steps),
                    text="It begins.",
                    started_at=now,
                    last_sign_at=now,
                    by=by,
                    reckoned=round(reckoned.seconds),
                    outside=_outside(context, site),
                    although=although_it_failed,
                )
            )
        except AlreadyThere:
            raise Refused("site-busy", f"{site.label} has a run already") from None
        if booking is not None:
            context.store.bookings.change(booking, state="started")
        context.record(by, f"run {run.id} of plan {plan_id} begun", plan.site, run=run.id)
    context.tell("run", str(run.id), "begun")
    return run


def begin(
    context: Context,
    plan_id: int,
    by: str,
    *,
    outside_window: bool = False,
    although_it_failed: bool = False,
) -> Run:
    """Begin a run by hand, now; the caller then has it carried out. Writes.

    Raises Refused as ``start`` does, in a freeze, and outside of the windows of its site (or where
    less is left of one than it takes) unless that is meant; and where it makes a move that failed
    elsewhere, unless that is meant.
    """
    plan = context.store.plans.get(plan_id)
    site, now = context.store.sites.get(plan.site), context.clock()
    estimate = estimates.estimate(context, site, plan.plan.steps, plan.brings)
    ends = now + timedelta(minutes=estimate.minutes + estimate.back_minutes)
    freeze = freezes.between(context, site, now, ends)
    if freeze is not None:
        raise Refused(
            "frozen",
            f"{site.label} is to be left alone now: {freeze.reason}. Lift freeze {freeze.id} first",
        )
    if not outside_window and not bookings.fits(site, now, ends):
        text = bookings.outside_text(site, now, ends)
        raise Refused("outside-window", f"{text}. {bookings.HOW_OUTSIDE}")
    why = failed_moves.against_now(context, plan.site, plan.targets)
    if why and not although_it_failed:
        raise Refused(
            "failed-elsewhere",
            f"{why}. Plan the rest without it, or add --although-it-failed to run it here anyway",
        )
    return start(context, plan_id, by, although_it_failed=although_it_failed)


def ask_to_stop(context: Context, run_id: int, by: Principal) -> Run:
    """Ask a run to stop after the step it is at. Writes. Raises Refused when it has ended."""
    run = context.store.runs.get(run_id)
    if run.state != "running":
        raise Refused("ended", f"run {run_id} has ended: {run.state}")
    with context.store.transaction():
        changed = context.store.runs.change(run_id, stop_asked=True)
        context.record(by.name, f"run {run_id}: stop after this step asked", run.site, run=run_id)
    context.tell("run", str(run_id), "asked to stop after this step")
    return changed


def carry_out(context: Context, run_id: int) -> Run:
    """Carry a run out to its end, or take it up where it was. Writes.

    Never raises for what happens on the site: the run's state then says how it ended.
    """
    run = context.store.runs.get(run_id)
    if run.state != "running":
        return run
    return Runner(context, run).go()


def broke(context: Context, run_id: int, error: str) -> Run:
    """A run stopped on a fault of ours: it is a matter, never a silent ``running``. Writes."""
    run = context.store.runs.get(run_id)
    if run.state not in ("running", "waiting"):
        return run
    now = context.clock()
    text = f"It stopped on a fault of the service at “{run.text}”: {error}."
    with context.store.transaction():
        changed = context.store.runs.change(
            run_id, state="alarm", phase="ended", text=text, ended_at=now, broke=True
        )
        matters.open_for(context, changed)
        context.store.plans.change(run.plan, state="failed")
        what = f"run {run_id}: stopped on a fault"
        context.record("Windbreak", what, run.site, result=text, run=run_id)
    context.tell("run", str(run_id), text)
    return changed


def not_known(context: Context) -> None:
    """After a copy, a restored backup or a reader took the sites over: of runs that are under way
    in its books nobody here knows what came of them. They are matters; nothing is applied again.
    Writes.
    """
    for run in context.store.runs.all(state=("running", "waiting")):
        text = "another service may have driven the site since, and what came of it is not known"
        broke(context, run.id, text)
        context.store.runs.change(run.id, broke=False)


def take_up(context: Context, run_id: int) -> Run:
    """Take a run up again that stopped on a fault of ours; the caller has it carried out. Writes.

    Raises Refused when its site has another run now.
    """
    run = context.store.runs.get(run_id)
    with context.store.transaction():
        try:
            changed = context.store.runs.change(
                run_id, state="running", phase="steps", ended_at=None, broke=False
            )
        except AlreadyThere:
            raise Refused("site-busy", f"{run.site} has another run now") from None
        context.store.plans.change(run.plan, state="approved")
    context.tell("run", str(run_id), "taken up again")
    return changed


def _outside(context: Context, site: Site) -> bool:
    """Whether a site has windows, and none is open now."""
    now = context.clock()
    open_ = openings(site.windows, site.timezone, now, now + timedelta(minutes=1))
    return bool(site.windows) and not any(opens <= now < closes for opens, closes in open_)


def go_on(context: Context, run_id: int, by: str) -> Run:
    """Go on with a run that waited for an errand; the caller then has it carried out. Writes.

    Raises Refused when it does not wait, its errand is not done, or its site is busy.
    """
    instance.must_drive(context)
    run = context.store.runs.get(run_id)
    if run.state != "waiting" or run.errand is None:
        raise Refused("does-not-wait", f"run {run_id} waits for nothing: {run.state}")
    errand = context.store.errands.get(run.errand)
    if errand.closed_at is None:
        raise Refused(
            "errand-open", f"errand {errand.id} is not done: {errand.text}. See `windbreak errand`"
        )
    site = context.store.sites.get(run.site)
    with context.store.transaction():
        try:
            changed = context.store.runs.change(
                run_id,
                state="running",
                phase="before",
                errand=None,
                outside=_outside(context, site),
            )
        except AlreadyThere:
            raise Refused("site-busy", f"{site.label} has another run now") from None
        what = f"run {run_id}: gone on with, errand {errand.id} is done"
        context.record(by, what, run.site, run=run_id)
    context.tell("run", str(run_id), "gone on with")
    return changed
