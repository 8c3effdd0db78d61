"""When a site may be worked on: its windows, as instants.

A window is weekly hours in the site's own time zone. It is as long as it really is: on the
night the clocks change, 01:00 to 04:00 may be two or four hours.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from windbreak.core.values.sites import Weekday, Window

GRID = timedelta(minutes=5)


_DAYS: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


def openings(
    windows: Sequence[Window], zone: str, start: datetime, end: datetime
) -> list[tuple[datetime, datetime]]:
    """The windows that are open at some time between two instants, as instants in UTC, in order."""
    return sorted(_openings(windows, zone, start, end))


def _openings(
    windows: Sequence[Window], zone: str, start: datetime, end: datetime
) -> Iterator[tuple[datetime, datetime]]:
    tz = ZoneInfo(zone)
    day = start.astimezone(tz).date() - timedelta(days=1)
    last = end.astimezone(tz).date()
    while day <= last:
        for window in windows:
            if _DAYS[day.weekday()] in window.days:
                opens = _at(day, window.start, tz)
                closes = _at(day, window.end, tz)
                if closes <= opens:
                    closes = _at(day + timedelta(days=1), window.end, tz)
                if opens < end and closes > start:
                    yield opens, closes
        day += timedelta(days=1)


def _at(day: date, hour: str, tz: ZoneInfo) -> datetime:
    """A time of day as an instant; an hour that the clocks skip is the one after it."""
    hours, minutes = (int(part) for part in hour.split(":"))
    if hours == 24:
        day, hours = day + timedelta(days=1), 0
    local = datetime(day.year, day.month, day.day, hours, minutes, tzinfo=tz)
    return local.astimezone(UTC)


def next_start(
    windows: Sequence[Window],
    zone: str,
    after: datetime,
    length: timedelta,
    *,
    horizon: timedelta = timedelta(days=28),
) -> tuple[datetime, tuple[datetime, datetime]] | None:
    """The first start, on the five-minute grid, at which the whole length fits into one window.

    The window comes with it; None where no window within the horizon is long enough.
    """
    for opens, closes in openings(windows, zone, after, after + horizon):
        start = on_grid(max(opens, after))
        if start + length <= closes:
            return start, (opens, closes)
    return None


def on_grid(instant: datetime) -> datetime:
    """The instant itself on the five-minute grid, else the next one on it."""
    midnight = instant.replace(hour=0, minute=0, second=0, microsecond=0)
    over = (instant - midnight) % GRID
    return instant if not over else instant + (GRID - over)
