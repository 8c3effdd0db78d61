"""What a visitor sees of a site, apart from what its agent says."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value

PagesState = Literal["fine", "broken", "unreachable", "not looked"]
WRONG: tuple[PagesState, ...] = ("broken", "unreachable")


class Visit(Value):
    """A site's pages as they were seen last from outside, past caches. ``id`` is the site's;
    ``reason`` a sentence; ``since``: when they were first seen so.
    """

    id: Slug
    state: PagesState = "not looked"
    reason: str = "Nobody has looked at its pages yet."
    since: datetime | None = None
    looked_at: datetime | None = None
