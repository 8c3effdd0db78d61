"""A run as it is read: its steps, what the probes saw, its journal; and the matter it left."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Value
from windbreak.core.values.matters import Debt, Matter, WayOut
from windbreak.core.values.runs import JournalEntry, Run, Seen


class NamedMove(Value):
    """One product's move in a step, by name; ``start`` None: it was absent."""

    name: str
    start: str | None
    end: str


class RunStep(Value):
    """A step of a run as it stands. ``title`` is its moves in words."""

    number: int
    title: str
    moves: tuple[NamedMove, ...]
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
    matter: Matter | None = None
    owed: tuple[Debt, ...] = ()


class MatterStory(Value):
    """A matter with what is owed to its site, and the ways out as they stand now."""

    matter: Matter
    owed: tuple[Debt, ...]
    ways: tuple[WayOut, ...]
