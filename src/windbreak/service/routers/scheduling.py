"""Bookings, the timetable, freezes, watching, rollouts, the calendar."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from fastapi import Query, Response

from windbreak.core.values.basics import Zone
from windbreak.core.values.bookings import Book, BookAll, BookedAll, Booking
from windbreak.core.values.freezes import (
    CalendarRead,
    FreezeCalendar,
    Frozen,
    NewFreeze,
    NewFreezeCalendar,
    SiteFreeze,
)
from windbreak.core.values.nightbooks import NightBook
from windbreak.core.values.rollouts import (
    ApproveRollout,
    FailedMove,
    LeaveOut,
    NewRollout,
    OpenGate,
    Reason,
    Rollout,
    WaitingMove,
)
from windbreak.core.values.watching import NewWatch, WatchHours
from windbreak.documents.calendar import Calendar
from windbreak.documents.rollouts import RolloutDraft, RolloutStory
from windbreak.operations.scheduling import (
    bookings,
    drafts,
    failed_moves,
    freeze_calendars,
    freezes,
    nights,
    rollouts,
    watching,
)
from windbreak.operations.views import calendar
from windbreak.operations.views import rollouts as rollout_views
from windbreak.service import hanging
from windbreak.service.ready import ready
from windbreak.service.routers.outward import ICS
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Number, Who

router = Router("scheduling")

Wait = Annotated[
    float,
    Query(ge=0, le=60, description="seconds that an answer may wait until its times are final"),
]


@router.post("/plans/{id}/bookings", status_code=201)
def book_plan(context: Ctx, who: Who, id: Number, when: Book) -> Booking:
    """Book an approved plan: at an instant, or where the timetable has a place for it."""
    return bookings.book(context, id, when, who)


@router.get("/bookings")
@ready("booking", exact=True)
def list_bookings(context: Ctx, who: Who, state: str | None = "waiting") -> list[Booking]:
    """The bookings of a state, soonest first."""
    every = context.store.bookings.all
    bookings = every(state=state) if state else every()
    return sorted(bookings, key=lambda b: b.starts_at)


@router.post("/bookings", status_code=201)
def book_all(context: Ctx, who: Who, all_: BookAll) -> BookedAll:
    """Book every approved plan that is not booked yet, by one timetable."""
    return bookings.book_all(context, who)


@router.put("/bookings/{id}")
def move_booking(context: Ctx, who: Who, id: Number, how: Book) -> Booking:
    """Pin a booking: to another time, or without one where it is."""
    return bookings.move(context, id, how, who)


@router.post("/bookings/{id}/again")
def book_again(context: Ctx, who: Who, id: Number) -> Booking:
    """Let the timetable find a place anew for a booking, pinned or not."""
    return bookings.again(context, id, who)


@router.delete("/bookings/{id}")
def withdraw_booking(context: Ctx, who: Who, id: Number, why: str = "") -> Booking:
    """Take a booking out: its plan stays approved, and is booked no more by itself."""
    return bookings.withdraw(context, id, who, why)


@router.get("/nights")
@ready(*hanging.NIGHTS)
def show_nights(
    context: Ctx,
    who: Who,
    first: Annotated[
        date | None, Query(alias="from", description="the first day; last night where none is told")
    ] = None,
    days: Annotated[int, Query(ge=1, le=calendar.MOST_DAYS)] = 7,
    zone: Zone = "UTC",
    proposed: Annotated[
        bool, Query(description="also where what is not approved yet would go")
    ] = True,
    wait: Wait = 0.0,
) -> Calendar:
    """The nights from a day on, each from noon to noon in a zone: what is booked and why then, what
    could be, what is not and why.
    """
    if wait:
        drafts.final(context, wait)
    return calendar.calendar(context, first, days, zone, proposed=proposed)


@router.get("/night-book")
def show_night_book(context: Ctx, who: Who) -> NightBook:
    """The live night book: what a timetable of the next four weeks is made from."""
    return nights.live_book(context, whole=True).book


@router.get("/freezes")
@ready("freeze", "freeze-calendar", "day", exact=True)
def list_freezes(context: Ctx, who: Who) -> list[SiteFreeze]:
    """The freezes that are not over, soonest first."""
    return freezes.listed(context)


@router.post("/freezes", status_code=201)
def add_freeze(context: Ctx, who: Who, new: NewFreeze) -> Frozen:
    """Leave sites alone for a while; bookings that it meets are booked anew."""
    return bookings.freeze(context, new, who)


@router.delete("/freezes/{id}", status_code=204)
def lift_freeze(context: Ctx, who: Who, id: Number) -> None:
    """Lift a freeze."""
    freezes.lift(context, id, who)


@router.get("/freezes.ics", response_class=Response, responses=ICS)
def read_freezes(context: Ctx, who: Who) -> Response:
    """The freezes that are not over, as iCalendar."""
    body = freeze_calendars.calendar_of_freezes(context)
    return Response(body, media_type="text/calendar; charset=utf-8")


@router.get("/freeze-calendars")
def list_freeze_calendars(context: Ctx, who: Who) -> list[FreezeCalendar]:
    """The calendars whose events are freezes."""
    return freeze_calendars.listed(context)


@router.post("/freeze-calendars", status_code=201)
def add_freeze_calendar(context: Ctx, who: Who, new: NewFreezeCalendar) -> CalendarRead:
    """Take the events of a calendar (iCalendar) for freezes: a text, or an address that is read
    again every few hours.
    """
    return freeze_calendars.add(context, new, who)


@router.post("/freeze-calendars/{id}/read")
def read_freeze_calendar(context: Ctx, who: Who, id: str) -> CalendarRead:
    """Read a subscribed calendar again now."""
    return freeze_calendars.read(context, id, who.name)


@router.delete("/freeze-calendars/{id}", status_code=204)
def drop_freeze_calendar(context: Ctx, who: Who, id: str) -> None:
    """Forget a calendar, and lift what it froze."""
    freeze_calendars.drop(context, id, who)


@router.get("/watch")
def list_watch(context: Ctx, who: Who) -> list[WatchHours]:
    """Who is there to watch, and when; what is over is left out."""
    return watching.listed(context)


@router.post("/watch", status_code=201)
def add_watch(context: Ctx, who: Who, new: NewWatch) -> WatchHours:
    """Say when somebody is there to watch."""
    return watching.add(context, new, who)


@router.delete("/watch/{id}", status_code=204)
def drop_watch(context: Ctx, who: Who, id: Number) -> None:
    """Say that somebody is not there after all."""
    watching.drop(context, id, who)


@router.post("/rollouts/drafts")
def draft_rollout(context: Ctx, who: Who, new: NewRollout, wait: Wait = 0.0) -> RolloutDraft:
    """What a rollout would do if it were approved now: who goes when, who stays out, and why. It is
    answered at once; its times are improved after that, which an event ``draft`` tells.
    """
    draft = drafts.asked(context, new)
    return drafts.shown(context, draft.id, wait) if wait else draft


@router.get("/rollouts/drafts/{id}")
def show_draft(context: Ctx, who: Who, id: str, wait: Wait = 0.0) -> RolloutDraft:
    """A draft as far as it is by now."""
    return drafts.shown(context, id, wait)


@router.get("/rollouts")
@ready(*hanging.WORK, exact=True)
def list_rollouts(context: Ctx, who: Who) -> list[Rollout]:
    """The rollouts, newest first."""
    return context.store.rollouts.all(newest_first=True)


@router.post("/rollouts", status_code=201)
def approve_rollout(context: Ctx, who: Who, new: ApproveRollout) -> Rollout:
    """Let go what a draft has shown, in waves. Without one: what is asked for, to every site that
    can take it now.
    """
    return rollouts.approve(context, new, who)


@router.get("/rollouts/{id}")
@ready(*hanging.NIGHTS, exact=True)
def show_rollout(context: Ctx, who: Who, id: Number) -> RolloutStory:
    """One rollout: its waves, its gates, and who is not in them."""
    return rollout_views.story(context, id)


@router.post("/rollouts/{id}/stop")
def stop_rollout(context: Ctx, who: Who, id: Number, how: Reason) -> Rollout:
    """Stop a rollout: what runs goes on to its end, what is booked is taken out."""
    return rollouts.stop(context, id, how.why, who)


@router.post("/rollouts/{id}/go-on")
def go_on_with_rollout(context: Ctx, who: Who, id: Number, how: Reason) -> Rollout:
    """Go on with a rollout that was stopped: what has not run is planned and booked anew."""
    return rollouts.go_on(context, id, how.why, who)


@router.post("/rollouts/{id}/leave-out")
def leave_out_of_rollout(context: Ctx, who: Who, id: Number, how: LeaveOut) -> Rollout:
    """Go on with a rollout without one of its sites."""
    return rollouts.leave_out(context, id, how, who)


@router.post("/rollouts/{id}/open-gate")
def open_gate(context: Ctx, who: Who, id: Number, how: OpenGate) -> Rollout:
    """Let a gate open though a run before it did not end well."""
    return rollouts.open_gate(context, id, how, who)


@router.get("/failed-moves")
@ready(*hanging.WORK, "outcome", exact=True)
def list_failed_moves(context: Ctx, who: Who) -> list[WaitingMove]:
    """The moves that failed somewhere and wait everywhere for a person's word, newest first."""
    return failed_moves.asked(context)


@router.post("/failed-moves/{kind}/{slug}/{version}/let-go")
def let_move_go(
    context: Ctx, who: Who, kind: str, slug: str, version: str, how: Reason
) -> FailedMove:
    """Let a move be made elsewhere though it failed somewhere."""
    return failed_moves.let_go(context, f"{kind}/{slug}", version, how.why, who)
