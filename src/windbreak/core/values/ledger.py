"""The append-only record, and the events that live pages listen to."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.basics import Value


class LedgerEntry(Value):
    """One line of the record of what was decided and done."""

    id: int
    at: datetime
    who: str
    what: str
    subject: str
    why: str = ""
    result: str = ""


class Event(Value):
    """Something that happened, in order; ``kind`` is "run", "site", "feed", "booking", ..."""

    id: int
    at: datetime
    kind: str
    subject: str
    text: str
