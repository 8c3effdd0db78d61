"""The answers told: verdicts with why not and what would change it, and plans with their whys.

Source of the rules: docs/reasoning.md. What is told was decided in ``core.explanation``; here it is
put into the values that are kept and go over the API, with their sentences.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import partial

from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.explanation.explain import Blocking, Fate, explain
from windbreak.core.fleet import by_situation, undisturbed
from windbreak.core.ordering.order import Order, order
from windbreak.core.resolution.resolve import Resolution, resolve
from windbreak.core.values.reasons import Conflict
from windbreak.core.values.verdicts import (
    ActSet,
    Answer,
    Apart,
    Blocked,
    Broken,
    Plan,
    PlannedMove,
    PlannedStep,
    Stuck,
    ToldReason,
    Verdict,
)
from windbreak.wording.reasons import sentence, tell, tell_acts
from windbreak.wording.steps import broken_today, stuck_text, why
from windbreak.wording.words import listed


@dataclass(frozen=True)
class Asked:
    """How much is wanted of a situation: the acts that would help, and the ordered steps."""

    acts: bool = False
    plans: bool = False


@dataclass(frozen=True)
class Answered:
    """What is told of a situation; ``plan`` None where only the verdicts were asked for."""

    answer: Answer
    plan: Plan | None = None


def answered(case: Case, catalogue: Catalogue, asked: Asked) -> Answered:
    """Reason about one case with a shared catalogue, and tell it."""
    resolution = resolve(case, catalogue.beside(case))
    verdicts = answer(resolution, acts=asked.acts)
    return Answered(verdicts, plan(order(resolution)) if asked.plans else None)


def answers(
    catalogue: Catalogue,
    cases: Iterable[Case],
    *,
    acts: bool = False,
    executor: Executor | None = None,
) -> Iterator[tuple[Case, Answer]]:
    """The answer of each case, in their order; equal situations are reasoned about once."""
    work = partial(answered, asked=Asked(acts=acts))
    with undisturbed():
        rows = [
            (case, _for_site(result.answer, case.site.id))
            for case, result in by_situation(catalogue, cases, work, executor)
        ]
    yield from rows


def _for_site(alike: Answer, site: str) -> Answer:
    """The answer of another site in the same situation."""
    return alike if alike.site == site else alike.model_copy(update={"site": site})


def answer(resolution: Resolution, *, acts: bool = True) -> Answer:
    """Tell a resolution: a verdict for every component and addition, by product id."""
    return Answer(
        site=resolution.case.site.id,
        objective=resolution.objective,
        verdicts=tuple(
            [_verdict(resolution, fate) for fate in explain(resolution, acts=acts, roots=acts)]
        ),
        broken=tuple(_broken(resolution)),
    )


def _broken(resolution: Resolution) -> Iterator[Broken]:
    """What does not go together today, each pair once."""
    problem = resolution.problem
    still = problem.violated(resolution.choice)
    pairs: dict[frozenset[str], list[int]] = {}
    for number in sorted(problem.broken):
        rule = problem.rules[number]
        pairs.setdefault(frozenset((rule.subject, rule.object)), []).append(number)
    for numbers in pairs.values():
        rule = problem.rules[numbers[0]]
        ends = [
            (v, problem.members[v].version(problem.start[v]) if v >= 0 else None)
            for v in (rule.p, rule.q)
        ]
        text = f"{broken_today(problem, rule, *ends)}."
        mended = still.isdisjoint(numbers)
        yield Broken(a=rule.subject, b=rule.object, text=text, mended=mended)


def _verdict(resolution: Resolution, fate: Fate) -> Verdict:
    member, target = resolution.problem.members[fate.v], resolution.version(fate.v)
    return Verdict(
        product=member.product,
        from_=member.component.version if member.component else None,
        to=str(target) if target else None,
        newest=str(fate.newest) if fate.newest else None,
        outcome=fate.outcome,
        blocked=_blocked(resolution, fate.v, fate.blocked) if fate.blocked else None,
    )


def _blocked(resolution: Resolution, v: int, blocking: Blocking) -> Blocked:
    case, problem = resolution.case, resolution.problem
    member, version = problem.members[v], blocking.version
    reasons = tuple(
        ToldReason(reason=reason, text=tell(resolution, member, version, reason))
        for reason in blocking.reasons
    )
    texts = [exclusion.text for exclusion in reasons]
    apart = None
    if blocking.further is not None:
        then, facts = blocking.further
        supposed = Resolution(case, then, resolution.choice)
        text = tell(supposed, member, version, Conflict(facts=facts))
        texts.append(f"Apart from that, {text}")
        apart = Apart(text=text, leads_to=blocking.apart)
    return Blocked(
        version=str(version),
        text=sentence(resolution, v, version, texts),
        reasons=reasons,
        unblock=tuple(
            ActSet(acts=acts, text=tell_acts(problem.catalogue, case.day, acts))
            for acts in blocking.unblock
        ),
        searched=blocking.searched,
        leads_to=blocking.leads_to,
        apart=apart,
    )


def plan(order: Order) -> Plan:
    """Tell an order: each step with a ``why`` that names the real cause."""
    steps = tuple(_planned(order, n) for n in range(len(order.steps)))
    return Plan(
        site=order.resolution.case.site.id,
        combined=order.combined,
        steps=steps,
        usual=_usual(order, [n for n, step in enumerate(steps, 1) if not step.tied]),
        stuck=tuple(
            Stuck(product=order.resolution.problem.members[v].product, text=stuck_text(order, v))
            for v in order.stuck
        ),
    )


def _usual(order: Order, untied: list[int]) -> str:
    """Why steps that nothing ties stand where they do; "" where there is none."""
    if not untied or len(order.steps) == 1:
        return ""
    kinds = listed(list(order.resolution.case.policy.order))
    which = "Step" if len(untied) == 1 else "Steps"
    return (
        f"{which} {listed([str(n) for n in untied])}: no other step asks for that place. What "
        f"closes an advisory goes first, then {kinds}, each by name."
    )


def _planned(order: Order, n: int) -> PlannedStep:
    step = order.steps[n]
    choice = order.resolution.choice
    text, tied = why(order, n)
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
        why=text,
        tied=tied,
        waypoint=any(step.after[m.v] != choice[m.v] for m in step.moves),
    )


def step_title(step: PlannedStep, names: Mapping[str, str]) -> str:
    """A step in words: "Millrace 6.3.6 → 6.4.3"."""
    return " with ".join(
        f"{names.get(m.product, m.product)} {m.from_ or 'absent'} → {m.to or 'gone'}"
        for m in step.moves
    )
