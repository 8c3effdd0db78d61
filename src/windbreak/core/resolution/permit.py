"""Whether some moves may be made on a site as everything stands now, and what is against them.

One function over data, asked before each step of a run. It asks what planning asks: the exclusions
of each version that is moved to, the rules between members, the advisories. Not asked again is
what was decided when the plan was approved: the soak, and the way by which a version is reached.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from windbreak.core.case.candidates import Member, reasons
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.resolution.problem import Problem, Rule, compile_problem
from windbreak.core.values.reasons import Exclusion, FromExclusion, SoakExclusion
from windbreak.core.versions.version import Version, parse_version

_DECIDED = (SoakExclusion, FromExclusion)


@dataclass(frozen=True)
class Refusal:
    """What stands against a move: an exclusion, a rule that would be broken, or one of these:
    ``unknown``, nothing is known of the version any more; ``exposed``, an advisory reaches it that
    does not reach what is there.
    """

    v: int
    version: Version
    exclusion: Exclusion | None = None
    rule: Rule | None = None
    unknown: bool = False
    exposed: bool = False


@dataclass(frozen=True)
class Permit:
    """What was asked, and what stands against it; ``after`` is each member's option then."""

    problem: Problem
    after: tuple[int, ...]
    refusals: tuple[Refusal, ...]


def permit(case: Case, catalogue: Catalogue, moves: Iterable[tuple[str, str]]) -> Permit:
    """What stands against moves of some products to versions, all at once."""
    problem = compile_problem(case, catalogue)
    after = list(problem.start)
    refusals: list[Refusal] = []
    for product, text in moves:
        version = parse_version(text)
        v = problem.numbers.get(product)
        number = problem.members[v].line.number(version) if v is not None else 0
        if v is None or not number:
            refusals.append(Refusal(v if v is not None else -1, version, unknown=True))
            continue
        member = problem.members[v]
        after[v] = number
        refusals += _against(case, catalogue, member, v, number, version)
    refusals += [
        Refusal(rule.p, _version(problem, after, rule.p), rule=rule)
        for n, rule in enumerate(problem.rules)
        if n not in problem.broken and not rule.holds(after)
    ]
    return Permit(problem, tuple(after), tuple(refusals))


def _against(
    case: Case, catalogue: Catalogue, member: Member, v: int, number: int, version: Version
) -> Iterable[Refusal]:
    for exclusion in reasons(case, catalogue, member, number):
        if not isinstance(exclusion, _DECIDED):
            yield Refusal(v, version, exclusion=exclusion)
    now = member.line.exposure(member.installed, member.start)
    if member.line.exposure(version, number) > now:
        yield Refusal(v, version, exposed=True)


def _version(problem: Problem, choice: list[int], v: int) -> Version:
    version = problem.members[v].version(choice[v])
    assert version is not None  # what is absent breaks no rule of its own
    return version
