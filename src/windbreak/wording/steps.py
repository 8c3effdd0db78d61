"""Why a step stands where it does, and why a member is left out of the plan.

Source of the rules: docs/reasoning.md, "The order of the moves". The cause is looked for in the
constraints themselves: what would be broken if the step came earlier or later.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import combinations, permutations

from windbreak.core.ordering.interleaving import Step
from windbreak.core.ordering.order import Order
from windbreak.core.resolution.problem import NOBODY, Problem, Rule
from windbreak.core.versions.version import Version
from windbreak.wording.words import in_words, listed


def why(order: Order, n: int) -> str:
    """What put step n where it is, as a sentence."""
    step = order.steps[n]
    choice = order.resolution.choice
    waypoint = any(step.after[m.v] != choice[m.v] for m in step.moves)
    if len(step.moves) > 1:
        return _why_together(order, step)
    move = step.moves[0]
    problem = order.resolution.problem
    start, end = step.before[move.v], step.after[move.v]
    for later in order.steps[n + 1 :]:
        for other in later.moves:
            if other.v == move.v:
                continue
            held = _kept_apart(problem, (move.v, start), (other.v, later.after[other.v]))
            if held is not None:
                name = f"{problem.catalogue.label(other.product)} {other.end}"
                told = broken_text(problem, held, (move.v, move.start), (other.v, other.end))
                head = f"A stop on the way, so that {name} can follow" if waypoint else None
                return f"{head or f'Before {name}'}: {told}."
    for earlier in reversed(order.steps[:n]):
        for other in earlier.moves:
            if other.v == move.v:
                continue
            held = _kept_apart(problem, (move.v, end), (other.v, earlier.before[other.v]))
            if held is not None:
                name = f"{problem.catalogue.label(other.product)} {other.end}"
                told = broken_text(problem, held, (move.v, move.end), (other.v, other.start))
                return f"After {name}: {told}."
    if move.by == "bundle":
        return _carried_why(order, n, move.v)
    if waypoint:
        target = order.resolution.version(move.v)
        return f"A waypoint: {target} can't be reached straight from {move.start}."
    if any(m.v == move.v for s in order.steps[:n] for m in s.moves):
        return f"The rest of the way, now that {move.start} is in place."
    if move.start is None:
        return "It joins the site because something here asks for it."
    return "Nothing ties it; its place is the house's habit."


def _kept_apart(problem: Problem, a: tuple[int, int], b: tuple[int, int]) -> Rule | None:
    """The constraint that two options of two members do not meet together, if any."""
    for number, c in enumerate(problem.rules):
        if number in problem.broken or c.q == NOBODY:
            continue
        for (p, i), (q, j) in ((a, b), (b, a)):
            if c.p == p and c.q == q and not c.relation.fits(i, j):
                return c
    return None


def broken_text(
    problem: Problem,
    c: Rule,
    a: tuple[int, Version | None],
    b: tuple[int, Version | None],
) -> str:
    """Why two members at two versions do not go together, without a full stop."""
    versions = dict([a, b])

    def named(v: int, product: str) -> str:
        version = versions[v]
        return (
            f"{problem.catalogue.label(product)} {version}"
            if version
            else f"no {problem.catalogue.label(product)}"
        )

    subject, other = named(c.p, c.subject), named(c.q, c.object)
    match c.kind:
        case "requires":
            version = versions[c.p]
            line = problem.members[c.p].line
            number = line.number(version) if version else 0
            wanted = line.releases[number - 1].requires.get(c.object, "") if number else ""
            asked = f"{problem.catalogue.label(c.object)} {in_words(wanted)}" if wanted else other
            return f"{subject} needs {asked}"
        case "conflicts":
            return f"{subject} does not go with {other}"
        case "clash":
            return f"{subject} and {other} are known to clash"
        case "lockstep":
            return f"{subject} and {other} must match"


def _carried_why(order: Order, n: int, v: int) -> str:
    carrier = _carrier(order, order.steps[n], v)
    if carrier is None:
        return "Carried by the theme."
    theme, name = carrier
    if any(m.v == theme for s in order.steps[:n] for m in s.moves):
        return f"After {name}, which carries it."
    return f"{name} carries it; no later step may take that away."


def _carrier(order: Order, step: Step, v: int) -> tuple[int, str] | None:
    """The theme that carries what a step brings: its number, and its name and version."""
    problem = order.resolution.problem
    for rule in problem.carried_of[v]:
        if rule.p == v and rule.i == step.after[v]:
            for theme, mask in rule.themes:
                if mask >> step.after[theme] & 1:
                    member = problem.members[theme]
                    version = member.version(step.after[theme])
                    return theme, f"{problem.catalogue.label(member.product)} {version}"
    return None


def _why_together(order: Order, step: Step) -> str:
    """What keeps each of a step's moves from being made alone."""
    problem = order.resolution.problem
    label = problem.catalogue.label
    needs: dict[tuple[int, int], str] = {}  # who can't go before whom, and why
    asking: set[tuple[int, int]] = set()  # those of them who ask for the other themselves
    matching: dict[str, None] = {}
    for one, other in permutations(step.moves, 2):
        held = _kept_apart(problem, (one.v, step.after[one.v]), (other.v, step.before[other.v]))
        if held is not None and held.kind == "lockstep":
            matching |= {label(one.product): None, label(other.product): None}
        elif held is not None:
            told = broken_text(problem, held, (one.v, one.end), (other.v, other.start))
            needs[one.v, other.v] = told
            if held.kind == "requires" and held.p == one.v:
                asking.add((one.v, other.v))
    said = [f"{listed(list(matching))} must match at every moment"] if matching else []
    said += _each_other(step, needs, asking, label)
    for move in step.moves:
        carrier = _carrier(order, step, move.v) if move.by == "bundle" else None
        if carrier is not None:
            said.append(f"{label(move.product)} {move.end} comes only inside {carrier[1]}")
    return f"Together, behind a maintenance page: {'; '.join(dict.fromkeys(said))}."


