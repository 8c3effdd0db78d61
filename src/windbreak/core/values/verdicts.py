"""What the reasoning says of a site: its verdicts and its plan, as data with their sentences.

The sentences (``text``, ``why``) stand beside the data and are made last, by ``wording``; nothing
is ever read back out of them.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import ALIASED, Frozen, Value
from windbreak.core.values.reasons import Act, Objective, Reason, Way

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
    """Acts after which the version is part of an allowed choice."""

    acts: tuple[Act, ...]
    text: str


class Blocked(Frozen):
    """Why a component does not reach ``version``; ``text`` is the whole in one or two sentences."""

    version: str
    text: str
    reasons: tuple[ToldReason, ...]
    unblock: tuple[ActSet, ...] = ()
    searched: bool = True  # False: so many acts could bear on it that not all were tried


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
    product: str
    from_: Annotated[str | None, Field(alias="from")]
    to: str
    by: Way | None

    model_config = ALIASED


class PlannedStep(Frozen):
    """A step with what put it there. ``waypoint``: some move of it stops short of its target."""

    moves: tuple[PlannedMove, ...]
    why: str
    waypoint: bool = False


class Stuck(Frozen):
    product: str
    text: str


class Answer(Frozen):
    """The best choice for a case, told."""

    site: str
    objective: Objective
    verdicts: tuple[Verdict, ...]


class Plan(Frozen):
    """The ordered steps, told."""

    site: str
    combined: int
    steps: tuple[PlannedStep, ...]
    stuck: tuple[Stuck, ...] = ()
