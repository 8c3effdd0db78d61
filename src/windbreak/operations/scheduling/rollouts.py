"""Rollouts: approved across sites, in waves, tended as their runs end, stopped, gone on with."""

from __future__ import annotations

import threading
from collections.abc import Collection, Iterable, Mapping
from datetime import datetime
from types import MappingProxyType

from windbreak.core.values.accounts import Principal
from windbreak.core.values.plans import ApprovePlan
from windbreak.core.values.rollouts import (
    UNDER_WAY,
    ApproveRollout,
    LeaveOut,
    Member,
    NewRollout,
    OpenGate,
    Rollout,
    RolloutState,
    StaysOut,
    Word,
)
from windbreak.documents.rollouts import DraftMember, RolloutDraft
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.planning import planning
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.scheduling import approving, drafting, drafts, gates, timetables
from windbreak.operations.sites import tasks, twins
from windbreak.wording.words import counted, listed


def approve(
    context: Context, new: NewRollout, by: Principal, *, follows: int | None = None
) -> Rollout:
    """Let what is asked for go, in waves: what a draft has shown, or else what every site can take
    now. ``follows``: by the word given for that rollout. Writes.

    Raises Refused where no site can, DraftGone, and DraftChanged where it can't go as it was shown.
    """
    instance.must_drive(context)
    _check_day(context, new)
    with _lock(context):
        if isinstance(new, ApproveRollout) and new.draft is not None:
            _check_same(new)
            draft = _without(drafts.to_approve(context, new.draft), new.without)
            words = {name: getattr(new, name) for name in _WORDS}
            asked = draft.asked.model_copy(update=words)
            return _approve(context, asked, draft, drafts.times_of(draft), by, follows)
        asked = NewRollout.model_validate(new.model_dump(include=set(NewRollout.model_fields)))
        draft = drafting.drafted(context, asked).draft
        return _approve(context, asked, draft, {}, by, follows)


# What is said of a draft when it is approved; all else is as it was shown.
_WORDS = ("why", "restore_anyway", "refresh_twins", "patches_until")


def _check_same(new: ApproveRollout) -> None:
    """Raise Refused where something is said beside a draft that the draft says itself."""
    fields = type(new).model_fields.items()
    given = {name for name, field in fields if getattr(new, name) != field.default}
    also = given - {"draft", "without", *_WORDS}
    if also:
        raise Refused(
            "draft-says",
            f"draft {new.draft} says what goes where; leave out {listed(sorted(also))}, or draft "
            "what you want instead",
        )


def _without(draft: RolloutDraft, sites: Collection[str]) -> RolloutDraft:
    """A draft without some of its sites. Raises Refused where one is not in it."""
    strangers = set(sites) - {member.site for member in draft.members}
    if strangers:
        raise Refused("not-in-draft", f"not in draft {draft.id}: {listed(sorted(strangers))}")
    if not sites:
        return draft
    out = [member for member in draft.members if member.site in sites]
    left = StaysOut(
        sites=tuple(member.site for member in out),
        labels=tuple(member.label for member in out),
        state="held",
        text="Left out when this was approved.",
    )
    members = tuple(member for member in draft.members if member.site not in sites)
    return draft.model_copy(update={"members": members, "stays_out": (*draft.stays_out, left)})


def _check_day(context: Context, new: NewRollout) -> None:
    """Raise Refused where patch releases are let go until a day that is past."""
    today = context.clock().date()
    if new.patches_until is not None and new.patches_until < today:
        raise Refused("in-the-past", f"{new.patches_until} is past; today is {today}")


def _lock(context: Context) -> threading.RLock:
    """Held while a rollout is approved or gone on with: two never take the same site, and nobody
    takes what is just being planned for left over.
    """
    return context.cache.kept("rollouts", "", lambda _: threading.RLock())


def _approve(
    context: Context,
    new: NewRollout,
    draft: RolloutDraft,
    times: Mapping[str, tuple[datetime, str]],
    by: Principal,
    follows: int | None,
) -> Rollout:
    if not draft.members:
        raise Refused("nothing-to-do", _why_nobody(draft))
    refreshed = _to_refresh(context, draft) if new.refresh_twins else []
    state: RolloutState = "refreshing" if refreshed else "going"
    with context.store.transaction():
        rollout = context.store.rollouts.add(
            Rollout(
                id=0,
                **dict(new),
                state=state,
                text=_begun_text(context, refreshed),
                made_by=by.name,
                made_at=context.clock(),
                members=tuple(_member(member) for member in draft.members),
                stays_out=draft.stays_out,
                follows=follows,
            )
        )
        what = f"rollout {rollout.id} of {new.what} for {new.where} approved"
        result = f"{counted(len(draft.members), 'site')}, {_out_text(draft)}"
        context.record(by.name, what, new.product or "fleet", why=new.why, result=result)
        if refreshed:
            task = tasks.start(context, "refresh twin", refreshed, by.name)
            rollout = context.store.rollouts.change(rollout.id, task=task.id)
    if not refreshed:
        rollout = _plan(context, rollout, by.name, times)
    context.tell("rollout", str(rollout.id), what)
    return rollout


