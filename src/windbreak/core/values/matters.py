"""What a run leaves behind: what is owed to its site, and matters that wait for a person."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Instant, Slug, Value, example

DebtKind = Literal["updates", "cache", "plugin", "page"]
WayOutAct = Literal[
    "put-back-step",
    "put-back-all",
    "restore",
    "take-page-away",
    "accept",
    "go-on",
    "try-again",
    "abandon",
]


class CameIn(Value):
    """Something that was written on a site: an order, a comment, a page. ``kind`` as the agent
    counts it ("orders"); ``name`` its number or title; ``amount`` as it is shown there.
    """

    kind: str
    at: Instant
    name: str
    text: str = ""
    amount: str = ""


class Debt(Value):
    """Something that a run switched, and that is to be as it was. ``was``: whether it was on, or
    the maintenance page up; ``label`` names it in words. Paid only when it was read back.
    """

    id: int
    site: Slug
    run: int
    kind: DebtKind
    name: str = ""
    label: str = ""
    was: bool
    since: datetime
    change: str | None = None
    tries: int = 0
    paid_at: datetime | None = None

    @property
    def key(self) -> tuple[DebtKind, str]:
        return self.kind, self.name


class Doing(Value):
    """A way out that is being taken: by whom and why."""

    act: WayOutAct
    by: str
    why: str
    at: datetime


class Matter(Value):
    """A run that ended badly, until a person closes it. Its number is the run's.

    ``text`` is what happened; ``told`` what the last way out that was taken came to, and ``taken``
    how many were.
    """

    id: int
    site: Slug
    text: str
    opened_at: datetime
    doing: Doing | None = None
    taken: int = 0
    told: str = ""
    closed_at: datetime | None = None
    closed_by: str | None = None
    how: WayOutAct | None = None
    why: str = ""


class TakeWayOut(Value):
    """Which way out of a matter is taken, and why."""

    model_config = example(act="accept", why="the white pages are mended by hand")

    act: WayOutAct
    why: str


class WayOut(Value):
    """One way out of a matter, as it stands now: what it does and what is lost, or why not.
    ``seconds``: how long it takes, about; ``lost``: what is lost, one by one, as its agent tells.
    """

    act: WayOutAct
    label: str
    text: str
    loses: tuple[str, ...] = ()
    possible: bool = True
    closes: bool = True
    seconds: int = 0
    lost: tuple[CameIn, ...] = ()
