"""Plans approved and booked; a release taken across a twin and its site."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from windbreak.core.values.accounts import Principal
from windbreak.core.values.bookings import Book, BookedAll, Booking, LeftOut, NewRollout, Rollout
from windbreak.core.values.freezes import Frozen, NewFreeze, SiteFreeze
from windbreak.core.values.plans import Approval, ApprovePlan, SitePlan
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.feeds.errors import FeedError
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.planning import brought, planning
from windbreak.operations.runs import own_files
from windbreak.operations.scheduling import freezes, nights
from windbreak.operations.sites import sites, tasks, twins
from windbreak.operations.tracking import shelving
from windbreak.packages.errors import PackageRefused
from windbreak.wording.words import counted

MISSED_AFTER = timedelta(hours=4)
ENDED = ("ended well", "stopped")
UNDER_WAY = ("refreshing", "rehearsing", "quiet", "going")


def approve(context: Context, plan: int, said: ApprovePlan, by: Principal) -> SitePlan:
    """Let a plan go: exactly its targets. Writes.

    Raises Refused when it is no draft, moves nothing, or starts from what is no longer there.
    """
    known = context.store.plans.get(plan)
    site = context.store.sites.get(known.site)
    if known.state != "draft":
        raise Refused("not-a-draft", f"plan {plan} is {known.state}; draft a new one")
    if not known.plan.steps:
        raise Refused("nothing-to-do", f"plan {plan} moves nothing on {site.label}")
    check_start(context, known)
    if context.store.agents.key(known.site) is not None and instance.may_drive(context):
        agent = sites.agent_for(context, known.site)
        own_files.check_if_it_answers(context, agent, known, said.changed_files)
    _check_limits(context, known)
    if said.fetch:
        _fetch_packages(context, known)
    approval = Approval(
        by=by.name,
        at=context.clock(),
        why=said.why,
        restore_anyway=said.restore_anyway,
        changed_files=said.changed_files,
        patches=said.patches,
    )
    drawn = tuple(planning.drawn(context, known))
    with context.store.transaction():
        for other in context.store.plans.all(site=known.site):
            if other.state == "approved":
                context.store.plans.change(other.id, state="replaced")
        changed = context.store.plans.change(
            plan, state="approved", approval=approval, charts=drawn
        )
        what = f"plan {plan} for {site.label} approved"
        steps, products = len(known.plan.steps), len(known.targets)
        result = f"{counted(steps, 'step')}, {counted(products, 'product')}"
        context.record(by.name, what, known.site, why=said.why, result=result)
    context.tell("plan", known.site, what)
    return changed


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
        if move.product.startswith("runtime/"):
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


def book(context: Context, plan: int, when: Book, by: Principal) -> Booking:
    """Book an approved plan: at an instant, or where the timetable has a place for it. Writes.

    Raises Refused when it is not approved, is booked already, or has no place.
    """
    instance.must_drive(context)
    return _book(context, plan, when.at, by.name)


def freeze(context: Context, new: NewFreeze, by: Principal) -> Frozen:
    """Leave sites alone for a while, and book around it: both or neither. Writes. Raises NotFound,
    Refused.
    """
    with context.store.transaction():
        return _go_around(context, freezes.add(context, new, by), by)


def _go_around(context: Context, freeze: SiteFreeze, by: Principal) -> Frozen:
    """Book anew what a freeze meets; all other bookings stay where they are. A time that a person
    gave is no exception. What has no other place is withdrawn, and says so. Writes.
    """
    met = [b for b in context.store.bookings.all(state="waiting") if _is_met(context, b)]
    places = nights.arranged(
        context, {booking.plan: None for booking in met}, [booking.id for booking in met]
    )
    moved, out = [], []
    with context.store.transaction():
        for booking in met:
            site, place = context.store.sites.get(booking.site), places[booking.plan]
            was, reason = _when(booking, site), f"moved around a freeze: {freeze.reason}"
            context.store.bookings.change(booking.id, state="withdrawn")
            if place.start is None:
                out.append(f"{site.label}: {place.text}")
                what = f"booking {booking.id} withdrawn"
                context.record(by.name, what, booking.site, why=reason, result=place.text)
                continue
            plan = context.store.plans.get(booking.plan)
            why = f"{place.text} It was {was}, {reason}."
            anew = _write(context, plan, place.start, why, by.name, rollout=booking.rollout)
            moved.append(f"{site.label}: {was} to {_when(anew, site)}")
    return Frozen(freeze=freeze, moved=tuple(moved), out=tuple(out))


def _is_met(context: Context, booking: Booking) -> bool:
    """Whether a freeze meets a booking."""
    site, plan = context.store.sites.get(booking.site), context.store.plans.get(booking.plan)
    ends = booking.starts_at + timedelta(minutes=nights.minutes_of(plan) + nights.BACK)
    return freezes.between(context, site, booking.starts_at, ends) is not None


def book_all(context: Context, by: Principal) -> BookedAll:
    """Book every approved plan that waits for nothing else, by one timetable. Writes."""
    instance.must_drive(context)
    booked = {b.plan for b in context.store.bookings.all(state="waiting")}
    plans = [p for p in context.store.plans.all(state="approved") if p.id not in booked]
    running = {run.plan for run in context.store.runs.all(state="running")}
    running |= {run.plan for run in context.store.runs.all(state="waiting")}
    plans = [plan for plan in plans if plan.id not in running]
    places = nights.arranged(context, {plan.id: None for plan in plans})
    bookings, left = [], []
    with context.store.transaction():
        for plan in plans:
            place = places[plan.id]
            if place.start is None:
                left.append(LeftOut(plan=plan.id, site=plan.site, text=place.text))
            else:
                bookings.append(_write(context, plan, place.start, place.text, by.name))
    bookings.sort(key=lambda booking: (booking.starts_at, booking.id))
    return BookedAll(bookings=tuple(bookings), left_out=tuple(left))


def _book(
    context: Context,
    plan: int,
    at: datetime | None,
    by: str,
    *,
    after: datetime | None = None,
    rollout: int | None = None,
) -> Booking:
    known = context.store.plans.get(plan)
    site = context.store.sites.get(known.site)
    if known.state != "approved":
        raise Refused("not-approved", f"plan {plan} is {known.state}; approve it first")
    for other in context.store.bookings.all(site=known.site, state="waiting"):
        if other.plan == plan:
            raise Refused("booked-already", f"plan {plan} is booked for {_when(other, site)}")
    starts, why = _start(context, site, known, at, after)
    return _write(context, known, starts, why, by, rollout=rollout, pinned=at is not None)


def _write(
    context: Context,
    plan: SitePlan,
    starts: datetime,
    why: str,
    by: str,
    *,
    rollout: int | None = None,
    pinned: bool = False,
) -> Booking:
    site = context.store.sites.get(plan.site)
    with context.store.transaction():
        booking = context.store.bookings.add(
            Booking(
                id=0,
                plan=plan.id,
                site=plan.site,
                starts_at=starts,
                why=why,
                rollout=rollout,
                made_by=by,
                pinned=pinned,
            )
        )
        what = f"plan {plan.id} for {site.label} booked"
        context.record(by, what, plan.site, why=why, result=_when(booking, site))
    context.tell("booking", plan.site, what)
    return booking


def _start(
    context: Context,
    site: Site,
    plan: SitePlan,
    at: datetime | None,
    after: datetime | None,
) -> tuple[datetime, str]:
    now = context.clock()
    if at is not None:
        if at.tzinfo is None:
            raise Refused("no-time-zone", "say the time with its zone, as 2026-11-24T01:10:00Z")
        if at < now - timedelta(minutes=1):
            raise Refused("in-the-past", f"{at:%Y-%m-%d %H:%M %Z} has passed")
        return at, "The time was given by hand."
    place = nights.arranged(context, {plan.id: after})[plan.id]
    if place.start is None:
        raise Refused("no-window", f"{site.label}: {place.text}")
    if after is not None and after > now:
        zone = ZoneInfo(site.timezone)
        return place.start, f"The quiet time ends {after.astimezone(zone):%a %H:%M}. {place.text}"
    return place.start, place.text


def _when(booking: Booking, site: Site) -> str:
    return f"{booking.starts_at.astimezone(ZoneInfo(site.timezone)):%a %d %b, %H:%M}"


def withdraw(context: Context, booking: int, by: Principal) -> Booking:
    """Take a booking back. Writes. Raises Refused when it is no longer waiting."""
    known = context.store.bookings.get(booking)
    if known.state != "waiting":
        raise Refused("not-waiting", f"booking {booking} is {known.state}")
    with context.store.transaction():
        changed = context.store.bookings.change(booking, state="withdrawn")
        context.record(by.name, f"booking {booking} withdrawn", known.site)
    context.tell("booking", known.site, "withdrawn")
    return changed


def move(context: Context, booking: int, at: datetime, by: Principal) -> Booking:
    """Give a waiting booking another time. Writes. Raises Refused when it is not waiting."""
    known = context.store.bookings.get(booking)
    if known.state != "waiting":
        raise Refused("not-waiting", f"booking {booking} is {known.state}")
    site, plan = context.store.sites.get(known.site), context.store.plans.get(known.plan)
    starts, why = _start(context, site, plan, at, None)
    with context.store.transaction():
        changed = context.store.bookings.change(booking, starts_at=starts, why=why, pinned=True)
        what = f"booking {booking} moved"
        context.record(by.name, what, known.site, why=why, result=_when(changed, site))
    context.tell("booking", known.site, what)
    return changed


def next_due(context: Context) -> datetime | None:
    """When the next booking is due; None where none waits. Reads."""
    waiting = context.store.bookings.all(state="waiting")
    return min([booking.starts_at for booking in waiting], default=None)


def due(context: Context) -> list[Booking]:
    """The bookings whose time has come; those long past are marked as missed. Writes."""
    now = context.clock()
    found = []
    for booking in context.store.bookings.all(state="waiting"):
        if booking.starts_at + MISSED_AFTER < now:
            context.store.bookings.change(booking.id, state="missed")
            context.record(
                "Windbreak",
                f"booking {booking.id} missed",
                booking.site,
                why="the service was not running, or the site was busy, for four hours",
            )
            context.tell("booking", booking.site, "missed")
        elif booking.starts_at <= now:
            found.append(booking)
    return found


def startable(context: Context) -> Iterator[Booking]:
    """The bookings whose time has come and whose host bears one more now; those before it in this
    round are counted by whoever begins them. Writes what was missed.
    """
    full: set[str] = set()
    for booking in due(context):
        site = context.store.sites.get(booking.site)
        host = context.store.hosts.find(site.host) if site.host and site.host not in full else None
        if host is not None and context.store.runs.running_on_host(host.id) >= host.at_once:
            full.add(host.id)
        if site.host not in full:
            yield booking


def start_rollout(context: Context, new: NewRollout, by: Principal) -> Rollout:
    """Take one release to a twin, and to its site when that ended well. Writes.

    Raises Refused when the site has no twin, or either can't take the release now.
    """
    site = context.store.sites.get(new.site)
    twins = context.store.sites.all(twin_of=new.site)
    if not twins:
        raise Refused("no-twin", f"{site.label} has no twin to go first")
    twin = twins[0]
    for other in context.store.rollouts.all(state=UNDER_WAY, site=new.site):
        if other.product == new.product:
            raise Refused(
                "rollout-under-way",
                f"rollout {other.id} takes {other.product} {other.version} to {site.label} "
                "already; stop it first",
            )
    # Both must be able to take it today; the site is looked at again when its time comes.
    planning.draft_for(context, new.site, new.product, new.version)
    plan = planning.draft_for(context, twin.id, new.product, new.version)
    stale = _not_refreshed(context, twin.id) if new.refresh_twin else "it goes as it is"
    with context.store.transaction():
        rollout = context.store.rollouts.add(
            Rollout(
                id=0,
                **dict(new),
                twin=twin.id,
                state="rehearsing" if stale else "refreshing",
                text=f"{twin.label} goes first{f': {stale}' if stale else ''}.",
                made_by=by.name,
                made_at=context.clock(),
            )
        )
        what = f"rollout of {new.product} {new.version} to {site.label} approved"
        context.record(by.name, what, new.site, why=new.why)
        if stale:
            _rehearse(context, rollout, plan.id, by)
        else:
            task = tasks.start(context, "refresh twin", [twin.id], by.name)
            text = f"{twin.label} is made as {site.label} is now; then it goes first."
            rollout = context.store.rollouts.change(rollout.id, task=task.id, text=text)
    context.tell("rollout", new.site, what)
    return rollout


def _not_refreshed(context: Context, twin: str) -> str:
    """Why a twin can't be made as its site is before it goes; "" where it can. Reads."""
    try:
        twins.check(context, twin)
    except Refused as error:
        return f"it was not refreshed ({error})"
    return ""


