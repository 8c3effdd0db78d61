"""All that is to be said of a resolution, as data: what becomes of each member, why not more.

Source of the rules: docs/reasoning.md. This module puts together what its neighbours find; the
sentences are made of it in ``wording``, which decides nothing.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from windbreak.core.case.candidates import newest, reasons
from windbreak.core.explanation.conflicts import conflict, further, trade
from windbreak.core.explanation.corrections import Explored, SearchTooLong, smallest
from windbreak.core.explanation.roots import Roots
from windbreak.core.resolution.problem import Problem
from windbreak.core.resolution.resolve import Resolution, outcome
from windbreak.core.values.reasons import Act, Conflict, Fact, Reason, RootReason
from windbreak.core.values.verdicts import Outcome
from windbreak.core.versions.version import Version


@dataclass(frozen=True)
class Blocking:
    """Why a member does not reach ``version``.

    ``unblock`` are the smallest sets of acts after which it could; ``searched`` is False where so
    many acts could bear on it that not all were tried. ``further`` are the facts that would stand
    in the way even if the release were a candidate, and the problem as it would be then.
    ``leads_to`` are the roots of the reasons, ``apart`` those of the further facts.
    """

    version: Version
    reasons: tuple[Reason, ...]
    unblock: tuple[tuple[Act, ...], ...] = ()
    searched: bool = True
    further: tuple[Problem, tuple[Fact, ...]] | None = None
    leads_to: tuple[RootReason, ...] = ()
    apart: tuple[RootReason, ...] = ()


@dataclass(frozen=True)
class Fate:
    """What becomes of one member; ``newest`` None where nothing is known of it."""

    v: int
    outcome: Outcome
    newest: Version | None
    blocked: Blocking | None = None


def explain(resolution: Resolution, *, acts: bool = True, roots: bool = True) -> list[Fate]:
    """What becomes of every member, by product id; with ``acts`` what would change it, with
    ``roots`` where the reasons lead.
    """
    explored: Explored | None = {} if acts else None
    fates = [_fate(resolution, v, explored) for v in range(len(resolution.problem.members))]
    return list(_rooted(resolution, fates)) if roots else fates


def _rooted(resolution: Resolution, fates: list[Fate]) -> Iterator[Fate]:
    """The fates with their roots, which may lie in another's."""
    members = resolution.problem.members
    roots = Roots(
        resolution,
        {
            fate.v: (members[fate.v].line.number(fate.blocked.version), fate.blocked.reasons)
            for fate in fates
            if fate.blocked is not None
        },
    )
    for fate in fates:
        if fate.blocked is None:
            yield fate
        else:
            further = fate.blocked.further
            apart = roots.of(fate.v, further[1]) if further else ()
            blocked = replace(fate.blocked, leads_to=roots.of(fate.v), apart=apart)
            yield replace(fate, blocked=blocked)


def _fate(resolution: Resolution, v: int, explored: Explored | None) -> Fate:
    """What becomes of one member; with acts where what was ``explored`` can be kept."""
    member = resolution.problem.members[v]
    result, target = outcome(resolution, v), resolution.version(v)
    top = newest(resolution.case, member)
    behind = target != top and result != "absent" and not member.line.is_runtime
    blocked = _blocking(resolution, v, top, explored) if behind and top else None
    return Fate(v, result, top, blocked)


def _blocking(
    resolution: Resolution, v: int, version: Version, explored: Explored | None
) -> Blocking:
    case, problem = resolution.case, resolution.problem
    member = problem.members[v]
    number = member.line.number(version)
    if not member.candidates >> number & 1:
        kept_out = reasons(case, problem.catalogue, member, number)
        sets, searched = _unblock(resolution, v, number, explored, ())
        return Blocking(version, kept_out, sets, searched, further(resolution, v, number))
    traded = trade(resolution, v, number)
    if traded is not None:
        return Blocking(version, (traded,))
    facts = conflict(problem, v, number)
    sets, searched = _unblock(resolution, v, number, explored, facts)
    return Blocking(version, (Conflict(facts=facts),), sets, searched)


def _unblock(
    resolution: Resolution,
    v: int,
    number: int,
    explored: Explored | None,
    facts: tuple[Fact, ...],
) -> tuple[tuple[tuple[Act, ...], ...], bool]:
    if explored is None:
        return (), True
    problem = resolution.problem
    product = problem.members[v].product
    try:
        return tuple(smallest(resolution.case, problem, product, number, explored, facts)), True
    except SearchTooLong:
        return (), False
