"""The append-only record, and the events that live pages listen to."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Value
from windbreak.core.values.runs import RunState

OURSELVES = "Windbreak"  # who did what nobody decided at that moment

LedgerPart = Literal["decisions", "acts"]
"""What people decided and did, or what the service did by itself."""


class LedgerEntry(Value):
    """One line of the record of what was decided and done. ``run``: the one it tells of; ``came``:
    what that came to, on the line of its end.
    """

    id: int
    at: datetime
    who: str
    what: str
    subject: str
    why: str = ""
    result: str = ""
    run: int | None = None
    came: RunState | None = None


class LedgerAsked(Value):
    """Which lines are wanted; what is not given narrows nothing.

    ``words``: each with the subjects that are named so; a line has every word, or is about one of
    its subjects. ``wrong``: only ends of runs that did not go well.
    """

    subjects: tuple[str, ...] | None = None
    who: str | None = None
    part: LedgerPart | None = None
    since: datetime | None = None
    until: datetime | None = None
    words: tuple[tuple[str, tuple[str, ...]], ...] = ()
    wrong: bool = False


class Event(Value):
    """Something that happened, in order; ``kind`` is "run", "site", "feed", "booking", ..."""

    id: int
    at: datetime
    kind: str
    subject: str
    text: str
