"""Who is there to watch, and when: entered, dropped, and as stretches of time."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.scheduling.openings import openings
from windbreak.core.values.accounts import Principal
from windbreak.core.values.nightbooks import HoursWindow, Watch
from windbreak.core.values.watching import NewWatch, WatchHours
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused


def listed(context: Context) -> list[WatchHours]:
    """The hours that are not over. Reads."""
    now = context.clock()
    return [hours for hours in context.store.watches.all() if hours.to is None or hours.to > now]


def add(context: Context, new: NewWatch, by: Principal) -> WatchHours:
    """Say when somebody is there. Writes. Raises Refused for what is over."""
    now = context.clock()
    if new.to is not None and new.to <= now:
        raise Refused("in-the-past", "these hours are over already")
    fields = {**new.model_dump(by_alias=True), "id": 0, "made_by": by.name, "made_at": now}
    with context.store.transaction():
        kept = context.store.watches.add(WatchHours.model_validate(fields))
        context.record(by.name, f"{new.who} watches", "watch", result=in_words(kept))
    context.tell("watch", str(kept.id), f"{new.who} watches")
    return kept


def drop(context: Context, watch: int, by: Principal) -> None:
    """Say that somebody is not there after all. Writes. Raises NotFound."""
    kept = context.store.watches.get(watch)
    with context.store.transaction():
        context.store.watches.drop(watch)
        what = f"{kept.who} does not watch after all"
        context.record(by.name, what, "watch", result=in_words(kept))
    context.tell("watch", str(watch), f"{kept.who} does not watch")


def in_words(hours: WatchHours) -> str:
    """When that is: "tue, thu 00:00 to 04:00, Europe/London"."""
    if hours.from_ is not None and hours.to is not None:
        return f"{hours.from_:%Y-%m-%d %H:%M} to {hours.to:%Y-%m-%d %H:%M} UTC"
    return f"{', '.join(hours.days)} {hours.start} to {hours.end}, {hours.zone}"


def stretches(context: Context, at: datetime, horizon: datetime) -> tuple[Watch, ...]:
    """When how many are there between two instants, as the night book takes it. Reads."""
    periods = []
    for hours in listed(context):
        if hours.from_ is not None and hours.to is not None:
            periods.append(Watch(from_=hours.from_, to=hours.to, people=hours.people))
        elif hours.start is not None and hours.end is not None:
            weekly = HoursWindow(days=hours.days, start=hours.start, end=hours.end)
            periods += [
                Watch(from_=opens, to=closes, people=hours.people)
                for opens, closes in openings((weekly,), hours.zone, at, horizon)
            ]
    return tuple(periods)
