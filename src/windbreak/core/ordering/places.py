"""What put a step where it stands in the order: data, of which wording makes a sentence.

Source of the rules: docs/reasoning.md, "The order of the moves". The reason is looked for in the
rules themselves: what would be broken if the step came earlier or later. The first that holds:

    Together    its moves can't be made one after the other
    Before      a later move does not go with what this one leaves
    After       an earlier move left what this one does not go with
    Carried     it comes by bundle, and a theme in place carries it
    Waypoint    its target can't be gone to straight
    Onward      the rest of a way that an earlier step began
    Joins       an addition that something here asks for
    Untied      nothing; the house's habit put it here

Beside that, ``mended`` are the rules broken today that a step puts right, and ``detour`` is why one
that stops on its way could not go straight on.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations

from windbreak.core.ordering.interleaving import Move, Step
from windbreak.core.ordering.order import Order
from windbreak.core.resolution.problem import NOBODY, Problem, Rule


@dataclass(frozen=True, slots=True)
class Pair:
    """``first`` can't be made before ``second``: the rule would be broken."""

    first: Move
    second: Move
    rule: Rule

    @property
    def asked_for(self) -> bool:
        """Whether the first itself asks for the second."""
        return self.rule.kind == "requires" and self.rule.p == self.first.v


@dataclass(frozen=True, slots=True)
class Carried:
    """A theme carries it, at an option; ``moved`` where an earlier step brought the theme there."""

    theme: int
    option: int
    moved: bool


@dataclass(frozen=True, slots=True)
class Together:
    """What keeps each move from being made alone; ``carried`` by the move that comes by bundle."""

    pairs: tuple[Pair, ...]
    carried: tuple[tuple[Move, Carried], ...]


@dataclass(frozen=True, slots=True)
class Before:
    """``other``, made later, breaks the rule with what this one leaves. ``waypoint``: this one
    stops on its way for it.
    """

    other: Move
    rule: Rule
    waypoint: bool


@dataclass(frozen=True, slots=True)
class After:
    """``other``, made earlier, left what breaks the rule with this one."""

    other: Move
    rule: Rule


@dataclass(frozen=True, slots=True)
class Waypoint:
    """The target can't be gone to straight."""


@dataclass(frozen=True, slots=True)
class Onward:
    """The rest of a way that an earlier step began."""


@dataclass(frozen=True, slots=True)
class Joins:
    """An addition that something here asks for."""


@dataclass(frozen=True, slots=True)
class Untied:
    """Nothing but the house's habit."""


Place = Together | Before | After | Carried | Waypoint | Onward | Joins | Untied


def place(order: Order, n: int) -> Place:
    """What put step n where it is."""
    step = order.steps[n]
    if len(step.moves) > 1:
        return _together(order, step)
    (move,) = step.moves
    v, problem = move.v, order.resolution.problem
    waypoint = step.after[v] != order.resolution.choice[v]
    for later in order.steps[n + 1 :]:
        for other in later.moves:
            rule = _between(problem, (v, step.before[v]), (other.v, later.after[other.v]))
            if rule is not None:
                return Before(other, rule, waypoint)
    for earlier in reversed(order.steps[:n]):
        for other in earlier.moves:
            rule = _between(problem, (v, step.after[v]), (other.v, earlier.before[other.v]))
            if rule is not None:
                return After(other, rule)
    before = {m.v for earlier in order.steps[:n] for m in earlier.moves}
    carried = _carried(problem, step, v, before) if move.by == "bundle" else None
    if carried is not None:
        return carried
    if waypoint:
        return Waypoint()
    if v in before:
        return Onward()
    return Joins() if move.start is None else Untied()


def mended(order: Order, n: int) -> tuple[Rule, ...]:
    """The rules that are broken before step n and not after it; of each pair the first."""
    step, problem = order.steps[n], order.resolution.problem
    pairs: dict[frozenset[str], Rule] = {}
    for rule in (problem.rules[number] for number in sorted(problem.broken)):
        if not rule.holds(step.before) and rule.holds(step.after):
            pairs.setdefault(frozenset((rule.subject, rule.object)), rule)
    return tuple(pairs.values())


@dataclass(frozen=True, slots=True)
class Detour:
    """The target does not go with ``other`` as it is after the step, at an option: by ``rule``."""

    other: int
    option: int
    rule: Rule


def detour(order: Order, n: int) -> Detour | None:
    """Why the only move of step n stops on its way; None where no neighbour is the reason."""
    step, problem = order.steps[n], order.resolution.problem
    v = step.moves[0].v
    target = order.resolution.choice[v]
    for other, option in enumerate(step.after):
        if other != v:
            rule = _between(problem, (v, target), (other, option))
            if rule is not None:
                return Detour(other, option, rule)
    return None


def _between(problem: Problem, a: tuple[int, int], b: tuple[int, int]) -> Rule | None:
    """The rule that two options of two members do not meet together, if any."""
    for n, rule in problem.rules_of[a[0]]:
        if n not in problem.broken and rule.q != NOBODY:
            for (p, i), (q, j) in ((a, b), (b, a)):
                if (rule.p, rule.q) == (p, q) and not rule.relation.fits(i, j):
                    return rule
    return None


def _carried(problem: Problem, step: Step, v: int, before: set[int]) -> Carried | None:
    """The theme that carries what a step brings."""
    for carriage in problem.carried_of[v]:
        if (carriage.p, carriage.i) == (v, step.after[v]):
            for theme, mask in carriage.themes:
                if mask >> step.after[theme] & 1:
                    return Carried(theme, step.after[theme], theme in before)
    return None


def _together(order: Order, step: Step) -> Together:
    problem = order.resolution.problem
    pairs = []
    for first, other in permutations(step.moves, 2):
        rule = _between(problem, (first.v, step.after[first.v]), (other.v, step.before[other.v]))
        if rule is not None:
            pairs.append(Pair(first, other, rule))
    carriers = [(m, _carried(problem, step, m.v, set())) for m in step.moves if m.by == "bundle"]
    return Together(tuple(pairs), tuple([(move, by) for move, by in carriers if by is not None]))
