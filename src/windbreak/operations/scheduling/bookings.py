"""Bookings: made, given another time, taken back, and begun when their time has come."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, timedelta
from functools import partial
from typing import Any

from windbreak.core.scheduling.openings import openings, without
from windbreak.core.values.accounts import Principal
from windbreak.core.values.bookings import Book, BookedAll, Booking, LeftOut
from windbreak.core.values.freezes import Frozen, NewFreeze, SiteFreeze
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.sites import Site
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.scheduling import freezes, gates, nights, timetables
from windbreak.operations.scheduling.nights import LiveBook
from windbreak.operations.scheduling.timetables import when
from windbreak.wording.words import first_up

# How long after its time a booking may begin that a person gave a time outside of all windows.
BY_HAND_LATE = timedelta(hours=1)
AT_ONCE = timedelta(minutes=1)  # within which what is due is begun


def book(context: Context, plan_id: int, how: Book, by: Principal) -> Booking:
    """Book an approved plan: at an instant, or where the timetable has a place for it. Writes.

    Raises Refused when it is not approved, is booked already, has no place, or is given a time
    outside of the windows of its site without ``outside_window``.
    """
    instance.must_drive(context)
    plan = context.store.plans.get(plan_id)
    site = context.store.sites.get(plan.site)
    if plan.state != "approved":
        raise Refused("not-approved", f"plan {plan_id} is {plan.state}; approve it first")
    for other in context.store.bookings.all(state="waiting", plan=plan_id):
        raise Refused("booked-already", f"plan {plan_id} is booked for {when(context, other)}")
    if how.at is not None:
        return _by_hand(context, plan, site, how, by)

    def check(live: LiveBook, document: dict[str, Any]) -> None:
        text = _left_out(live, document, plan_id)
        if text is not None:
            raise Refused("no-window", f"{site.label}: {text}")

    timetables.keep(
        context,
        by.name,
        change=partial(context.store.plans.change, plan_id, to_book=True),
        check=check,
    )
    return next(iter(context.store.bookings.all(state="waiting", plan=plan_id)))


def _left_out(live: LiveBook, document: dict[str, Any], plan: int) -> str | None:
    """Why a plan has no place in a timetable; None where it has one."""
    if plan in live.waits:
        return f"{first_up(live.waits[plan])}."
    job = nights.job_id(plan)
    return next((row["text"] for row in document["left_out"] if row["job"] == job), None)


def _by_hand(context: Context, plan: SitePlan, site: Site, how: Book, by: Principal) -> Booking:
    assert how.at is not None  # book looked
    reckoned = nights.reckon_plan(context, plan)
    ends = how.at + timedelta(minutes=reckoned.minutes + reckoned.back)
    check_time(context, site, how.at, ends, outside=how.outside_window)
    booking = Booking(
        id=0,
        plan=plan.id,
        site=plan.site,
        starts_at=how.at,
        why="The time was given by hand.",
        rollout=plan.rollout,
        made_by=by.name,
        pinned=True,
        **vars(reckoned),
    )

    def change() -> None:
        context.store.plans.change(plan.id, to_book=True)
        timetables.write(context, booking, by.name)

    _make_room(context, site, by, change)
    return next(iter(context.store.bookings.all(state="waiting", plan=plan.id)))


def _make_room(context: Context, site: Site, by: Principal, change: Callable[[], object]) -> None:
    """Give a booking of a site a time by hand, and let others go around it. Writes. Raises Refused
    where it, or another such, has no room there.
    """

    def check(live: LiveBook, document: dict[str, Any]) -> None:
        starts = {row["job"]: datetime.fromisoformat(row["start"]) for row in document["bookings"]}
        by_hand = {id_: b for id_, b in live.booked.items() if b.pinned}
        if all(starts.get(id_) == b.starts_at for id_, b in by_hand.items()):
            return
        host = context.store.hosts.find(site.host) if site.host else None
        bears = f"{host.name} bears {host.at_once} at once" if host else "the site is taken"
        others = [live.names[id_] for id_, b in by_hand.items() if b.site != site.id]
        raise Refused(
            "no-room",
            f"{bears}, and so many are booked by hand then already: {', '.join(others)}",
        )

    cause = f"{site.label} was given a time by hand"
    timetables.keep(context, by.name, cause, change=change, check=check)


def check_time(
    context: Context, site: Site, start: datetime, end: datetime, *, outside: bool
) -> None:
    """Raise Refused where work from one instant to another can't be booked on a site: what has
    passed, what is frozen, and what lies outside of its windows unless that is meant.
    """
    if start.tzinfo is None:
        raise Refused("no-time-zone", "say the time with its zone, as 2026-11-24T01:10:00Z")
    if start < context.clock() - timedelta(minutes=1):
        raise Refused("in-the-past", f"{start:%Y-%m-%d %H:%M %Z} has passed")
    freeze = freezes.between(context, site, start, end)
    if freeze is not None:
        raise Refused(
            "frozen",
            f"{site.label} is to be left alone then: {freeze.reason}. Lift freeze {freeze.id}, "
            "or take another time",
        )
    if not outside and not fits(site, start, end):
        raise Refused("outside-window", f"{outside_text(site, start, end)}. {HOW_OUTSIDE}")


HOW_OUTSIDE = "If you mean it, say so: --outside-window"


def fits(site: Site, start: datetime, end: datetime) -> bool:
    """Whether a stretch of time lies in a window of a site. One that has none is always open."""
    spans = openings(site.windows, site.timezone, start, end)
    return not site.windows or any(a <= start and end <= b for a, b in spans)


def outside_text(site: Site, start: datetime, end: datetime) -> str:
    """That a stretch of time lies outside of a site's windows, and what is left of one."""
    spans = openings(site.windows, site.timezone, start, end)
    open_ = [closes for opens, closes in spans if opens <= start < closes]
    if open_:
        left = int((open_[0] - start).total_seconds() // 60)
        needed = int((end - start).total_seconds() // 60)
        return (
            f"{left} min are left of the window of {site.label}, and it takes {needed} min with "
            "the way back"
        )
    return f"that is outside of the windows of {site.label}"


def freeze(context: Context, new: NewFreeze, by: Principal) -> Frozen:
    """Leave sites alone for a while, and book around it: both or neither. Writes. Raises NotFound,
    Refused.
    """
    frozen: list[SiteFreeze] = []

    def change() -> None:
        frozen[:] = [freezes.add(context, new, by)]

    cause = f"moved around a freeze: {new.reason}"
    kept = timetables.keep(context, by.name, cause, change=change)
    return Frozen(freeze=frozen[0], **dict(kept))


def book_all(context: Context, by: Principal) -> BookedAll:
    """Book every approved plan that is not booked, by one timetable. Writes."""
    instance.must_drive(context)
    before = {b.id for b in context.store.bookings.all(state="waiting")}

    def change() -> None:
        for plan in context.store.plans.all(state="approved"):
            if not plan.to_book:
                context.store.plans.change(plan.id, to_book=True)

    timetables.keep(context, by.name, change=change)
    new = [b for b in context.store.bookings.all(state="waiting") if b.id not in before]
    new.sort(key=lambda booking: (booking.starts_at, booking.id))
    left = [
        LeftOut(plan=job["plan"], site=job["site"], text=job["text"])
        for job in timetables.left_out(context)
    ]
    return BookedAll(bookings=tuple(new), left_out=tuple(left))


def waiting_one(context: Context, booking_id: int) -> Booking:
    """A booking that waits. Reads. Raises NotFound, and Refused where it waits no more."""
    booking = context.store.bookings.get(booking_id)
    if booking.state != "waiting":
        raise Refused("not-waiting", f"booking {booking_id} is {booking.state}")
    return booking


def withdraw(context: Context, booking: int, by: Principal, why: str = "") -> Booking:
    """Take a booking back: its plan stays approved, and is booked no more by itself. Writes.
    Raises Refused when it is no longer waiting.
    """
    waiting = waiting_one(context, booking)
    with context.store.transaction():
        changed = context.store.bookings.change(booking, state="withdrawn")
        context.store.plans.change(waiting.plan, to_book=False)
        if waiting.rollout is not None:
            _leave_out(context, waiting.rollout, waiting.site)
        context.record(by.name, f"booking {booking} withdrawn", waiting.site, why=why)
    context.tell("booking", waiting.site, "withdrawn")
    return changed


def _leave_out(context: Context, rollout: int, site: str) -> None:
    """Let a rollout go on without a site, at once: nothing waits for what was taken out. Writes."""
    members = [
        member.model_copy(update={"out": "taken out by hand"})
        if member.site == site and not member.out
        else member
        for member in context.store.rollouts.get(rollout).members
    ]
    context.store.rollouts.change(rollout, members=tuple(members))


def move(context: Context, booking: int, how: Book, by: Principal) -> Booking:
    """Give a waiting booking another time: it stays there, pinned. Without one it is pinned where
    it is. Writes. Raises Refused when it is not waiting, or the time can't be had.
    """
    waiting = waiting_one(context, booking)
    site = context.store.sites.get(waiting.site)
    fields: dict[str, object] = {"pinned": True}
    if how.at is not None:
        ends = how.at + timedelta(minutes=waiting.minutes + waiting.back)
        check_time(context, site, how.at, ends, outside=how.outside_window)
        fields |= {"starts_at": how.at, "why": "The time was given by hand."}
    what = f"booking {booking} {'moved' if how.at is not None else 'pinned'}"

    def change() -> None:
        changed = context.store.bookings.change(booking, **fields)
        context.record(by.name, what, waiting.site, result=when(context, changed))

    _make_room(context, site, by, change)
    context.tell("booking", waiting.site, what)
    return context.store.bookings.get(booking)


def again(context: Context, booking: int, by: Principal) -> Booking:
    """Let the timetable find a place anew for a waiting booking, pinned or not. Writes. Raises
    Refused when it is not waiting, or there is no place.
    """
    waiting = waiting_one(context, booking)

    def check(live: LiveBook, document: dict[str, Any]) -> None:
        text = _left_out(live, document, waiting.plan)
        if text is not None:
            raise Refused("no-window", text)

    timetables.keep(
        context,
        by.name,
        "booked again",
        (booking,),
        change=partial(context.store.bookings.change, booking, pinned=False),
        check=check,
    )
    return context.store.bookings.get(booking)


# When their time has come.


def next_due(context: Context) -> datetime | None:
    """When the next booking is due; None where none waits. Reads."""
    waiting = context.store.bookings.all(state="waiting")
    return min([booking.starts_at for booking in waiting], default=None)


def due(context: Context) -> list[Booking]:
    """The bookings whose time has come; one that can't be begun any more in its opening is marked
    as missed, and is booked again. Writes.
    """
    now, frozen = context.clock(), freezes.listed(context)
    bookings = []
    for booking in context.store.bookings.all(state="waiting"):
        if booking.starts_at > now:
            continue
        late = _too_late(context.store.sites.get(booking.site), booking, now, frozen)
        if late:
            shut = gates.shut(context, booking)
            miss(context, booking, f"{shut}; {late}" if shut else late)
        else:
            bookings.append(booking)
    return bookings


def miss(context: Context, booking: Booking, why: str) -> None:
    """Note that a booking was not begun, and why. Writes."""
    with context.store.transaction():
        context.store.bookings.change(booking.id, state="missed", why=why)
        context.record("Windbreak", f"booking {booking.id} missed", booking.site, why=why)
    context.tell("booking", booking.site, "missed")


def _too_late(site: Site, booking: Booking, now: datetime, frozen: Sequence[SiteFreeze]) -> str:
    """Why a booking can't be begun any more, "" where it can: less is left of its opening than it
    takes with the way back.
    """
    needed = timedelta(minutes=booking.minutes + booking.back)
    ends = booking.starts_at + needed
    if booking.pinned and not fits(site, booking.starts_at, ends):
        late = now > booking.starts_at + BY_HAND_LATE
        return "it did not begin within an hour of the time that was given by hand" if late else ""
    spans = openings(site.windows, site.timezone, booking.starts_at, now)
    if site.windows:
        spans = without(spans, [(f.from_, f.to) for f in frozen if freezes.holds(f, site)])
    left = max((closes - now for opens, closes in spans if opens <= now < closes), default=None)
    if not site.windows or (left is not None and left + AT_ONCE >= needed):
        return ""
    minutes = int(left.total_seconds() // 60) if left is not None else 0
    return (
        f"only {minutes} min are left of its window, and it takes "
        f"{booking.minutes + booking.back} min with the way back"
    )


def startable(context: Context) -> Iterator[Booking]:
    """The bookings whose time has come, whose gate is open and whose host bears one more now; those
    before it in this round are counted by whoever begins them. Writes what was missed.
    """
    full: set[str] = set()
    for booking in due(context):
        if gates.shut(context, booking):
            continue
        site = context.store.sites.get(booking.site)
        host = context.store.hosts.find(site.host) if site.host and site.host not in full else None
        if host is not None and context.store.runs.running_on_host(host.id) >= host.at_once:
            full.add(host.id)
        if site.host not in full:
            yield booking
