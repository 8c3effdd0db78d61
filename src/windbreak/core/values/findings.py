"""Findings: what wants attention, with its weight, its deadline and its next act."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import Day, State, Value, example

Weight = Literal["critical", "high", "medium", "low"]


class NextAct(Value):
    """The next act for a finding, as data: what is done, and on what; ``label`` are its words.

    Each surface makes its own command or address of it (see ``wording.acts``).
    """

    act: str
    on: dict[str, str] = {}
    label: str


class SnoozeFinding(Value):
    """Until when a finding is put aside; dismissed is not solved, so it always has an end."""

    model_config = example(until="2026-12-01", why="the client answers after the fair")

    until: Day
    why: Annotated[str, Field(min_length=1)]


class Snooze(SnoozeFinding):
    by: str
    at: datetime


class Finding(Value):
    """Something that wants attention; ``id`` is made of kind and subject, so it opens once.

    While it is ``snoozed`` it is listed apart; it closes by itself when its cause is gone.
    """

    id: str
    kind: str
    state: State
    weight: Weight
    subject: str
    subject_label: str
    headline: str
    text: str
    act: NextAct
    opened_at: datetime
    deadline: datetime | None = None
    snoozed: Snooze | None = None