def _why_nobody(draft: RolloutDraft) -> str:
    reasons = [f"{', '.join(out.labels)}: {out.text.rstrip('.')}" for out in draft.stays_out]
    if draft.before:
        reasons.append(f"{counted(len(draft.before), 'site')} booked before")
    if draft.nothing:
        reasons.append(f"{counted(draft.nothing, 'site')} with nothing to do")
    return f"no site of {draft.where} can take {draft.what} now. {'. '.join(reasons)}"


def _out_text(draft: RolloutDraft) -> str:
    out = sum(len(left.sites) for left in draft.stays_out)
    return f"{counted(out, 'site')} out, {draft.nothing} with nothing to do"


def _begun_text(context: Context, refreshed: Iterable[str]) -> str:
    labels = [context.store.sites.get(twin).label for twin in refreshed]
    if not labels:
        return ""
    return f"Made as their sites are, before they go: {', '.join(labels)}."


def _to_refresh(context: Context, draft: RolloutDraft) -> list[str]:
    """The twins that can be made as their sites are. Reads."""
    sites = []
    for member in draft.members:
        if member.wave != "twin":
            continue
        try:
            twins.check(context, member.site)
            tasks.busy(context, member.site)
        except Refused:
            continue  # it goes as it is
        sites.append(member.site)
    return sites


def _member(member: DraftMember) -> Member:
    return Member(
        site=member.site,
        wave=member.wave,
        targets=member.targets,
        scope=member.scope,
        covers=member.covers,
        urgent=member.urgent,
        turn=member.turn,
    )


def _plan(
    context: Context,
    rollout: Rollout,
    by: str,
    times: Mapping[str, tuple[datetime, str]] = MappingProxyType({}),
) -> Rollout:
    """Plan, approve and book every member that has no plan yet, at its time where one was shown.
    Writes. One that can't be approved is left out, and says why; so is a site whose twin is.
    """
    ground = Ground.read(context)
    who = Principal(account="windbreak", name=by, via="service")
    members: dict[str, Member] = {}
    # Plans are numbered in the order of sites, as their jobs were when it was drafted.
    for member in sorted(rollout.members, key=lambda member: member.site):
        if member.plan is None and not member.out:
            member = _planned(context, rollout, member, ground, who)
        members[member.site] = member
    members = {member.site: members[member.site] for member in rollout.members}
    for member in list(members.values()):
        site = context.store.sites.get(member.site).twin_of
        if member.out and member.wave == "twin" and site in members:
            planned = members[site]
            if planned.plan is not None and not planned.out:
                context.store.plans.change(planned.plan, state="replaced", to_book=False)
                why = f"its twin can’t go first: {member.out}"
                members[site] = planned.model_copy(update={"plan": None, "out": why})
    planned_rollout = rollout.model_copy(update={"members": tuple(members.values())})
    if not planned_rollout.going:
        reasons = "; ".join(dict.fromkeys(member.out for member in planned_rollout.members))
        raise Refused("nothing-to-do", f"no site could be approved: {reasons}")
    going = {m.plan: m.site for m in planned_rollout.going if m.plan is not None}

    def change() -> None:
        context.store.rollouts.change(rollout.id, members=planned_rollout.members)
        for plan in going:
            context.store.plans.change(plan, to_book=True)

    shown = {plan: times[site] for plan, site in going.items() if site in times}
    cause = f"rollout {rollout.id}"
    if shown:
        timetables.take(context, shown, by, cause, change)
    else:
        timetables.keep(context, by, cause, change=change)
    return context.store.rollouts.get(rollout.id)


def _planned(
    context: Context, rollout: Rollout, member: Member, ground: Ground, by: Principal
) -> Member:
    words = ApprovePlan(
        why=rollout.why or f"rollout {rollout.id}: {rollout.what}",
        restore_anyway=rollout.restore_anyway,
        patches_until=rollout.patches_until,
    )
    for approved in context.store.plans.all(site=member.site, state="approved"):
        if approved.rollout == rollout.id:  # it was approved before the service ended
            return member.model_copy(update={"plan": approved.id, "targets": approved.targets})
    only = None if member.scope is None else frozenset(member.scope)
    try:
        plan = planning.draft(context, member.site, only=only, ground=ground)
        approving.approve(context, plan.id, words, by, rollout=rollout.id)
    except OperationError as error:
        return member.model_copy(update={"out": str(error)})
    return member.model_copy(update={"plan": plan.id, "targets": plan.targets})


