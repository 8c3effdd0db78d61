"""Why a step stands where it does, and why a member is left out of the plan.

What it was is decided in ``core.ordering``; here it is put into words.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from windbreak.core.ordering.interleaving import Move
from windbreak.core.ordering.order import Order
from windbreak.core.ordering.places import (
    After,
    Before,
    Carried,
    Joins,
    Onward,
    Pair,
    Place,
    Together,
    Untied,
    Waypoint,
    detour,
    mended,
    place,
)
from windbreak.core.resolution.problem import Problem, Rule
from windbreak.core.versions.version import Version
from windbreak.wording.reasons import must_match
from windbreak.wording.words import in_words, listed


def why(order: Order, n: int) -> tuple[str, bool]:
    """What put step n where it is, in a sentence or two; and whether anything ties it."""
    put = place(order, n)
    mends = [_mends(order, n, rule) for rule in mended(order, n)]
    if isinstance(put, Untied) and mends:
        return " ".join(mends), True
    text = _why(order, n, put)
    return " ".join([text, *mends]), not isinstance(put, Untied)


def _mends(order: Order, n: int, rule: Rule) -> str:
    """What a step puts right: "It mends what is broken today: A 3.2 and B 3.1 must match."."""
    before, problem = order.steps[n].before, order.resolution.problem
    ends = [
        (v, problem.members[v].version(before[v]) if v >= 0 else None) for v in (rule.p, rule.q)
    ]
    return f"It mends what is broken today: {broken_text(problem, rule, *ends)}."


def _straight(order: Order, n: int) -> str:
    """Why a step stops on its way: why its target can't be gone to yet."""
    way_round, problem = detour(order, n), order.resolution.problem
    if way_round is None:
        return ""
    v = order.steps[n].moves[0].v
    other = problem.members[way_round.other].version(way_round.option)
    ends = ((v, order.resolution.version(v)), (way_round.other, other))
    return f" Not straight on, as {broken_text(problem, way_round.rule, *ends)}."


def _why(order: Order, n: int, put: Place) -> str:
    """What put a step where it is, as a sentence."""
    problem = order.resolution.problem
    move = order.steps[n].moves[0]
    match put:
        case Together() as together:
            return _together(problem, order.steps[n].moves, together)
        case Before(other, rule, waypoint):
            name = _at(problem, other)
            head = f"A stop on the way, so that {name} can follow" if waypoint else f"Before {name}"
            clause = broken_text(problem, rule, (move.v, move.start), (other.v, other.end))
            return f"{head}: {clause}." + (_straight(order, n) if waypoint else "")
        case After(other, rule):
            clause = broken_text(problem, rule, (move.v, move.end), (other.v, other.start))
            return f"After {_at(problem, other)}: {clause}."
        case Carried() as carried:
            name = _carrier(problem, carried)
            if carried.moved:
                return f"After {name}, which carries it."
            return f"{name} carries it; no later step may take that away."
        case Waypoint():
            target = order.resolution.version(move.v)
            return f"A waypoint: {target} can't be reached straight from {move.start}."
        case Onward():
            return f"The rest of the way, now that {move.start} is in place."
        case Joins():
            return "It joins the site because something here asks for it."
        case Untied():
            return "It could as well be made at another place in the plan."


def _at(problem: Problem, move: Move) -> str:
    """A product with the version it moves to."""
    return f"{problem.catalogue.label(move.product)} {move.end}"


def _carrier(problem: Problem, carried: Carried) -> str:
    """The theme that carries something, with its version."""
    member = problem.members[carried.theme]
    return f"{problem.catalogue.label(member.product)} {member.version(carried.option)}"


def broken_text(
    problem: Problem,
    c: Rule,
    a: tuple[int, Version | None],
    b: tuple[int, Version | None],
) -> str:
    """Why two members at two versions do not go together, without a full stop."""
    versions = dict([a, b])

    def named(v: int, product: str) -> str:
        version = versions.get(v)
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
            return (
                f"{subject} and {other} must {must_match(problem.catalogue, c.subject, c.object)}"
            )


def broken_today(
    problem: Problem, c: Rule, a: tuple[int, Version | None], b: tuple[int, Version | None]
) -> str:
    """What does not go together as it stands: "Capstan 3.2 needs Capstan Blocks 3.2, and 3.3 is
    here."; without its full stop.
    """
    text = broken_text(problem, c, a, b)
    there = dict([a, b]).get(c.q)
    match c.kind:
        case "requires":
            return f"{text}, and {there or f'no {problem.catalogue.label(c.object)}'} is here"
        case "lockstep":
            return f"{text}, and are not"
        case _:
            return f"{text}, and both are here"


def _together(problem: Problem, moves: tuple[Move, ...], together: Together) -> str:
    """What keeps each of a step's moves from being made alone."""
    label = problem.catalogue.label
    matching: dict[str, None] = {}
    others = []
    for pair in together.pairs:
        if pair.rule.kind == "lockstep":
            matching |= {label(pair.first.product): None, label(pair.second.product): None}
        else:
            others.append(pair)
    parts = [f"{listed(list(matching))} must match at every moment"] if matching else []
    parts += _needs(problem, moves, others)
    parts += [
        f"{_at(problem, move)} comes only inside {_carrier(problem, carried)}"
        for move, carried in together.carried
    ]
    return f"Together, behind a maintenance page: {'; '.join(dict.fromkeys(parts))}."


def _needs(problem: Problem, moves: tuple[Move, ...], pairs: list[Pair]) -> Iterator[str]:
    """Who needs whom; of those who ask for each other it is told once."""
    names = {move.v: _at(problem, move) for move in moves}
    asking = {(pair.first.v, pair.second.v) for pair in pairs if pair.asked_for}
    every = list(combinations(names, 2))
    mutual = [(a, b) for a, b in every if {(a, b), (b, a)} <= asking]
    if len(mutual) > 1 and mutual == every:
        yield f"{listed(list(names.values()))} need each other"
        return
    for a, b in mutual:
        yield f"{names[a]} and {names[b]} need each other"
    for pair in pairs:
        both = (pair.first.v, pair.second.v)
        if both not in mutual and both[::-1] not in mutual:
            ends = (pair.first.v, pair.first.end), (pair.second.v, pair.second.start)
            yield broken_text(problem, pair.rule, *ends)


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
