"""A run as it is read: its steps, what the probes saw, its journal; and the matter it left."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Value
from windbreak.core.values.errands import Errand
from windbreak.core.values.journal import ActKind, Box, EntryState, JournalEntry
from windbreak.core.values.matters import CameIn, Debt, Matter, WayOut
from windbreak.core.values.runs import Pace, Run, Seen


class NamedMove(Value):
    """One product's move in a step, by name; ``start`` None: it was absent; ``end``: it leaves."""

    name: str
    start: str | None
    end: str | None


class Happened(Value):
    """Something that followed when a step failed: what was seen broken, what was taken back, the
    maintenance page put up, or what was seen as before again.
    """

    at: datetime
    kind: Literal["broken", "back", "page", "fine"]
    text: str


class RunStep(Value):
    """A step of a run as it stands: its moves in words, ``brings`` what comes with it."""

    number: int
    title: str
    moves: tuple[NamedMove, ...]
    why: str
    state: Literal["to come", "running", "done", "failed", "put back"]
    brings: tuple[str, ...] = ()
    started_at: datetime | None = None
    ended_at: datetime | None = None
    seen: tuple[Seen, ...] = ()
    happened: tuple[Happened, ...] = ()


class Pacing(Value):
    """The change that is under way: since when, how long it usually takes, its signs of life."""

    act: str
    began_at: datetime
    usual_seconds: float
    state: Pace
    progress: str = ""
    signs: tuple[datetime, ...] = ()


class WindowLeft(Value):
    """The window that is open at a site: until when a run may go on, so that its steps and the way
    back are over before it closes.
    """

    opens: datetime
    closes: datetime
    latest: datetime
    steps_minutes: int
    back_minutes: int


class PicturePair(Value):
    """A page before and after, at one width, ``height`` pixels tall at the most. ``boxes``: where
    the two differ; ``lively``: where it changed by itself before the run.
    """

    page: str
    width: int
    height: int
    before: str
    after: str | None = None
    boxes: tuple[Box, ...] = ()
    lively: tuple[Box, ...] = ()


class JournalLine(Value):
    """One line of a run's journal. An act is its ``kind`` and what it is done to: ``step`` counts
    from 1, ``name`` tells apart what is the same otherwise, ``leg`` counts what is done anew after
    an errand, ``turn`` what is done again. ``act`` says it in words; ``code`` why it failed.
    """

    id: int
    at: datetime
    kind: ActKind
    step: int | None
    product: str | None
    name: str | None
    leg: int
    turn: int
    state: EntryState
    act: str
    text: str
    change: str | None
    code: str | None

    @classmethod
    def of(cls, entry: JournalEntry, act: str) -> JournalLine:
        """A line as it is read, its act in words."""
        return cls(act=act, **entry.model_dump(exclude={"run", "detail"}))


class RunStory(Value):
    """A run with its steps, what the probes saw, and its journal. ``window``: how much is left of
    the site's, while it goes; ``told_at``: when a person is told that it waits for its site;
    ``lost``: what was written on it since the snapshot, and lost when that was restored.
    """

    run: Run
    steps: tuple[RunStep, ...]
    seen: tuple[Seen, ...]
    seen_after: int
    journal: tuple[JournalLine, ...]
    as_it_was: str
    pace: Pacing | None = None
    window: WindowLeft | None = None
    told_at: datetime | None = None
    errands: tuple[Errand, ...] = ()
    pictures: tuple[PicturePair, ...] = ()
    matter: Matter | None = None
    owed: tuple[Debt, ...] = ()
    lost: tuple[CameIn, ...] = ()


class Fact(Value):
    """Something about a site as it stands now: "a visitor sees now", "503, the maintenance page".
    ``since`` belongs to the name, ``at`` to what ``aside`` says in a few words ("the last at");
    ``bad``: it is not as it should be.
    """

    name: str
    text: str
    since: datetime | None = None
    aside: str = ""
    at: datetime | None = None
    bad: bool = False


class MatterStory(Value):
    """A matter with what is owed to its site, and the ways out as they stand now. ``head`` says
    what it is about, ``facts`` how the site stands, looked at and asked ``at`` this instant;
    ``unless`` what happens if nobody acts.
    """

    matter: Matter
    owed: tuple[Debt, ...]
    ways: tuple[WayOut, ...]
    head: str
    at: datetime
    facts: tuple[Fact, ...] = ()
    unless: str = ""
