"""The ledger as it is read, and what a client is told of a month."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value
from windbreak.core.values.ledger import LedgerEntry

LedgerAbout = Literal["site", "product", "licence", "feed", "other"]


class LedgerLine(LedgerEntry):
    """A line with what it is about: the subject's name, and which kind of thing that is."""

    label: str
    about: LedgerAbout


class LedgerSummary(Value):
    """How many lines there are, how many are wanted, how many of these are ends of runs that did
    not go well; who may be asked for, and when the first line was written.
    """

    lines: int
    wanted: int
    wrong: int
    people: tuple[str, ...]
    clients: tuple[str, ...]
    since: datetime | None


class ReportLine(Value):
    """What was done on a day, in the client's words."""

    day: date
    text: str


class SiteReport(Value):
    """A month of one site. ``head`` is what happened in a sentence or two; ``to_come``, ``left``
    and ``asked`` are sentences, none where there is nothing to say.
    """

    site: Slug
    label: str
    head: str
    done: tuple[ReportLine, ...]
    seen: tuple[ReportLine, ...]
    to_come: tuple[str, ...]
    left: tuple[str, ...]
    asked: tuple[str, ...]


class ClientReport(Value):
    """What a client is told of a month: written from the record, naming no other client and no
    account.
    """

    client: str
    month: str
    first: date
    last: date
    sites: tuple[SiteReport, ...]
    text: str