def _rehearse(context: Context, rollout: Rollout, plan: int, by: Principal) -> None:
    said = ApprovePlan(why=rollout.why or f"rollout {rollout.id}")
    approve(context, plan, said, by)
    _book(context, plan, None, by.name, rollout=rollout.id)


def stop_rollout(context: Context, rollout: int, by: Principal) -> Rollout:
    """Stop a rollout; what runs goes on to its end, what is booked is withdrawn. Writes."""
    known = context.store.rollouts.get(rollout)
    if known.state in ENDED:
        raise Refused("ended", f"rollout {rollout} has {known.state}")
    for booking in context.store.bookings.all(state="waiting"):
        if booking.rollout == rollout:
            withdraw(context, booking.id, by)
    return _end(context, known, "stopped", f"Stopped by {by.name}.")


def tend_rollouts(context: Context) -> None:
    """Move each rollout on by what has happened since. Writes."""
    for rollout in context.store.rollouts.all(state=UNDER_WAY):
        _tend(context, rollout)


def _tend(context: Context, rollout: Rollout) -> None:
    now = context.clock()
    if rollout.state == "refreshing":
        _tend_refreshing(context, rollout)
    elif rollout.state == "rehearsing":
        run = _run_of(context, rollout, rollout.twin)
        if run is None or run.ended_at is None:
            _end_where_nothing_comes(context, rollout, rollout.twin)
            return
        if run.state != "done":
            _end(context, rollout, "stopped", f"The twin's run ended {run.state}: {run.text}")
            return
        quiet = run.ended_at + timedelta(minutes=rollout.quiet_minutes)
        _turn(
            context,
            rollout,
            state="quiet",
            twin_run=run.id,
            quiet_until=quiet,
            text="The twin's run ended well; its quiet time runs.",
        )
    elif rollout.state == "quiet" and rollout.quiet_until and rollout.quiet_until <= now:
        try:
            plan = planning.draft_for(context, rollout.site, rollout.product, rollout.version)
            by = Principal(account="windbreak", name=rollout.made_by, via="service")
            why = f"rollout {rollout.id}: the twin's run {rollout.twin_run} ended well"
            approve(context, plan.id, ApprovePlan(why=why), by)
            _book(context, plan.id, None, rollout.made_by, rollout=rollout.id)
        except Refused as error:
            _end(context, rollout, "stopped", str(error))
            return
        _turn(context, rollout, state="going", text="The quiet time is over; the site is booked.")
    elif rollout.state == "going":
        run = _run_of(context, rollout, rollout.site)
        if run is None or run.ended_at is None:
            _end_where_nothing_comes(context, rollout, rollout.site)
            return
        context.store.rollouts.change(rollout.id, site_run=run.id)
        if run.state == "done":
            _end(context, rollout, "ended well", "Twin and site have it.")
        else:
            _end(context, rollout, "stopped", f"The site's run ended {run.state}: {run.text}")


