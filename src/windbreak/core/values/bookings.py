"""Bookings: when a plan will be carried out, and why then."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value, example

BookingState = Literal["waiting", "started", "missed", "withdrawn"]


class Book(Value):
    """When a plan is to run: at an instant, or (None) where the timetable has a place for it.
    ``outside_window``: the instant may lie outside of the windows of the site.
    """

    model_config = example(at="2026-11-24T01:10:00Z")

    at: datetime | None = None
    outside_window: bool = False


class Booking(Value):
    """The time at which a plan will be carried out, and why then; ``pinned``: a person gave it.

    ``minutes`` and ``back`` are how long it and going back from it are reckoned to take; ``due`` is
    when it should be over and ``weight`` what that weighs, with ``due_for`` the reason; ``watched``
    is why somebody has to be there, "" where nobody has to.
    """

    id: int
    plan: int
    site: Slug
    starts_at: datetime
    why: str
    state: BookingState = "waiting"
    rollout: int | None = None
    made_by: str = ""
    pinned: bool = False
    minutes: int = 0
    back: int = 0
    due: datetime | None = None
    due_for: str = ""
    weight: float = 1
    watched: str = ""


class BookAll(Value):
    """Every approved plan that is not booked is booked, by one timetable."""

    model_config = example()


class LeftOut(Value):
    """An approved plan that has no place in the timetable, and why not."""

    plan: int
    site: Slug
    text: str


class Kept(Value):
    """What came of the bookings when the timetable was made anew, as sentences."""

    moved: tuple[str, ...] = ()
    out: tuple[str, ...] = ()
    placed: tuple[str, ...] = ()


class BookedAll(Value):
    """What was booked, soonest first, and what was left out."""

    bookings: tuple[Booking, ...]
    left_out: tuple[LeftOut, ...]