# As it goes.


def tend(context: Context) -> None:
    """Move each rollout on by what has happened since. Writes. What a service that ended in the
    middle had not planned yet is planned now.
    """
    lock = _lock(context)
    if not lock.acquire(blocking=False):
        return  # one is just being approved; its end is news by itself
    try:
        for rollout in gates.under_way(context):
            if rollout.state == "refreshing":
                _tend_refreshing(context, rollout)
            elif any(member.plan is None for member in rollout.going):
                _plan_the_rest(context, rollout)
            else:
                _tend_going(context, rollout)
    finally:
        lock.release()


def _plan_the_rest(context: Context, rollout: Rollout) -> None:
    try:
        _plan(context, rollout, rollout.made_by)
    except OperationError as error:
        _end(context, rollout, "stopped", str(error))


def _tend_refreshing(context: Context, rollout: Rollout) -> None:
    """Once the twins are as their sites are, all plans are made. Writes."""
    task = context.store.tasks.get(rollout.task or 0)
    if task.state == "running":
        return
    if task.state == "failed":
        _end(context, rollout, "stopped", f"A twin could not be refreshed: {task.text}")
        return
    try:
        _set_going(context, rollout, [member.site for member in rollout.going])
    except OperationError as error:
        _end(context, rollout, "stopped", str(error))


def _set_going(context: Context, rollout: Rollout, sites: Iterable[str]) -> Rollout:
    """Plan some members anew, as what is asked for is now, and book them. Writes."""
    named = rollout.model_copy(update={"sites": tuple(sites), "client": None, "tag": None})
    new = NewRollout.model_validate(named.model_dump(include=set(NewRollout.model_fields)))
    draft = drafting.drafted(context, new, but=rollout.id).draft
    drafted = {member.site: member for member in draft.members}
    members = []
    for member in rollout.members:
        if member.site not in named.sites:
            members.append(member)
        elif member.site in drafted:
            fresh = _member(drafted[member.site])
            as_it_was = {"wave": member.wave, "covers": member.covers, "turn": member.turn}
            members.append(fresh.model_copy(update=as_it_was))
        else:
            members.append(
                member.model_copy(update={"plan": None, "out": "nothing is to do there"})
            )
    changed = context.store.rollouts.change(
        rollout.id, members=tuple(members), state="going", text=""
    )
    return _plan(context, changed, rollout.made_by)


def _tend_going(context: Context, rollout: Rollout) -> None:
    members = tuple(_as_it_stands(context, rollout, member) for member in rollout.members)
    if members != rollout.members:
        rollout = context.store.rollouts.change(rollout.id, members=members)
        context.tell("rollout", str(rollout.id), "its sites changed")
    runs = {member.site: gates.run_of(context, member) for member in rollout.going}
    if all(run is not None and run.ended_at is not None for run in runs.values()):
        badly = [run for run in runs.values() if run is not None and run.state != "done"]
        done = len(runs) - len(badly)
        if not runs:
            _end(context, rollout, "stopped", "No site is left in it.")
        elif not badly:
            _end(context, rollout, "ended well", f"All done: {counted(done, 'site')}.")
        else:
            labels = [context.store.sites.get(run.site).label for run in badly]
            text = f"{counted(done, 'site')} done; not so {', '.join(labels)}."
            _end(context, rollout, "ended in part", text)


def _as_it_stands(context: Context, rollout: Rollout, member: Member) -> Member:
    """A member with the plan it has now: it may have been planned anew, or taken out."""
    if member.out or member.plan is None or gates.run_of(context, member) is not None:
        return member
    plan = context.store.plans.standing([member.plan])[member.plan]
    if plan.state == "approved":
        if context.store.bookings.count(plan=member.plan, state="waiting"):
            return member
        approved = context.store.plans.get(member.plan)
        return (
            member if approved.to_book else member.model_copy(update={"out": "taken out by hand"})
        )
    for other in context.store.plans.all(site=member.site, state="approved"):
        if other.rollout == rollout.id:
            return member.model_copy(update={"plan": other.id, "targets": other.targets})
    return member.model_copy(update={"out": "its plan was replaced by another"})


