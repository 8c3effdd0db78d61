"""What the reasoning says of a site: its verdicts and its plan, as data with their sentences.

The sentences (``text``, ``why``) stand beside the data and are made last, by ``wording``; nothing
is ever read back out of them.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import ALIASED, Frozen, Value
from windbreak.core.values.findings import NextAct
from windbreak.core.values.reasons import Act, Objective, Reason, RootReason, Way
from windbreak.core.values.roots import Root

Outcome = Literal["move", "part", "current", "held", "stay", "add", "absent"]


class Newest(Value):
    """Four versions; None where the answer does not arise. ``carried_by`` is the theme."""

    maker: str | None
    carried: str | None = None
    carried_by: str | None = None
    licence: str | None
    policy: str | None


class ToldReason(Frozen):
    """A reason and its sentence."""

    reason: Reason
    text: str


class ActSet(Frozen):
    """Acts after which the version is part of an allowed choice.

    ``ways`` are the same acts as things that somebody can do here, each with its command and its
    page; ``brings`` is the version, where that is nearer than the newest.
    """

    acts: tuple[Act, ...]
    text: str
    ways: tuple[NextAct, ...] = ()
    brings: str | None = None


class Apart(Frozen):
    """What would stand in the way even if the release were to be had."""

    text: str
    leads_to: tuple[RootReason, ...]


class Blocked(Frozen):
    """Why a component does not reach ``version``; ``text`` is the whole in one or two sentences.

    ``leads_to`` is where the reasons lead; ``roots`` are the same as they are called here.
    """

    version: str
    text: str
    reasons: tuple[ToldReason, ...]
    unblock: tuple[ActSet, ...] = ()
    searched: bool = True  # False: so many acts could bear on it that not all were tried
    leads_to: tuple[RootReason, ...] = ()
    apart: Apart | None = None
    roots: tuple[Root, ...] = ()


class Verdict(Frozen):
    """What the reasoning says of one component or addition; None where it is absent."""

    product: str
    from_: Annotated[str | None, Field(alias="from")]
    to: str | None
    newest: str | None
    outcome: Outcome
    blocked: Blocked | None = None

    model_config = ALIASED


class PlannedMove(Frozen):
    """``from`` None: it comes new; ``to`` None: it leaves the site."""

    product: str
    from_: Annotated[str | None, Field(alias="from")]
    to: str | None
    by: Way | None

    model_config = ALIASED


class PlannedStep(Frozen):
    """A step with what put it there. ``waypoint``: some move of it stops short of its target;
    ``tied``: something keeps it in its place, and not the usual order alone.
    """

    moves: tuple[PlannedMove, ...]
    why: str
    waypoint: bool = False
    tied: bool = True

    @property
    def leaving(self) -> tuple[str, ...]:
        """What leaves the site in it."""
        return tuple([move.product for move in self.moves if move.to is None])


class Stuck(Frozen):
    product: str
    text: str


class Broken(Frozen):
    """Two things that stand on the site and do not go together, as it is today; ``mended`` where
    the best choice puts it right.
    """

    a: str
    b: str
    text: str
    mended: bool


class Answer(Frozen):
    """The best choice for a case, told; ``broken`` is what does not go together today."""

    site: str
    objective: Objective
    verdicts: tuple[Verdict, ...]
    broken: tuple[Broken, ...] = ()


class Plan(Frozen):
    """The ordered steps, told; ``usual`` says of those that nothing ties why they stand where they
    do, once for all.
    """

    site: str
    combined: int
    steps: tuple[PlannedStep, ...]
    stuck: tuple[Stuck, ...] = ()
    usual: str = ""
