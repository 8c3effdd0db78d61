"""Freezes out of calendars (iCalendar, RFC 5545): a file, or an address that is read now and then.

Each event that is neither cancelled nor transparent is a freeze, recurring ones each time. What a
calendar tells no longer is lifted; what it tells still stays as it is. One that can't be read
changes nothing, and says so.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from functools import partial

from icalendar import Calendar, Event

from windbreak.core.values.accounts import Principal
from windbreak.core.values.freezes import (
    CalendarRead,
    FreezeCalendar,
    NewFreezeCalendar,
    SiteFreeze,
)
from windbreak.feeds.errors import FeedError
from windbreak.feeds.fetching import fetch
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.scheduling import freezes, occurrences, timetables
from windbreak.operations.scheduling.occurrences import Occurrence
from windbreak.operations.sites import clients
from windbreak.wording.words import counted

AHEAD = timedelta(days=400)
EVERY = timedelta(hours=6)
MOST_EVENTS = 1000
LIMIT = 2**20  # bytes


def listed(context: Context) -> list[FreezeCalendar]:
    """The calendars of freezes, by id. Reads."""
    return context.store.freeze_calendars.all()


def add(context: Context, new: NewFreezeCalendar, by: Principal) -> CalendarRead:
    """Take the events of a calendar for freezes; with an address it is read again every few hours.
    Writes. Raises NotFound, AlreadyThere, and Refused where it can't be read.
    """
    if new.site is not None:
        context.store.sites.get(new.site)
    if new.host is not None:
        context.store.hosts.get(new.host)
    clients.check(context, new.client)
    text = new.text if new.text is not None else _fetched(context, new.url or "")
    calendar = _read(context, text, new.zone)
    fields = {**new.model_dump(exclude={"text"}), "made_by": by.name}
    first = partial(context.store.freeze_calendars.add, FreezeCalendar.model_validate(fields))
    return _take(context, new.id, calendar, by.name, first)


def read(context: Context, id_: str, by: str = timetables.BY_ITSELF) -> CalendarRead:
    """Read a subscribed calendar again. Writes. Raises Refused where it can't be read: what it told
    before stands.
    """
    calendar = context.store.freeze_calendars.get(id_)
    if calendar.url is None:
        raise Refused("not-subscribed", f"{id_} came as a file; import the new one in its place")
    try:
        events = _read(context, _fetched(context, calendar.url), calendar.zone)
    except Refused as error:
        context.store.freeze_calendars.change(id_, fault=str(error), tried_at=context.clock())
        context.tell("freeze", id_, str(error))
        raise
    return _take(context, id_, events, by)


def drop(context: Context, id_: str, by: Principal) -> None:
    """Forget a calendar, and lift what it froze. Writes. Raises NotFound."""
    context.store.freeze_calendars.get(id_)
    with context.store.transaction():
        for freeze in _of(context, id_):
            context.store.freezes.drop(freeze.id)
        context.store.freeze_calendars.drop(id_)
        context.record(by.name, f"calendar {id_} of freezes dropped", id_)
    context.tell("freeze", id_, "dropped")


def next_due(context: Context) -> datetime | None:
    """When a subscribed calendar is to be read next. Reads."""
    tried = [c.tried_at for c in listed(context) if c.url is not None and c.tried_at is not None]
    return min([at + EVERY for at in tried], default=None)


def read_due(context: Context) -> None:
    """Read the subscribed calendars whose time has come. Writes. Never raises for what they are."""
    now = context.clock()
    for calendar in listed(context):
        due = calendar.tried_at is None or calendar.tried_at + EVERY <= now
        if calendar.url is not None and due:
            try:
                read(context, calendar.id)
            except Refused:
                continue  # it stands in the calendar, and is found


def _fetched(context: Context, url: str) -> str:
    try:
        return fetch(context.out, url, limit=LIMIT).body.decode("utf-8", "replace")
    except FeedError as error:
        raise Refused("no-calendar", f"the calendar can't be read: {error}") from None


def _read(context: Context, text: str, zone: str) -> list[Occurrence]:
    """The freezes that a calendar tells of, from now on. Raises Refused."""
    if len(text.encode()) > LIMIT:
        raise Refused("bad-calendar", f"it is more than {LIMIT // 1024} kB")
    try:
        coming = occurrences.told_apart(text, zone, context.clock(), AHEAD, MOST_EVENTS)
    except occurrences.NotRead as error:
        raise Refused("bad-calendar", f"this is no iCalendar that can be read: {error}") from None
    if len(coming) > MOST_EVENTS:
        raise Refused("bad-calendar", f"it has too many events: {MOST_EVENTS} are the most")
    return coming


def _of(context: Context, id_: str) -> list[SiteFreeze]:
    return [freeze for freeze in context.store.freezes.all() if freeze.calendar == id_]


def _take(
    context: Context,
    id_: str,
    coming: list[Occurrence],
    by: str,
    first: Callable[[], object] = lambda: None,
) -> CalendarRead:
    """Freeze what a calendar tells, lift what it tells no longer, and book around it, after what is
    to be written ``first``: all of it or nothing. Writes.
    """
    now, result = context.clock(), ""
    standing = {Occurrence(f.from_, f.to, f.reason): f for f in _of(context, id_) if f.to > now}
    new = [event for event in coming if event not in standing]
    gone = [freeze for event, freeze in standing.items() if event not in set(coming)]

    def change() -> None:
        first()
        calendar = context.store.freeze_calendars.get(id_)
        for freeze in gone:
            context.store.freezes.drop(freeze.id)
        for event in new:
            context.store.freezes.add(
                SiteFreeze(
                    id=0,
                    from_=event.start,
                    to=event.end,
                    reason=event.reason,
                    site=calendar.site,
                    host=calendar.host,
                    client=calendar.client,
                    made_by=by,
                    made_at=now,
                    calendar=id_,
                )
            )
        context.store.freeze_calendars.change(id_, read_at=now, tried_at=now, fault="")
        if result:
            context.record(by, f"calendar {id_} read", id_, result=result)

    kept = None
    if new or gone:
        result = f"{counted(len(new), 'freeze')} new, {len(gone)} lifted"
        kept = timetables.keep(context, by, f"by the calendar {id_}", change=change)
        context.tell("freeze", id_, result)
    else:
        with context.store.transaction():
            change()
    calendar = context.store.freeze_calendars.get(id_)
    return CalendarRead(calendar=calendar, freezes=len(coming), **dict(kept) if kept else {})


def calendar_of_freezes(context: Context) -> bytes:
    """The freezes that are not over, as iCalendar. Reads."""
    made = Calendar()
    made.add("prodid", "-//Windbreak//freezes//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", "Windbreak: freezes")
    for freeze in freezes.listed(context):
        event = Event()
        event.add("uid", f"freeze-{freeze.id}@windbreak")
        event.add("dtstamp", freeze.made_at)
        event.add("dtstart", freeze.from_)
        event.add("dtend", freeze.to)
        event.add("summary", freeze.reason)
        event.add("location", freeze.where)
        made.add_component(event)
    return bytes(made.to_ical())
