"""The nights as they are read: what is booked, what could be, what is not and why."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value
from windbreak.core.values.rollouts import StaysOut, Wave

BookedState = Literal["approved", "not yet", "running", "done", "failed"]


class NightBooking(Value):
    """Work at a site in a night: approved, not approved yet (then it has no booking), or as its run
    went. ``why`` says why then; ``reckoned`` how long it takes and what that is drawn from.
    """

    site: Slug
    label: str
    host: str | None
    twin: bool
    state: BookedState
    starts_at: datetime
    ends_at: datetime
    back_until: datetime
    moves: int
    why: str
    reckoned: str
    plan: int | None = None
    booking: int | None = None
    run: int | None = None
    rollout: int | None = None
    wave: Wave | None = None
    pinned: bool = False
    due: datetime | None = None
    due_for: str = ""
    watched: str = ""


class Opened(Value):
    """When some site of a host may be worked on."""

    host: str | None
    start: datetime
    end: datetime


class Frozen(Value):
    """When what is left alone: a site, all of a host or a client, or (none of them) the fleet."""

    freeze: int
    start: datetime
    end: datetime
    where: str
    site: Slug | None
    host: str | None
    client: str | None
    hosts: tuple[str | None, ...]  # of the sites that it is for
    reason: str


class NightGate(Value):
    """A gate between two waves: closed from when to when, and what it waits for. ``waits``: for a
    word of a person, and ``end`` is when it could open at the soonest.
    """

    rollout: int
    label: str
    start: datetime
    end: datetime
    waits: bool
    text: str


class NightHost(Value):
    """A host as a lane; ``id`` None: the sites on no host of ours."""

    id: str | None
    name: str
    at_once: int | None
    sites: int


class LeftOutSites(Value):
    """Approved sites that have no night, for one reason: why not, and what would help."""

    plans: tuple[int, ...]
    sites: tuple[Slug, ...]
    labels: tuple[str, ...]
    text: str


class Calendar(Value):
    """The nights from a day on. ``booked``, ``unbooked`` and ``clear`` count sites: those that are
    in these nights, those without a night, and those with nothing to do. ``proposed``: whether
    what is not approved yet has been placed as well; where not, ``unbooked`` holds ``clear``.
    ``proposed_at``: when that was worked out; ``final``: as things are now, else it is being worked
    out again.
    """

    at: datetime
    start: datetime
    end: datetime
    hosts: tuple[NightHost, ...]
    bookings: tuple[NightBooking, ...]
    opened: tuple[Opened, ...]
    frozen: tuple[Frozen, ...]
    gates: tuple[NightGate, ...]
    left_out: tuple[LeftOutSites, ...]
    stays_out: tuple[StaysOut, ...]
    clear: int
    booked: int
    unbooked: int
    proposed: bool
    proposed_at: datetime | None = None
    final: bool = True