def _each_other(
    step: Step,
    needs: dict[tuple[int, int], str],
    asking: set[tuple[int, int]],
    label: Callable[[str], str],
) -> Iterator[str]:
    """What is needed; of those who ask for each other it is said once."""
    named = {m.v: f"{label(m.product)} {m.end}" for m in step.moves}
    mutual = [(a, b) for a, b in combinations(named, 2) if {(a, b), (b, a)} <= asking]
    if len(mutual) > 1 and len(mutual) == len(list(combinations(named, 2))):
        yield f"{listed(list(named.values()))} need each other"
        return
    for a, b in mutual:
        yield f"{named[a]} and {named[b]} need each other"
    for (a, b), text in needs.items():
        if (a, b) not in mutual and (b, a) not in mutual:
            yield text


def stuck_text(order: Order, v: int) -> str:
    """Why a member does not reach what would be best for it."""
    problem = order.resolution.problem
    member = problem.members[v]
    wanted = member.version(order.wanted[v])
    reached = order.resolution.version(v)
    label = problem.catalogue.label(member.product)
    head = f"{label} could be {wanted or 'left out'} but ends at {reached or 'absent'}"
    group = next((g for g in order.apart if v in g), ())
    others = [
        f"{problem.catalogue.label(problem.members[u].product)} "
        f"{problem.members[u].version(order.wanted[u]) or 'left out'}"
        for u in group
        if u != v
    ]
    if others:
        return (
            f"{head}: it and {listed(others)} can't all be reached from here, "
            "as in every order one of them breaks another on the way."
        )
    if v in order.unsearched:
        return f"{head}: so much ties it that not every order could be looked at."
    return f"{head}: others that had to stay keep it from going further."
