"""Runs: one plan being carried out on one site, its journal, and what probes saw."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from windbreak.core.values.basics import Slug, Value

RunState = Literal["running", "done", "put back", "restored", "stopped", "alarm"]


RunPhase = Literal["before", "prepare", "steps", "after", "ended"]


WENT_WRONG: tuple[RunState, ...] = ("put back", "restored", "alarm")


EntryState = Literal["meant", "done", "failed", "put back", "noted"]


class Look(Value):
    """What one page said when it was looked at. ``marks`` are its title and headings."""

    name: str
    status: int | None
    seconds: float
    bytes: int
    marks: tuple[str, ...] = ()
    faults: tuple[str, ...] = ()


class Probe(Value):
    """A look at a site: its pages past every cache, its editor, its counts and its error log.

    ``earlier`` are the errors that were logged before this look began.
    """

    at: datetime
    looks: tuple[Look, ...]
    editor_blocks: int | None
    counts: dict[str, int]
    settings: str
    errors: tuple[str, ...]
    earlier: tuple[str, ...] = ()
    written: str


class Seen(Value):
    """One line of a probe held against the baseline."""

    name: str
    before: str
    now: str
    verdict: Literal["as before", "worse", "differs"]


class JournalEntry(Value):
    """One line of what a run meant to do and did."""

    id: int
    run: int
    at: datetime
    step: int | None
    act: str
    state: EntryState
    change: str | None = None
    text: str = ""
    detail: dict[str, Any] = {}


class Run(Value):
    """One plan being carried out on one site. ``step`` counts from 1; 0 before the first.
    ``waiting_since``: its site has given no usable answer since then; ``waiting`` says what is
    known.
    """

    id: int
    plan: int
    site: Slug
    state: RunState
    phase: RunPhase
    step: int
    steps: int
    text: str
    started_at: datetime
    ended_at: datetime | None = None
    last_sign_at: datetime
    by: str = ""
    stop_asked: bool = False
    waiting_since: datetime | None = None
    waiting: str = ""
