"""Rollouts: plans approved across sites, the waves they go in, and the gates between them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from windbreak.core.values.basics import Day, ProductId, Slug, State, Value, VersionText, example
from windbreak.core.values.findings import NextAct

Wave = Literal["twin", "canary", "rest"]

RolloutState = Literal["refreshing", "going", "stopped", "ended well", "ended in part"]
UNDER_WAY: tuple[RolloutState, ...] = ("refreshing", "going")

# How long it is quiet after a wave before the next one goes, in minutes.
QUIET = 20 * 60
MOST_WAVES = 6  # in which the rest goes


class NewRollout(Value):
    """What is approved, for which sites, and how it goes.

    One release (``product`` and ``version``), only what closes an advisory (``security``), or else
    everything that is ready. ``named`` is for whom, in words, where they were shown one by one
    before they were approved. For the ``sites`` that are named, those of a ``client``, those with a
    ``tag``; the fleet where none is said; ``but`` some. A twin goes with its site. ``beside`` are
    sites that were shown to stay out: they do not go, and it is kept why not. ``canaries``
    None: as they are proposed. The rest goes in so many ``waves``, each after the one before it has
    ended well and been quiet. ``refresh_twins``: each twin is made as its site is before it goes.
    ``patches_until``: up to this day patch releases of the targets go too, once they have soaked,
    to the same sites in the same waves.
    """

    model_config = example(product="core/millrace", version="6.4.3", why="it holds a security fix")

    product: ProductId | None = None
    version: VersionText | None = None
    security: bool = False
    sites: tuple[Slug, ...] = ()
    client: str | None = None
    tag: str | None = None
    but: tuple[Slug, ...] = ()
    beside: tuple[Slug, ...] = ()
    named: str = ""
    canaries: tuple[Slug, ...] | None = None
    quiet_minutes: Annotated[float, Field(ge=0)] = QUIET
    why: str = ""
    refresh_twins: bool = False
    restore_anyway: bool = False
    patches_until: Day | None = None
    waves: Annotated[int, Field(ge=1, le=MOST_WAVES)] = 1

    @model_validator(mode="after")
    def _says_what(self) -> Self:
        if (self.product is None) != (self.version is None):
            raise ValueError("a release is a product and a version; say both, or neither")
        if self.product is not None and self.security:
            raise ValueError("a release, or what closes an advisory; not both")
        return self

    @property
    def what(self) -> str:
        """What is taken, in words: "core/millrace 6.4.3", "everything ready"."""
        if self.product is not None:
            return f"{self.product} {self.version}"
        return "what closes an advisory" if self.security else "everything ready"

    @property
    def where(self) -> str:
        """For whom, in words: "the fleet", "Ness Ferries", "3 sites"."""
        if self.named:
            return self.named
        if self.sites:
            return self.sites[0] if len(self.sites) == 1 else f"{len(self.sites)} sites"
        return self.client or (f"sites tagged {self.tag}" if self.tag else "the fleet")


class ApproveRollout(NewRollout):
    """A rollout that is let go. ``draft``: the id of the draft that was shown, which says what goes
    where and when; then only ``why``, ``restore_anyway``, ``refresh_twins`` and ``patches_until``
    are read of the rest. ``without``: sites of the draft that are left out of it after all.
    """

    model_config = example(draft="9f2c41d07ab3", why="it holds a security fix")

    draft: str | None = None
    without: tuple[Slug, ...] = ()


class Member(Value):
    """A site of a rollout: its wave, its plan, and why it is left out since, where it is.

    ``targets`` are the products that move, with the version each is to reach, ``scope`` those that
    may move, None: all; ``urgent``: what it closes does not wait for the canaries; ``turn``: in
    which wave of the rest it goes.
    """

    site: Slug
    wave: Wave
    targets: dict[ProductId, VersionText] = {}
    scope: tuple[ProductId, ...] | None = None
    covers: tuple[str, ...] = ()
    urgent: bool = False
    turn: int = 1
    plan: int | None = None
    out: str = ""


class StaysOut(Value):
    """Sites that stay out for one reason, and what can be done about it."""

    sites: tuple[Slug, ...]
    labels: tuple[str, ...]
    state: State
    text: str
    act: NextAct | None = None


class Word(Value):
    """A person's word that a gate opens though a run before it did not end well."""

    gate: str
    by: str
    at: datetime
    why: str = ""


class PatchAsks(Value):
    """A patch release that would follow a rollout, but wants a person: ``text`` why."""

    product: ProductId
    version: VersionText
    text: str


class Rollout(NewRollout):
    """A rollout that was approved. ``task``: the twins are being refreshed. ``follows``: the one by
    whose word this one takes a patch release; ``asks``: the patch releases that do not go by that
    word.
    """

    id: int
    state: RolloutState
    text: str
    made_by: str
    made_at: datetime
    members: tuple[Member, ...] = ()
    stays_out: tuple[StaysOut, ...] = ()
    words: tuple[Word, ...] = ()
    task: int | None = None
    follows: int | None = None
    asks: tuple[PatchAsks, ...] = ()

    @property
    def going(self) -> tuple[Member, ...]:
        """The sites that are not left out."""
        return tuple(member for member in self.members if not member.out)


class Reason(Value):
    """Why a person decides as it does, for the ledger."""

    model_config = example(why="until the verdict is in")

    why: str = ""


class OpenGate(Value):
    """That a gate opens though a run before it did not end well. ``gate``: "canaries", or the site
    that a twin's gate keeps back.
    """

    model_config = example(gate="canaries", why="the one that failed has a plugin of its own")

    gate: str
    why: str = ""


class LeaveOut(Value):
    """A site that a rollout goes on without."""

    model_config = example(site="whinchat-radio", why="until the verdict is in")

    site: Slug
    why: str = ""


class FailedMove(Value):
    """A move that a run put back or broke on: its like waits everywhere until a person decides.

    ``decided_by`` None: nobody has yet.
    """

    id: str
    product: ProductId
    version: VersionText
    run: int
    site: Slug
    text: str
    at: datetime
    decided_by: str | None = None
    decided_at: datetime | None = None
    why: str = ""


class WaitingMove(FailedMove):
    """The same, with the sites that a word would let make it."""

    waits: tuple[str, ...] = ()
