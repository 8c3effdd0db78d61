"""The order of the moves: from today's versions to the chosen ones, in steps.

Source of the rules: docs/reasoning.md, "The order of the moves". Exact: no order has fewer
combined members, and among those none has fewer steps.

(1) The members that move fall into groups that nothing joins.
(2) In a group everybody goes straight who can, but for those who wait for each other in rings; the
    way of what then still hangs together is found by itself (see passage). Where that does not cost
    the least there could be, fewer go straight, and at last nobody need.
(3) Where no order leads to the targets, as a part of a group may prove by itself, a nogood is
    learned (see deadlocks), and the best choice without it is ordered in their place.
(4) The ways are put into one row (see interleaving).
"""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.bits import bits
from windbreak.core.ordering.deadlocks import Deadlock
from windbreak.core.ordering.interleaving import Step, interleaved
from windbreak.core.ordering.passage import Allowance, Passage
from windbreak.core.ordering.stops import SearchTooLong, may_stop, shortest_way
from windbreak.core.resolution.problem import Problem
from windbreak.core.resolution.resolve import Resolution, best
from windbreak.core.solver.graphs import components, strongly_connected

MOST_STATES = 20_000
_FEW_STATES = 1_000  # for a way on which most go straight
_WITHOUT_END = 1 << 62


@dataclass(frozen=True)
class Order:
    """The ordered steps to ``resolution.choice``.

    ``wanted`` is the best choice; it differs from the resolution's where no order leads to it,
    and ``stuck`` then numbers the members left out. ``apart`` are members whose targets keep each
    other from being reached; ``unsearched`` those for whom not every order could be looked at.
    """

    resolution: Resolution
    steps: tuple[Step, ...]
    wanted: tuple[int, ...]
    apart: tuple[tuple[int, ...], ...] = ()
    unsearched: frozenset[int] = frozenset()

    @property
    def combined(self) -> int:
        return sum(len(step.moves) - 1 for step in self.steps)

    @cached_property
    def stuck(self) -> tuple[int, ...]:
        pairs = zip(self.resolution.choice, self.wanted, strict=True)
        return tuple(v for v, (reached, wanted) in enumerate(pairs) if reached != wanted)


def order(resolution: Resolution) -> Order:
    """Put the moves of a resolution in the cheapest order.

    Where none leads to the best choice, the plan goes to the best choice that has one. The time is
    bounded: members tied so tightly that their way is not found among MOST_STATES states stay
    where they are, and are stuck.
    """
    problem = resolution.problem
    nogoods: list[dict[int, int]] = []
    unsearched: set[int] = set()
    domains = list(problem.domains)
    choice = resolution.choice
    while True:
        ways: list[Passage] = []
        clear = True
        for group in _groups(problem, choice):
            try:
                passages = _passages(problem, choice, group)
                if not isinstance(passages, Deadlock):
                    ways += passages
                    continue
                nogoods.append(passages.nogood())
            except SearchTooLong:
                # The group stays as it is, and is told to be stuck.
                unsearched |= set(group)
                for v in group:
                    domains[v] = 1 << problem.start[v]
            clear = False
        if clear:
            reached = Resolution(resolution.case, problem, choice)
            for passage in ways:
                passage.allowance.states = _WITHOUT_END
            steps = tuple(interleaved(reached, ways))
            apart = tuple(tuple(nogood) for nogood in nogoods)
            return Order(reached, steps, resolution.choice, apart, frozenset(unsearched))
        lesser = best(problem, domains, nogoods)
        assert lesser is not None  # staying put needs no order
        choice = lesser


def _groups(problem: Problem, choice: Sequence[int]) -> list[list[int]]:
    """The members that move, in groups that some rule or bundle joins."""
    moving = [v for v, i in enumerate(choice) if i != problem.start[v]]
    edges: list[tuple[int, ...]] = [(rule.p, rule.q) for rule in problem.rules]
    edges += [carriage.clause.scope for carriage in problem.carried]
    return components(moving, edges)