def _tend_refreshing(context: Context, rollout: Rollout) -> None:
    """Once the twin is as its site is, its plan is made from that. Writes."""
    task = context.store.tasks.get(rollout.task or 0)
    if task.state == "running":
        return
    if task.state == "failed":
        _end(context, rollout, "stopped", f"The twin could not be refreshed: {task.text}")
        return
    by = Principal(account="windbreak", name=rollout.made_by, via="service")
    try:
        plan = planning.draft_for(context, rollout.twin, rollout.product, rollout.version)
        _rehearse(context, rollout, plan.id, by)
    except Refused as error:
        _end(context, rollout, "stopped", str(error))
        return
    label = context.store.sites.get(rollout.twin).label
    _turn(context, rollout, state="rehearsing", text=f"{label} is as its site is, and goes first.")


def _end_where_nothing_comes(context: Context, rollout: Rollout, site: str) -> None:
    """End a rollout of which nothing is booked and nothing runs any more. Writes."""
    booked = context.store.bookings.all(rollout=rollout.id, site=site)
    coming = any(b.state == "waiting" for b in booked)
    plans = {b.plan for b in booked}
    going = any(r.plan in plans for r in context.store.runs.all(site=site, state="running"))
    last = booked[-1] if booked else None
    # A plan approved and not booked again waits for nobody: what was withdrawn ends it.
    if not coming and not going and (last is None or last.state in ("withdrawn", "missed")):
        label = context.store.sites.get(site).label
        how = f"was {last.state}" if last else "is gone"
        _end(context, rollout, "stopped", f"The booking of {label} {how}, and nothing follows it.")


def _run_of(context: Context, rollout: Rollout, site: str) -> Run | None:
    plans = {b.plan for b in context.store.bookings.all(site=site) if b.rollout == rollout.id}
    runs = [r for r in context.store.runs.all(site=site) if r.plan in plans]
    return runs[-1] if runs else None


def _turn(context: Context, rollout: Rollout, **fields: object) -> Rollout:
    changed = context.store.rollouts.change(rollout.id, **fields)
    context.tell("rollout", rollout.site, changed.text)
    return changed


def _end(context: Context, rollout: Rollout, state: str, text: str) -> Rollout:
    changed = _turn(context, rollout, state=state, text=text)
    what = f"rollout {rollout.id} of {rollout.product} {rollout.version} {state}"
    context.record("Windbreak", what, rollout.site, result=text)
    return changed
