"""A picture of the nights for a terminal: hosts with their bookings, each a bar in its window."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta, tzinfo
from typing import TYPE_CHECKING, NamedTuple

from windbreak.cli.output import plain

if TYPE_CHECKING:
    from windbreak.documents.calendar import Calendar, NightBooking, NightHost

LABEL = 30  # columns for the names
_FEW_HOURS = 8  # up to so many hours, a column is ten minutes; else twenty
_MARKS = {
    "approved": ("█", "green"),
    "not yet": ("□", "blue"),
    "running": ("◐", "blue"),
    "done": ("▪", "bright_black"),
    "failed": ("✕", "red"),
}
_BACK, _OPEN, _FROZEN, _SHUT = "▒", "·", "╱", " "
LEGEND = (
    f"[green]█[/] approved  [blue]□[/] not yet  {_BACK} to go back in  {_OPEN} window  "
    f"{_FROZEN} frozen  [bright_black]▪[/] done  [red]✕[/] ended badly"
)


class _Scale(NamedTuple):
    """Columns of a night: from when, how many, and how long each is."""

    start: datetime
    columns: int
    each: timedelta

    def cells(self, start: datetime, end: datetime) -> range:
        """The columns that a stretch touches."""
        first = max(0, int((start - self.start) / self.each))
        last = min(self.columns, -int((self.start - end) / self.each // 1))
        return range(first, last)


def night_lines(calendar: Calendar, zone: tzinfo) -> Iterator[str]:
    """The nights that hold anything, as lines with markup."""
    start = calendar.start.astimezone(zone)
    while start < calendar.end:
        end = start + timedelta(days=1)
        night = [b for b in calendar.bookings if start <= b.starts_at < end]
        frozen = [f for f in calendar.frozen if f.start < end and f.end > start]
        if night or frozen:
            yield from _night(calendar, night, start, end, zone)
            yield ""
        start = end


def _night(
    calendar: Calendar,
    night: Sequence[NightBooking],
    start: datetime,
    end: datetime,
    zone: tzinfo,
) -> Iterator[str]:
    scale = _scale(calendar, night, start, end, zone)
    head = f"{start:%a} {start.day} {start:%b} to {end:%a}"
    hours = _hours(scale, zone)
    yield f"[bold]{head:<{LABEL + 2}}[/][bright_black]{hours}[/]"
    everywhere = [f for f in calendar.frozen if not (f.site or f.host or f.client)]
    for freeze in (f for f in everywhere if f.start < end and f.end > start):
        yield f"  frozen everywhere: {plain(freeze.reason)}"
    for host in calendar.hosts:
        here = [b for b in night if b.host == host.id]
        held = [
            f
            for f in calendar.frozen
            if f not in everywhere and host.id in f.hosts and f.start < end and f.end > start
        ]
        if here or held:
            yield from _host(calendar, host, here, scale, zone)
            for freeze in held:
                yield f"    {plain(freeze.where)} is frozen: {plain(freeze.reason)}"
    for gate in calendar.gates:
        if start <= gate.end < end:
            opens = f"; it opens {gate.end.astimezone(zone):%a %H:%M}" if not gate.waits else ""
            yield f"  gate, {plain(gate.label)}: {gate.text}{opens}"


def _host(
    calendar: Calendar,
    host: NightHost,
    here: Iterable[NightBooking],
    scale: _Scale,
    zone: tzinfo,
) -> Iterator[str]:
    bears = f"{host.at_once} at a time" if host.at_once is not None else ""
    yield f"  {plain(host.name)}  [bright_black]{bears}[/]"
    for booking in here:
        begins = booking.starts_at.astimezone(zone)
        ends = booking.ends_at.astimezone(zone)
        name = f"{booking.label[: LABEL - 3]}{'*' if booking.pinned else ''}"
        wave = f"  {booking.wave}" if booking.wave in ("twin", "canary") else ""
        number = f"  booking {booking.booking}" if booking.booking else ""
        number = f"  run {booking.run}" if booking.run else number
        yield (
            f"    {plain(name):<{LABEL - 2}}{_bar(calendar, booking, scale)}"
            f" {begins:%H:%M}–{ends:%H:%M}[bright_black]{wave}{number}[/]"
        )


def _bar(calendar: Calendar, booking: NightBooking, scale: _Scale) -> str:
    cells = [_SHUT] * scale.columns
    for opened in calendar.opened:
        if opened.host == booking.host:
            for cell in scale.cells(opened.start, opened.end):
                cells[cell] = _OPEN
    for freeze in calendar.frozen:
        if booking.host in freeze.hosts and freeze.site in (None, booking.site):
            for cell in scale.cells(freeze.start, freeze.end):
                cells[cell] = _FROZEN
    for cell in scale.cells(booking.ends_at, booking.back_until):
        cells[cell] = _BACK
    mark, colour = _MARKS[booking.state]
    for cell in scale.cells(booking.starts_at, booking.ends_at):
        cells[cell] = f"[{colour}]{mark}[/]"
    return "".join(cells)


def _scale(
    calendar: Calendar,
    night: Iterable[NightBooking],
    start: datetime,
    end: datetime,
    zone: tzinfo,
) -> _Scale:
    """The hours of a night in which anything can be done."""
    edges = [e for o in calendar.opened if start <= o.start < end for e in (o.start, o.end)]
    edges += [edge for b in night for edge in (b.starts_at, b.back_until)]
    first = min(edges, default=start + timedelta(hours=12)).astimezone(zone)
    last = max(edges, default=start + timedelta(hours=17)).astimezone(zone)
    first = first.replace(minute=0, second=0, microsecond=0)
    hours = max(1, -int((first - last) / timedelta(hours=1) // 1))
    each = timedelta(minutes=10 if hours <= _FEW_HOURS else 20)
    return _Scale(first, int(timedelta(hours=hours) / each), each)


def _hours(scale: _Scale, zone: tzinfo) -> str:
    """The hours over the columns: "01    02    03"."""
    wide = int(timedelta(hours=1) / scale.each)
    count = scale.columns // wide
    hours = [(scale.start + timedelta(hours=n)).astimezone(zone) for n in range(count)]
    return "".join(f"{hour:%H}".ljust(wide) for hour in hours)
