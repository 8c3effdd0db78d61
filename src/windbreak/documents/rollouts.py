"""Rollouts as they are read: what one would do before it is approved, and how it goes after."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import ProductId, Slug, State, Value, VersionText
from windbreak.core.values.rollouts import NewRollout, Rollout, StaysOut, Wave


class DraftMember(Value):
    """A site that would go: in which wave, what it would move, when, and why then.

    ``covers`` are the kinds that a canary covers; ``turn`` is its wave of the rest; ``migrates``:
    its database changes with it; ``starts_at`` None: no place for it, and ``why`` says why not.
    """

    site: Slug
    label: str
    host: str | None
    twin_of: Slug | None
    wave: Wave
    state: State
    targets: dict[ProductId, VersionText]
    moves: dict[str, int]
    steps: int
    minutes: int
    back: int
    due: datetime | None
    due_for: str
    weight: float
    watched: str
    urgent: bool
    turn: int = 1
    migrates: bool = False
    covers: tuple[str, ...] = ()
    starts_at: datetime | None = None
    why: str = ""
    scope: tuple[ProductId, ...] | None = None


class Bringing(Value):
    """Work for a person that a rollout brings, and on which sites."""

    text: str
    labels: tuple[str, ...]
    due_days: int | None


class RolloutDraft(Value):
    """What a rollout would do if it were approved. ``nothing``: how many sites have nothing to
    do; ``before``: those whose plan was approved before, which keep their time.

    Approving names its ``id``. ``improved`` is how much of the work for its times is done, from 0
    (a first draft by plain rules) to 1 (they are final). ``current``: nothing has changed since
    that it was made from; else it is being made again.

    ``kinds`` is how many kinds sites share, ``covered`` how many the canaries cover; ``proven``: no
    fewer canaries cover as many.
    """

    id: str = ""
    asked: NewRollout
    made_at: datetime
    improved: float = 1.0
    current: bool = True
    what: str
    where: str
    members: tuple[DraftMember, ...]
    stays_out: tuple[StaysOut, ...]
    before: tuple[Slug, ...]
    nothing: int
    moves: dict[str, int]
    held: int
    kinds: int
    covered: int
    proven: bool
    brings: tuple[Bringing, ...]


GateState = Literal["open", "quiet", "waits", "wants a word"]


class MemberView(Value):
    """A site of a rollout as it stands: booked, under way, or how its run ended.

    ``ending``: the same in two words, "as before", "put back"; "" while it has not ended.
    """

    site: Slug
    label: str
    host: str | None
    wave: Wave
    state: Literal["to be booked", "booked", "running", "done", "failed", "left out"]
    text: str
    ending: str = ""
    moves: int
    covers: tuple[str, ...] = ()
    urgent: bool = False
    turn: int = 1
    plan: int | None = None
    booking: int | None = None
    run: int | None = None
    at: datetime | None = None  # when it begins, or began
    why: str = ""


class GateView(Value):
    """A gate of a rollout: whether it is open, and if not what it waits for.

    ``quiet_since``: when the last of those it waits for ended; None while one has still to end.
    """

    id: str
    label: str
    state: GateState
    text: str
    opens: datetime | None
    quiet_since: datetime | None
    after: tuple[Slug, ...]
    before: tuple[Slug, ...]


class FailedElsewhere(Value):
    """Moves of one step that failed somewhere and that this rollout makes, while nobody has decided
    of them: ``what`` names them all.
    """

    what: str
    product: ProductId
    version: VersionText
    run: int
    text: str


class RolloutStory(Value):
    """A rollout whole: its waves, its gates, and who is not in them. ``standing`` is how far it has
    come, in a sentence.
    """

    rollout: Rollout
    title: str
    standing: str
    members: tuple[MemberView, ...]
    gates: tuple[GateView, ...]
    failed: tuple[FailedElsewhere, ...]
    stays_out: tuple[StaysOut, ...]
    at: datetime
