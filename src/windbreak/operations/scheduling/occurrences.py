"""The times of a calendar's events (iCalendar, RFC 5545), recurring ones each time.

A rule of 150 bytes can keep a processor busy for ever, and no package counts before it expands. So
a calendar is read in a process of its own, which has an end; what takes longer is not read.
"""

from __future__ import annotations

import contextlib
import json
import resource
import subprocess
import sys
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

SECONDS = 10
_BYTES = 2**30  # of memory


class Occurrence(NamedTuple):
    """One time of an event."""

    start: datetime
    end: datetime
    reason: str


class NotRead(Exception):
    """The calendar can't be read; says why, in one line."""


def told_apart(
    text: str, zone: str, now: datetime, ahead: timedelta, most: int
) -> list[Occurrence]:
    """What a calendar tells from now on, each once, in the order of time: ``most`` of it, and one
    where there is more. Raises NotRead.
    """
    asked = {
        "text": text,
        "zone": zone,
        "now": now.isoformat(),
        "ahead": ahead.total_seconds(),
        "most": most,
    }
    try:
        done = subprocess.run(
            [sys.executable, "-m", __name__],
            input=json.dumps(asked),
            capture_output=True,
            text=True,
            timeout=SECONDS,
        )
    except subprocess.TimeoutExpired:
        raise NotRead(f"its events could not be counted within {SECONDS} s") from None
    if done.returncode != 0:
        raise NotRead("reading it took more than it is given")
    told = json.loads(done.stdout)
    if "fault" in told:
        raise NotRead(told["fault"])
    return [
        Occurrence(datetime.fromisoformat(start), datetime.fromisoformat(end), reason)
        for start, end, reason in told["occurrences"]
    ]


def _main() -> None:
    """Read a calendar from the standard input, and tell its times on the standard output."""
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (_BYTES, _BYTES))
    asked = json.load(sys.stdin)
    try:
        from icalendar import Calendar

        calendar = Calendar.from_ical(asked["text"])
        zone, now = ZoneInfo(asked["zone"]), datetime.fromisoformat(asked["now"])
        ahead = timedelta(seconds=asked["ahead"])
        told = sorted(set(_coming(calendar, now, zone, ahead, asked["most"])))
        answer: dict[str, object] = {
            "occurrences": [[o.start.isoformat(), o.end.isoformat(), o.reason] for o in told]
        }
    except Exception as error:  # whatever the package meets in what somebody else wrote
        fault = str(error).splitlines()[0] if str(error) else type(error).__name__
        answer = {"fault": fault[:300]}
    json.dump(answer, sys.stdout)


def _coming(
    calendar: Any, now: datetime, zone: ZoneInfo, ahead: timedelta, most: int
) -> Iterator[Occurrence]:
    """What its events tell, from now on, each time; no more than is taken, and one."""
    events = [
        event
        for event in calendar.walk("VEVENT")
        if event.get("STATUS") != "CANCELLED" and event.get("TRANSP") != "TRANSPARENT"
    ]
    # A time of something that recurs may have been told anew: by its id and the time it stands for.
    anew = {
        (str(event.get("UID")), _instant(event["RECURRENCE-ID"].dt, zone))
        for event in calendar.walk("VEVENT")
        if "RECURRENCE-ID" in event
    }
    count = 0
    for event in events:
        length = _instant(event.end, zone) - _instant(event.start, zone)
        reason = str(event.get("SUMMARY") or "").strip() or "frozen"
        for start in _times(event, zone, now - length):
            again = (str(event.get("UID")), start) in anew and "RECURRENCE-ID" not in event
            if start > now + ahead:
                break
            if again or start + length <= now or length <= timedelta():
                continue
            yield Occurrence(start, start + length, reason)
            count += 1
            if count > most:
                return


def _times(event: Any, zone: ZoneInfo, since: datetime) -> Iterator[datetime]:
    """When an event begins, each time from about an instant on. What recurs does so by the clock of
    its own zone.
    """
    first = event.start
    own = (first.tzinfo if isinstance(first, datetime) else None) or zone
    begins = _instant(first, zone).astimezone(own).replace(tzinfo=None)
    if "RRULE" not in event and "RDATE" not in event:
        yield begins.replace(tzinfo=own)
        return
    from dateutil.rrule import rrule, rruleset, rrulestr
    from icalendar.prop import vRecur

    times = rruleset()
    times.rdate(begins)
    if "RRULE" in event:
        parts_of_rule = dict(event["RRULE"])
        until = [_instant(text, zone).astimezone(own) for text in parts_of_rule.pop("UNTIL", ())]
        rule = str(vRecur(parts_of_rule).to_ical().decode())  # type: ignore[no-untyped-call]
        ruled = rrulestr(rule, dtstart=begins)
        assert isinstance(ruled, rrule)  # one rule was given
        times.rrule(ruled.replace(until=until[0].replace(tzinfo=None)) if until else ruled)
    for name, take in (("RDATE", times.rdate), ("EXDATE", times.exdate)):
        listed_ = event.get(name, ())
        for text in listed_ if isinstance(listed_, list) else [listed_] if listed_ else ():
            for day in text.dts:
                take(_instant(day.dt, zone).astimezone(own).replace(tzinfo=None))
    start = since.astimezone(own).replace(tzinfo=None) - timedelta(days=1)
    for when in times.xafter(start, inc=True):
        yield when.replace(tzinfo=own)


def _instant(when: date | datetime, zone: ZoneInfo) -> datetime:
    """A day or a time of day as an instant: what floats is meant in the calendar's zone."""
    if not isinstance(when, datetime):
        when = datetime.combine(when, time())
    return when.replace(tzinfo=zone) if when.tzinfo is None else when


if __name__ == "__main__":
    _main()
