"""What stands against a step now, in words."""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.case.situation import Case
from windbreak.core.resolution.permit import Permit, Refusal
from windbreak.core.resolution.resolve import Resolution
from windbreak.wording.reasons import tell
from windbreak.wording.steps import broken_text


def refusal_texts(case: Case, permit: Permit) -> Iterator[str]:
    """Each thing that stands against it, as a sentence."""
    resolution = Resolution(case, permit.problem, permit.after)
    for refusal in permit.refusals:
        yield _text(resolution, permit, refusal)


def _text(resolution: Resolution, permit: Permit, refusal: Refusal) -> str:
    problem, version = permit.problem, refusal.version
    if refusal.v < 0:
        return f"nothing is known of the product of {version} any more."
    member = problem.members[refusal.v]
    name = problem.catalogue.label(member.product)
    if refusal.exclusion is not None:
        return f"{name}: {tell(resolution, member, version, refusal.exclusion)}"
    if refusal.rule is not None:
        rule, after = refusal.rule, permit.after
        ends = [(w, problem.members[w].version(after[w])) for w in (rule.p, rule.q) if w >= 0]
        if len(ends) < 2:
            other = problem.catalogue.label(rule.object)
            return f"{name} {version} needs {other}, which is not on the site."
        return f"{broken_text(problem, rule, ends[0], ends[1])}."
    if refusal.exposed:
        return f"an advisory reaches {name} {version}, and what is there it does not."
    return f"{name} {version} is no longer known."
