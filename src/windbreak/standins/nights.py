"""Nights played at once: the demo's clock goes to each booking in turn, and waits for its run."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import groupby
from pathlib import Path

from windbreak.client import Windbreak
from windbreak.core.values.bookings import Booking
from windbreak.core.values.rollouts import UNDER_WAY
from windbreak.core.values.runs import Run
from windbreak.operations.administration.clocks import put_ahead, shifted

_PATIENCE = 300.0  # seconds until what was due has begun and ended


@dataclass(frozen=True)
class Played:
    """What was booked for one instant, and the runs that came of it."""

    at: datetime
    bookings: tuple[Booking, ...]
    runs: tuple[Run, ...]


def play(
    windbreak: Windbreak, clock: Path, until: datetime, tell: Callable[[str], None]
) -> Iterator[Played]:
    """Play what is booked up to an instant, one start after the other; the clock stays where it
    came to. What waits for a person's word at a gate is left. Raises TimeoutError where a run does
    not end.
    """
    while True:
        kept_back = wants_a_word(windbreak)
        waiting = [b for b in windbreak.bookings() if b.site not in kept_back]
        due = [booking for booking in waiting if booking.starts_at <= until]
        if not due:
            return
        at, group = next(groupby(due, key=lambda booking: booking.starts_at))
        bookings = tuple(group)
        _to(clock, at + timedelta(seconds=1))
        runs = _ended(windbreak, bookings)
        for run in runs:
            tell(f"{at:%a %H:%M} UTC  {run.site}: {run.state}. {run.text}")
        yield Played(at, bookings, runs)


def wants_a_word(windbreak: Windbreak) -> dict[str, int]:
    """The sites that wait at a gate until somebody has given a word, each with its rollout."""
    return {
        site: rollout.id
        for rollout in windbreak.rollouts()
        if rollout.state in UNDER_WAY
        for gate in windbreak.rollout(rollout.id).gates
        if gate.state == "wants a word"
        for site in gate.before
    }


def _to(clock: Path, at: datetime) -> None:
    """Put the clock ahead to an instant; it never goes back."""
    if shifted(clock)() < at:
        put_ahead(clock, at - datetime.now(UTC))


def _ended(windbreak: Windbreak, bookings: tuple[Booking, ...]) -> tuple[Run, ...]:
    """The runs of some bookings, once each has ended or its booking was given up."""
    plans = {booking.plan for booking in bookings}
    until = time.monotonic() + _PATIENCE
    while time.monotonic() < until:
        waiting = {booking.id for booking in windbreak.bookings()}
        still = [b for b in bookings if b.id in waiting and _is_due(windbreak, b)]
        runs = tuple(run for run in windbreak.runs(limit=100) if run.plan in plans)
        if not still and all(run.state != "running" for run in runs):
            return tuple(sorted(runs, key=lambda run: run.id))
        time.sleep(0.3)
    raise TimeoutError(f"of {', '.join(b.site for b in bookings)} not all ended")


def _is_due(windbreak: Windbreak, booking: Booking) -> bool:
    """Whether a booking still stands where it was: one that was moved on is not waited for."""
    now = next((b for b in windbreak.bookings() if b.id == booking.id), None)
    return now is not None and now.starts_at == booking.starts_at
