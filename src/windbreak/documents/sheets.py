"""A plan as a sheet: all that somebody needs who carries it out by hand, or follows it on paper."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.basics import ProductId, Slug, Value


class SheetMove(Value):
    """One move of a step, by name. ``start`` None: it comes new; ``end`` None: it leaves."""

    product: ProductId
    name: str
    start: str | None
    end: str | None


class SheetStep(Value):
    """A step: its moves, why it stands there, how long it is reckoned to take; ``waypoint``: it
    stops short of the target.
    """

    number: int
    moves: tuple[SheetMove, ...]
    why: str
    minutes: int
    waypoint: bool
    tied: bool


class SheetErrand(Value):
    """Work for a person that the plan brings; ``blocking``: the run waits for it."""

    text: str
    due_days: int | None
    blocking: bool


class PlanSheet(Value):
    """A plan with when it runs, how long it takes, what is switched for it, and what it asks.

    ``starts_at`` None: it is not booked. ``last_step_at``: after that no step is begun, so that
    there is time to go back. ``runs``: how many runs the times are drawn from; 0: they are usual
    ones. ``page_minutes``: how long it is behind a maintenance page. ``by_hand``: what was done by
    hand to the files of what it moves, for whoever approves it to decide.
    """

    plan: int
    site: Slug
    label: str
    address: str
    client: str
    host: str
    state: str
    reckoned_at: datetime
    approved_by: str | None
    approved_at: datetime | None
    why: str
    zone: str
    starts_at: datetime | None
    ends_at: datetime | None
    last_step_at: datetime | None
    window: str
    minutes: int
    before_minutes: int
    after_minutes: int
    back_minutes: int
    page_minutes: int
    runs: int
    steps: tuple[SheetStep, ...]
    usual: str
    by_hand: tuple[str, ...]
    automatic_updates: bool | None
    caches: tuple[str, ...]
    own: tuple[str, ...]
    errands: tuple[SheetErrand, ...]
    gate: str
    looks: int
