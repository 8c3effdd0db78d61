"""Bookings and rollouts: when a plan will be carried out, and after what."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import ProductId, Slug, Value, VersionText, example

BookingState = Literal["waiting", "started", "missed", "withdrawn"]


RolloutState = Literal["refreshing", "rehearsing", "quiet", "going", "ended well", "stopped"]


class Book(Value):
    """When a plan is to run: at an instant, or (None) at the site's next window."""

    model_config = example(at="2026-11-24T01:10:00Z")

    at: datetime | None = None


class Booking(Value):
    """The time at which a plan will be carried out, and why then; ``pinned``: a person gave it."""

    id: int
    plan: int
    site: Slug
    starts_at: datetime
    why: str
    state: BookingState = "waiting"
    rollout: int | None = None
    made_by: str = ""
    pinned: bool = False


class BookAll(Value):
    """Every approved plan that is not booked is booked, by one timetable."""

    model_config = example()


class LeftOut(Value):
    """An approved plan that has no place in the timetable, and why not."""

    plan: int
    site: Slug
    text: str


class BookedAll(Value):
    """What was booked, soonest first, and what was left out."""

    bookings: tuple[Booking, ...]
    left_out: tuple[LeftOut, ...]


class NewRollout(Value):
    """One release taken across a twin and its production site, the twin first.

    ``refresh_twin``: the twin is made as its site is now before it goes.
    """

    model_config = example(
        product="core/millrace",
        version="6.4.3",
        site="skerry-light",
        quiet_minutes=1200,
        why="it holds a security fix",
    )

    product: ProductId
    version: VersionText
    site: Slug
    quiet_minutes: Annotated[float, Field(ge=0)] = 20 * 60
    why: str = ""
    refresh_twin: bool = True


class Rollout(NewRollout):
    id: int
    twin: Slug
    state: RolloutState
    text: str
    made_by: str
    made_at: datetime
    task: int | None = None
    twin_run: int | None = None
    site_run: int | None = None
    quiet_until: datetime | None = None