def _passages(
    problem: Problem, choice: Sequence[int], group: Sequence[int]
) -> list[Passage] | Deadlock:
    """The passages of a group, in as many parts and with as few stops as may be; or the deadlock
    that lies in their way.

    What going straight costs is the least there is, where it is what the rings cost by themselves
    and the fewest hops of the rest; else the group is looked at whole. Raises SearchTooLong.
    """
    straight = _going_straight(problem, choice, group)
    passages = []
    for part in _parts(problem, choice, group, straight) if straight else ():
        allowance = Allowance(_FEW_STATES)
        passage = Passage(problem, choice, part, straight=straight, allowance=allowance)
        if _is_shut(passage):
            deadlock = Deadlock(problem, choice, passage)
            if deadlock.proof is not None:
                return deadlock
        if not _is_least(passage, straight):
            break
        passages.append(passage)
    else:
        if passages:
            return passages
    passage = Passage(problem, choice, group, allowance=Allowance(MOST_STATES))
    return [passage] if passage.cost is not None else Deadlock(problem, choice, passage)


def _is_least(passage: Passage, straight: set[int]) -> bool:
    """Whether stops left out of straight ways could not make a passage cost less."""
    try:
        return passage.least or (passage.cost is not None and straight.isdisjoint(passage.group))
    except SearchTooLong:
        return False


def _is_shut(passage: Passage) -> bool:
    """Whether no way of a passage leads to its target, with the stops that it has."""
    try:
        return passage.cost is None
    except SearchTooLong:
        return False


def _parts(
    problem: Problem, choice: Sequence[int], group: Sequence[int], straight: Container[int]
) -> list[list[int]]:
    """A group in parts that nothing ties to each other, while some go straight."""
    stops = {v: may_stop(problem, choice, v, straight=v in straight) for v in group}
    edges: list[tuple[int, int]] = []
    for v in group:
        for table in problem.binding.tables[v]:
            p, q = table.scope
            if p == v and q in stops and table.relation.forbids(stops[p], stops[q]):
                edges.append((p, q))
    for n in problem.broken:
        edges.append((problem.rules[n].p, problem.rules[n].q))
    for carriage in problem.carried:
        if carriage.p in stops and stops[carriage.p] >> carriage.i & 1:
            edges += [(carriage.p, theme) for theme, _ in carriage.themes]
    return components(group, edges)


def _going_straight(problem: Problem, choice: Sequence[int], group: Sequence[int]) -> set[int]:
    """The members that wait for each other in no ring: straight ways make some, and the shortest
    ways of those in them may make more.
    """
    straight = set(group)
    ways = {v: _way(problem, choice, v, straight=True) for v in group}
    while ringed := _in_rings(problem, choice, ways) & straight:
        straight -= ringed
        ways |= {v: _way(problem, choice, v, straight=False) for v in ringed}
    return straight


def _way(problem: Problem, choice: Sequence[int], v: int, *, straight: bool) -> int:
    """The options of a shortest way of one member by itself."""
    stops = may_stop(problem, choice, v, straight=straight)
    if stops.bit_count() > 2:
        way = shortest_way(problem.members[v], list(bits(stops)))
        stops = sum([1 << option for option in way])
    return stops


def _in_rings(problem: Problem, choice: Sequence[int], ways: Mapping[int, int]) -> set[int]:
    """The members that would wait for each other in rings, if each went a way of its own, as
    options.
    """
    start = problem.start
    waits: dict[int, list[int]] = {v: [] for v in ways}
    for p in ways:
        for table in problem.binding.tables[p]:
            q, relation = table.q, table.relation
            if table.p != p or q not in waits or not relation.forbids(ways[p], ways[q]):
                continue
            row, column = relation.row, relation.column
            if ways[q] & ~row(choice[p]) or ways[p] & ~column(start[q]):
                waits[p].append(q)
            if ways[q] & ~row(start[p]) or ways[p] & ~column(choice[q]):
                waits[q].append(p)
    for carriage in problem.carried:
        if carriage.p in waits and ways[carriage.p] >> carriage.i & 1 and len(carriage.themes) == 1:
            theme, mask = carriage.themes[0]
            if theme in waits and not mask >> start[theme] & 1:
                waits[carriage.p].append(theme)
            if theme in waits and not mask >> choice[theme] & 1:
                waits[theme].append(carriage.p)
    return {v for ring in strongly_connected(waits) if len(ring) > 1 for v in ring}
