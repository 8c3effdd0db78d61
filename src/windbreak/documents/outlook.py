"""What would be if something were otherwise: a site's outlook, and what acts free."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.basics import ProductId, Slug, Value
from windbreak.core.values.findings import NextAct
from windbreak.core.values.reasons import Act
from windbreak.core.values.verdicts import Answer, Plan


class Supposed(Value):
    """An act taken as done: on one host or site, or (both None) wherever it can be.

    ``here`` tells whether it touches the site that was asked about.
    """

    act: Act
    host: Slug | None = None
    site: Slug | None = None
    text: str
    here: bool = True


class Difference(Value):
    """What becomes of a component, and what would become of it; None where it is absent."""

    product: ProductId
    name: str
    version: str | None
    to: str | None
    instead: str | None
    text: str


class Outlook(Value):
    """A site's verdicts and plan with some acts taken as done. Nothing is kept of it.

    ``situation`` is the key of the situation that was reasoned about, ``reasoned_at`` when.
    """

    site: Slug
    label: str
    supposed: tuple[Supposed, ...]
    answer: Answer
    plan: Plan
    changes: tuple[Difference, ...]
    situation: str
    reasoned_at: datetime


class FreedMove(Value):
    """A move that becomes possible. ``security``: it leaves a known weakness behind."""

    site: Slug
    label: str
    product: ProductId
    name: str
    version: str
    security: bool


class Alike(Value):
    """Another set of acts that frees just the same."""

    ways: tuple[NextAct, ...]
    text: str


class ActRow(Value):
    """A set of acts and what it frees across the fleet: one purchase, one request, one decision.

    ``ways`` are its operations; where one is done for each site (a seat), there is one for each,
    and ``times`` says how often that is.
    """

    ways: tuple[NextAct, ...]
    times: int
    text: str
    moves: int
    security: int
    sites: tuple[Slug, ...]
    frees: tuple[FreedMove, ...]
    suppose: tuple[str, ...]
    alike: tuple[Alike, ...] = ()
