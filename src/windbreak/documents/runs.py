"""A run as it is read: its steps, what the probes saw, its journal."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Value
from windbreak.core.values.runs import JournalEntry, Run, Seen


class RunStep(Value):
    """A step of a run as it stands."""

    number: int
    title: str
    why: str
    state: Literal["to come", "running", "done", "failed", "put back"]
    started_at: datetime | None = None
    ended_at: datetime | None = None
    seen: tuple[Seen, ...] = ()


class RunStory(Value):
    """A run with its steps, what the probes saw, and its journal."""

    run: Run
    steps: tuple[RunStep, ...]
    seen: tuple[Seen, ...]
    seen_after: int
    journal: tuple[JournalEntry, ...]
    as_it_was: str
