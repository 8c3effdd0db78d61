"""The answers told: verdicts with why not and what would change it, and plans with their whys.

Source of the rules: docs/reasoning.md. This module puts together what the others find (see
blockers, unblock, whys) and say (see wording); its values are the API's.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated

from pydantic import Field

from windbreak.core.acts import Act
from windbreak.core.blockers import Conflict, Fact, Reason, Trade, conflict, further, trade
from windbreak.core.candidates import Way, newest, reasons
from windbreak.core.case import Frozen, Release
from windbreak.core.order import Order
from windbreak.core.resolve import Objective, Outcome, Resolution, outcome
from windbreak.core.unblock import Explored, SearchTooLong, smallest
from windbreak.core.versions import Version
from windbreak.core.whys import stuck_text, why
from windbreak.core.wording import counted, day, sentence, tell, tell_acts

__all__ = ["Answer", "Blocked", "Plan", "Verdict", "answer", "counted", "day", "plan"]


class Told(Frozen):
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
    reasons: tuple[Told, ...]
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

    model_config = Release.model_config


class PlannedMove(Frozen):
    product: str
    from_: Annotated[str | None, Field(alias="from")]
    to: str
    by: Way | None

    model_config = Release.model_config


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


def answer(resolution: Resolution, *, acts: bool = True) -> Answer:
    """Tell a resolution: a verdict for every component and addition, by product id."""
    explored: Explored = {}
    members = range(len(resolution.problem.members))
    return Answer(
        site=resolution.case.site.id,
        objective=resolution.objective,
        verdicts=tuple(verdict(resolution, v, explored if acts else None) for v in members),
    )


def verdict(resolution: Resolution, v: int, explored: Explored | None) -> Verdict:
    """Tell what becomes of one member; with acts where what was ``explored`` can be kept."""
    member = resolution.problem.members[v]
    result, target = outcome(resolution, v), resolution.version(v)
    top = newest(resolution.case, member)
    behind = target != top and result != "absent" and not member.line.is_runtime
    return Verdict(
        product=member.product,
        from_=member.component.version if member.component else None,
        to=str(target) if target else None,
        newest=str(top) if top else None,
        outcome=result,
        blocked=_blocked(resolution, v, top, explored) if behind and top else None,
    )


def _blocked(
    resolution: Resolution, v: int, version: Version, explored: Explored | None
) -> Blocked:
    case, problem = resolution.case, resolution.problem
    member = problem.members[v]
    number = member.line.number(version)
    found: tuple[Reason, ...] = reasons(case, problem.catalogue, member, number)
    traded: Trade | None = None
    facts: tuple[Fact, ...] = ()
    if not found:
        traded = trade(resolution, v, number)
        facts = conflict(problem, v, number) if traded is None else ()
        found = (traded or Conflict(facts=facts),)
    told = tuple(Told(reason=r, text=tell(resolution, member, version, r)) for r in found)
    unblock: tuple[ActSet, ...] = ()
    searched = True
    if explored is not None and traded is None:
        try:
            sets = smallest(case, problem, member.product, number, explored, facts)
            unblock = tuple(
                ActSet(acts=one, text=tell_acts(problem.catalogue, case.day, one)) for one in sets
            )
        except SearchTooLong:
            searched = False
    texts = [one.text for one in told]
    kept_out = not member.candidates >> number & 1
    more = further(resolution, v, number) if kept_out else None
    if more is not None:
        then = Resolution(case, more[0], resolution.choice)
        told_then = tell(then, member, version, Conflict(facts=more[1]))
        texts.append(f"Apart from that, {told_then}")
    return Blocked(
        version=str(version),
        text=sentence(resolution, v, version, texts),
        reasons=told,
        unblock=unblock,
        searched=searched,
    )


def plan(order: Order) -> Plan:
    """Tell an order: each step with a ``why`` that names the real cause."""
    return Plan(
        site=order.resolution.case.site.id,
        combined=order.combined,
        steps=tuple(_planned(order, n) for n in range(len(order.steps))),
        stuck=tuple(
            Stuck(product=order.resolution.problem.members[v].product, text=stuck_text(order, v))
            for v in order.stuck
        ),
    )


def _planned(order: Order, n: int) -> PlannedStep:
    step = order.steps[n]
    choice = order.resolution.choice
    return PlannedStep(
        moves=tuple(
            PlannedMove(
                product=m.product,
                from_=str(m.start) if m.start else None,
                to=str(m.end),
                by=m.by,
            )
            for m in step.moves
        ),
        why=why(order, n),
        waypoint=any(step.after[m.v] != choice[m.v] for m in step.moves),
    )


def step_title(step: PlannedStep, names: Mapping[str, str]) -> str:
    """A step in words: "Millrace 6.3.6 → 6.4.3"."""
    return " with ".join(
        f"{names.get(m.product, m.product)} {m.from_ or 'absent'} → {m.to}" for m in step.moves
    )
