"""When a site may be worked on: its windows, as instants.

A window is weekly hours in the site's own time zone, or the days of a recurrence rule. It is as
long as it really is: on the night the clocks change, 01:00 to 04:00 may be two or four hours, and
02:00 to 03:00 none.

    openings((Window(start="01:00", end="05:00"),), "Europe/London", monday, tuesday)
    without(them, [(freeze_from, freeze_to)])
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

from dateutil.rrule import rrulestr

from windbreak.core.values.nightbooks import HoursWindow, RuleWindow
from windbreak.core.values.sites import Weekday, Window

GRID = timedelta(minutes=5)
Span = tuple[datetime, datetime]

_DAYS: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_DAY = timedelta(days=1)


def openings(
    windows: Sequence[Window | HoursWindow | RuleWindow], zone: str, start: datetime, end: datetime
) -> list[Span]:
    """The windows that are open at some time between two instants, as instants in UTC, in order;
    those that touch or overlap are one. They are whole: what lies before and after is not cut off.
    """
    every = _of_days(tuple(windows), zone, *_days_about(zone, start, end))
    return [(a, b) for a, b in every if a <= end and b > start]


def opening_seconds(
    windows: Sequence[Window | HoursWindow | RuleWindow], zone: str, start: datetime, end: datetime
) -> list[tuple[int, int]]:
    """The same, cut off at both instants, in whole seconds since 1970."""
    first, last = -int(-start.timestamp() // 1), int(end.timestamp())
    every = _seconds_of_days(tuple(windows), zone, *_days_about(zone, start, end))
    return [(max(a, first), min(b, last)) for a, b in every if a < last and b > first]


def _days_about(zone: str, start: datetime, end: datetime) -> tuple[date, date]:
    """The days whose windows may reach into the time between two instants."""
    tz = ZoneInfo(zone)
    return start.astimezone(tz).date() - 2 * _DAY, end.astimezone(tz).date() + _DAY


@lru_cache(maxsize=16384)
def _seconds_of_days(
    windows: tuple[Window | HoursWindow | RuleWindow, ...], zone: str, first: date, last: date
) -> list[tuple[int, int]]:
    every = _of_days(windows, zone, first, last)
    return [(int(a.timestamp()), int(b.timestamp())) for a, b in every]


@lru_cache(maxsize=16384)
def _of_days(
    windows: tuple[Window | HoursWindow | RuleWindow, ...], zone: str, first: date, last: date
) -> list[Span]:
    """The openings on the days from the first to the last."""
    return joined(span for window in windows for span in _opened(window, zone, first, last))


def joined(spans: Iterable[Span]) -> list[Span]:
    """Stretches of time in order, those that touch or overlap as one; empty ones left out."""
    whole: list[Span] = []
    for opens, closes in sorted(spans):
        if closes <= opens:
            continue
        if whole and opens <= whole[-1][1]:
            whole[-1] = (whole[-1][0], max(whole[-1][1], closes))
        else:
            whole.append((opens, closes))
    return whole


def without(spans: Iterable[Span], cut: Iterable[Span]) -> list[Span]:
    """What is left of stretches of time when others are cut out of them."""
    left = list(spans)
    for start, end in cut:
        left = [
            part
            for opens, closes in left
            for part in ((opens, min(closes, start)), (max(opens, end), closes))
            if part[0] < part[1]
        ]
    return sorted(left)


def within(spans: Iterable[Span], start: datetime, end: datetime) -> list[Span]:
    """What of stretches of time lies between two instants."""
    cut = ((max(opens, start), min(closes, end)) for opens, closes in spans)
    return [(opens, closes) for opens, closes in cut if opens < closes]


@lru_cache(maxsize=16384)
def _opened(
    window: Window | HoursWindow | RuleWindow, zone: str, first: date, last: date
) -> tuple[Span, ...]:
    """When a window opens on the days from the first to the last. Many sites have the same."""
    tz = ZoneInfo(zone)
    if isinstance(window, RuleWindow):
        length = timedelta(minutes=window.minutes)
        days = ruled_days(window.rrule, window.from_, first - length, last)
        begins = (_instant(day, window.start, tz, last=False) for day in days)
        return tuple((opens, opens + length) for opens in begins)
    next_day = _minutes(window.end) <= _minutes(window.start)
    every = (first + n * _DAY for n in range((last - first).days + 1))
    return tuple(
        (
            _instant(day, window.start, tz, last=False),
            _instant(day + _DAY if next_day else day, window.end, tz, last=True),
        )
        for day in every
        if _DAYS[day.weekday()] in window.days
    )


def ruled_days(rule: str, since: date, first: date, last: date) -> list[date]:
    """The days of a recurrence rule (RFC 5545), counted from its first, between two days. Raises
    ValueError where it can't be read, or names more than days.
    """
    begins = datetime(since.year, since.month, since.day)
    ruled = rrulestr(rule, dtstart=begins)
    named = {part.partition("=")[2].upper() for part in rule.split(";") if "FREQ=" in part.upper()}
    if named & {"HOURLY", "MINUTELY", "SECONDLY"}:
        raise ValueError("it names hours or less; an opening is named by its day")
    if last < since:
        return []
    from_ = max(begins, datetime(first.year, first.month, first.day))
    until = datetime(last.year, last.month, last.day, 23, 59, 59)
    return sorted({when.date() for when in ruled.between(from_, until, inc=True)})


@lru_cache(maxsize=1024)
def _minutes(hour: str) -> int:
    hours, minutes = hour.split(":")
    return 60 * int(hours) + int(minutes)


@lru_cache(maxsize=65536)
def _instant(day: date, hour: str, tz: ZoneInfo, *, last: bool) -> datetime:
    """A time of day as an instant. One that the clocks skip is the instant at which they skip it;
    of one that comes twice, the ``last`` or the first.
    """
    minutes = _minutes(hour)
    naive = datetime(day.year, day.month, day.day) + timedelta(minutes=minutes)
    early, late = (naive.replace(tzinfo=tz, fold=fold).astimezone(UTC) for fold in (0, 1))
    if early > late:  # skipped: it would be this by the clock before, and that by the clock after
        return _skip(late, early, tz)
    return late if last else early


def _skip(low: datetime, high: datetime, tz: ZoneInfo) -> datetime:
    """The instant between two at which the clocks of a zone go forward."""
    before = low.astimezone(tz).utcoffset()
    while high - low > timedelta(seconds=1):
        middle = low + (high - low) / 2
        if middle.astimezone(tz).utcoffset() == before:
            low = middle
        else:
            high = middle
    return high.replace(microsecond=0)


def on_grid(instant: datetime) -> datetime:
    """The instant itself on the five-minute grid, else the next one on it."""
    midnight = instant.replace(hour=0, minute=0, second=0, microsecond=0)
    over = (instant - midnight) % GRID
    return instant if not over else instant + (GRID - over)
