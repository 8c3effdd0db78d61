"""The night book: everything a timetable depends on, as one document.

Source: docs/timetable.md. It is read strictly: an unknown key, a wrong type or a bad reference is a
fault with its path (see ``core.scheduling.reading``).
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag

from windbreak.core.values.basics import ALIASED, Day, Frozen, Hour, Instant, Zone
from windbreak.core.values.sites import Weekday

FORMAT = "windbreak-nightbook/1"

Id = Annotated[str, Field(min_length=1, max_length=200)]
Minutes = Annotated[int, Field(ge=0, le=60 * 24 * 28)]
Some = Annotated[int, Field(ge=1)]


class HoursWindow(Frozen):
    """Weekly hours in the site's zone; an end at or before the start is the next day's."""

    days: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
    start: Hour
    end: Hour


class RuleWindow(Frozen):
    """The days of a recurrence rule (RFC 5545) from its first on; each opens at ``start`` for so
    many minutes of real time.
    """

    model_config = ALIASED

    rrule: str
    from_: Annotated[Day, Field(alias="from")]
    start: Hour
    minutes: Annotated[int, Field(ge=1, le=60 * 24 * 7)]


def _sort(window: Any) -> str:
    ruled = isinstance(window, RuleWindow) or (isinstance(window, dict) and "rrule" in window)
    return "rule" if ruled else "hours"


BookWindow = Annotated[
    Annotated[HoursWindow, Tag("hours")] | Annotated[RuleWindow, Tag("rule")],
    Discriminator(_sort),
]


class Freeze(Frozen):
    """A stretch in which a site is left alone."""

    model_config = ALIASED

    from_: Annotated[Instant, Field(alias="from")]
    to: Instant
    reason: str = ""


class BookHost(Frozen):
    """How many sites may be worked on at one time on a host."""

    id: Id
    at_once: Some


class BookSite(Frozen):
    """A site: where it is, and when it may be worked on."""

    id: Id
    host: Id | None = None
    zone: Zone = "UTC"
    windows: tuple[BookWindow, ...] = ()
    freezes: tuple[Freeze, ...] = ()


class Watch(Frozen):
    """When somebody is there to watch, and how many jobs at a time."""

    model_config = ALIASED

    from_: Annotated[Instant, Field(alias="from")]
    to: Instant
    people: Annotated[int, Field(ge=0, le=1000)]


class Job(Frozen):
    """Work at one site. ``back``: minutes to go back, kept free in the opening but not on the host;
    ``was``: the booking it has, kept by all means where it is ``pinned``.
    """

    id: Id
    site: Id
    minutes: Annotated[Minutes, Field(ge=1)]
    back: Minutes = 0
    earliest: Instant | None = None
    due: Instant | None = None
    weight: Annotated[float, Field(ge=0, le=1e9)] = 1
    watched: bool = False
    was: Instant | None = None
    pinned: bool = False


class Gate(Frozen):
    """Jobs that begin only when others have ended, and so many quiet minutes after."""

    id: Id
    after: tuple[Id, ...]
    quiet: Minutes = 0
    before: tuple[Id, ...]
    text: str = ""


class NightBook(Frozen):
    """What a timetable is made from; ``runs_at_once`` None: no limit over everything."""

    format: Literal["windbreak-nightbook/1"]
    at: Instant
    horizon: Instant
    runs_at_once: Some | None = None
    hosts: tuple[BookHost, ...] = ()
    sites: tuple[BookSite, ...]
    watch: tuple[Watch, ...] = ()
    jobs: tuple[Job, ...]
    gates: tuple[Gate, ...] = ()
