"""That something which is looked at again and again became another: the history of looks."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value

TurnOf = Literal["pages", "member", "check"]


class Turn(Value):
    """Since ``at`` something of a site is in a state. ``name`` is the member's address on the site,
    or the health check's id; "" for its pages as a whole. ``gone``: it is not told of any more.
    """

    id: int
    site: Slug
    of: TurnOf
    name: str = ""
    at: datetime
    state: str
    text: str = ""


GONE = "gone"