def stop(context: Context, rollout_id: int, why: str, by: Principal) -> Rollout:
    """Stop a rollout: what runs goes on to its end, what is booked is taken out. Writes. Raises
    Refused when it has ended.
    """
    rollout = _open(context, rollout_id)
    with context.store.transaction():
        for member in rollout.going:
            if gates.run_of(context, member) is None:
                _let_lapse(context, member)
        return _end(context, rollout, "stopped", f"Stopped by {by.name}.", by=by.name, why=why)


def go_on(context: Context, rollout_id: int, why: str, by: Principal) -> Rollout:
    """Go on with a rollout that was stopped: what has not run is planned and booked anew. Writes.
    Raises Refused when it was not stopped.
    """
    with _lock(context):
        rollout = context.store.rollouts.get(rollout_id)
        if rollout.state != "stopped":
            raise Refused("not-stopped", f"rollout {rollout_id} was not stopped: {rollout.state}")
        left = [m.site for m in rollout.going if gates.run_of(context, m) is None]
        if not left:
            raise Refused("nothing-to-do", "every site of it has run, or was left out")
        changed = _set_going(context, rollout, left)
    context.record(by.name, f"rollout {rollout_id} goes on", rollout.product or "fleet", why=why)
    context.tell("rollout", str(rollout_id), "it goes on")
    return changed


def leave_out(context: Context, rollout_id: int, how: LeaveOut, by: Principal) -> Rollout:
    """Go on without a site: its booking is taken out. Writes. Raises Refused when it is not in it,
    or has begun.
    """
    rollout = _open(context, rollout_id)
    member = next((m for m in rollout.going if m.site == how.site), None)
    label = context.store.sites.get(how.site).label
    if member is None:
        raise Refused("not-in-it", f"{label} is not in rollout {rollout_id}")
    run = gates.run_of(context, member)
    if run is not None and run.ended_at is None:
        raise Refused("begun", f"run {run.id} is under way on {label}; stop that")
    out = how.why or f"left out by {by.name}"
    members = [
        other.model_copy(update={"out": out}) if other.site == how.site else other
        for other in rollout.members
    ]
    with context.store.transaction():
        if run is None:
            _let_lapse(context, member)
        changed = context.store.rollouts.change(rollout_id, members=tuple(members))
        what = f"rollout {rollout_id}: {label} left out"
        context.record(by.name, what, how.site, why=how.why)
    context.tell("rollout", str(rollout_id), what)
    return changed


def open_gate(context: Context, rollout_id: int, how: OpenGate, by: Principal) -> Rollout:
    """Let a gate open though a run before it did not end well. Writes. Raises Refused where it
    waits for nobody's word.
    """
    rollout = _open(context, rollout_id)
    every = {gate.id: gate for gate in gates.of_rollout(context, rollout)}
    if how.gate not in every:
        raise Refused(
            "no-gate", f"rollout {rollout_id} has these gates: {', '.join(every) or 'none'}"
        )
    standing = gates.standing(context, every[how.gate])
    if not standing.wants_a_word:
        raise Refused("no-word-wanted", f"{gates.name(context, every[how.gate])} wants no word")
    word = Word(gate=how.gate, by=by.name, at=context.clock(), why=how.why)
    with context.store.transaction():
        changed = context.store.rollouts.change(rollout_id, words=(*rollout.words, word))
        what = f"rollout {rollout_id}: {gates.name(context, every[how.gate])} opened"
        context.record(by.name, what, rollout.product or "fleet", why=how.why)
    context.tell("rollout", str(rollout_id), what)
    return changed


def _open(context: Context, rollout_id: int) -> Rollout:
    rollout = context.store.rollouts.get(rollout_id)
    if rollout.state not in UNDER_WAY:
        raise Refused("ended", f"rollout {rollout_id} has {rollout.state}")
    return rollout


def _let_lapse(context: Context, member: Member) -> None:
    """Take a member's booking out, and its plan's approval with it. Writes."""
    if member.plan is None:
        return
    for booking in context.store.bookings.all(plan=member.plan, state="waiting"):
        context.store.bookings.change(booking.id, state="withdrawn")
    context.store.plans.change(member.plan, state="replaced", to_book=False)


def _end(
    context: Context,
    rollout: Rollout,
    state: RolloutState,
    text: str,
    *,
    by: str = "Windbreak",
    why: str = "",
) -> Rollout:
    with context.store.transaction():
        changed = context.store.rollouts.change(rollout.id, state=state, text=text)
        what = f"rollout {rollout.id} of {rollout.what} {state}"
        context.record(by, what, rollout.product or "fleet", why=why, result=text)
    context.tell("rollout", str(rollout.id), what)
    return changed
