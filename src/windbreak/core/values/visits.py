"""What a visitor sees of a site, apart from what its agent says."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value

PagesState = Literal["fine", "broken", "unreachable", "not looked"]
WRONG: tuple[PagesState, ...] = ("broken", "unreachable")


class MemberVisit(Value):
    """The page of one site of a network as it was seen last; ``where`` is its address on the site,
    as "/north-school/".
    """

    where: str
    state: PagesState
    reason: str


class Visit(Value):
    """A site's pages as they were seen last from outside, past caches. ``id`` is the site's;
    ``reason`` a sentence; ``since``: when they were first seen so. ``members``: each site of its
    network, where it is one; ``state`` is the worst of all.
    """

    id: Slug
    state: PagesState = "not looked"
    reason: str = "Nobody has looked at its pages yet."
    since: datetime | None = None
    looked_at: datetime | None = None
    members: tuple[MemberVisit, ...] = ()
