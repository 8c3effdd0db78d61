"""Runs: one plan being carried out on one site, and what probes saw."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value, example

RunState = Literal["running", "waiting", "done", "put back", "restored", "stopped", "alarm"]
"""``waiting``: an errand keeps it; the site is as it was, and it goes on when that is done."""


RunPhase = Literal["before", "prepare", "steps", "after", "waiting", "ended"]


WENT_WRONG: tuple[RunState, ...] = ("put back", "restored", "alarm")


Verdict = Literal["as before", "worse", "differs"]


Pace = Literal["usual", "slow", "stuck"]


class RunNow(Value):
    """``outside_window``: the run may begin outside of the windows of its site, and is bound by
    none. ``although_it_failed``: it may make moves that failed elsewhere and wait for a word.
    """

    model_config = example(outside_window=True)

    outside_window: bool = False
    although_it_failed: bool = False


class Look(Value):
    """What one page said when it was looked at. ``marks`` are its title and headings. In a
    baseline ``seconds`` is the middle of several looks, and ``lively`` tells that what it shows
    changes by itself. ``late``: it was waited for in vain.
    """

    name: str
    where: str = ""
    lively: bool = False
    late: bool = False
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
    verdict: Verdict


class Meanwhile(Value):
    """A look at the pages of a site whose agent is silent: how many of how many are as before."""

    at: datetime
    fine: int
    of: int


class Run(Value):
    """One plan being carried out on one site. ``step`` counts from 1; 0 before the first.
    ``waiting_since``: its site has given no usable answer since then; ``waiting`` says what is
    known, ``asked`` when it was asked in vain, ``ask_at`` when it is asked next, and ``meanwhile``
    how its pages were. ``outside``: it was begun outside the site's windows, knowingly. ``signs``
    are the last signs of life of the change under way, and ``pace`` how it goes: slow past its
    usual length, stuck when there was no sign for three times that. ``surprises``: what other hands
    changed.
    ``although``: it makes moves that failed elsewhere, knowingly.
    ``reckoned``: how many seconds it was reckoned to take when it began.
    ``dropped``: its snapshot and kept folders are gone from the site. ``broke``:
    it stopped on a fault of this service, and can be taken up where it was.
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
    asked: tuple[datetime, ...] = ()
    ask_at: datetime | None = None
    meanwhile: tuple[Meanwhile, ...] = ()
    outside: bool = False
    although: bool = False
    signs: tuple[datetime, ...] = ()
    pace: Pace = "usual"
    progress: str = ""
    surprises: tuple[str, ...] = ()
    errand: int | None = None
    reckoned: int | None = None
    dropped: bool = False
    broke: bool = False
