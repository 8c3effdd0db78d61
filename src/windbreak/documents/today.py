"""What is decided and done: plans, bookings, rollouts, runs, findings, the ledger. Values only."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.basics import Value
from windbreak.core.values.bookings import Booking
from windbreak.core.values.findings import Finding, NextAct
from windbreak.documents.sites import SiteSummary, Totals


class Beginning(Value):
    """One thing to do before the first plan, and what it is for."""

    act: NextAct
    why: str
    done: bool


class Today(Value):
    """What wants attention, what is put aside, what is booked, and how old the facts are."""

    at: datetime
    findings: tuple[Finding, ...]
    asleep: tuple[Finding, ...] = ()
    sites: tuple[SiteSummary, ...]
    totals: Totals
    bookings: tuple[Booking, ...]
    feeds: tuple[tuple[str, str, datetime | None], ...]
    drives: bool = True
    beginnings: tuple[Beginning, ...] = ()  # while something needed is missing
