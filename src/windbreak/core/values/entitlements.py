"""Whether a site may take a release of a product, and by which right."""

from __future__ import annotations

from typing import Literal

from windbreak.core.values.basics import Day, ProductId, Slug, Value
from windbreak.core.values.findings import NextAct

Why = Literal["ended", "not covered", "seat free", "seat elsewhere", "no seat free"]


class Lack(Value):
    """A licence that gives no right to a release here, and why that is.

    ``since`` is the day it ended, or the last on which a release may have come out; ``range`` the
    versions it covers; ``here``: the site holds a seat of it, or needs none.
    """

    licence: Slug
    label: str
    why: Why
    since: Day | None = None
    range: str = "*"
    seats: int | None = None
    here: bool = False


class Entitlement(Value):
    """The one answer to: may this site take this release, and by which right?

    ``by`` is the licence that gives it, the client's own before the agency's; None where none
    does: ``lacks`` are then those that could, the nearest first, and never another client's own.
    ``acts`` are what would bring the right.
    """

    site: Slug
    product: ProductId
    version: str
    by: Slug | None
    lacks: tuple[Lack, ...]
    text: str = ""
    acts: tuple[NextAct, ...] = ()
