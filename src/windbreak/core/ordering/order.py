"""The order of the moves: from today's versions to the chosen ones, in steps.

Source of the rules: docs/reasoning.md, "The order of the moves". Exact: no order has fewer
combined members, and among those none has fewer steps. The members that move are split into
groups that nothing joins; the way of each is found by itself (see passage), and the groups'
steps are interleaved by the house's habit. What a step says of itself is made last, in explain.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import product

from windbreak.core.bits import bits
from windbreak.core.ordering.passage import Allowance, Hop, Hops, Passage, State
from windbreak.core.ordering.passage import Step as PassageStep
from windbreak.core.ordering.stops import SearchTooLong, may_stop
from windbreak.core.resolution.problem import NOBODY, Problem
from windbreak.core.resolution.resolve import Resolution, best
from windbreak.core.solver.graphs import components, strongly_connected
from windbreak.core.values.reasons import Way
from windbreak.core.versions.version import Version

MOST_STATES = 20_000


_FEW_STATES = 1_000  # for a way on which most go straight


_MOST_TESTS = 60  # passages looked at to say more of targets that can't be reached


@dataclass(frozen=True, slots=True)
class Move:
    """One member's change in a step; ``start`` None: it was absent. ``by``: how it is had."""

    v: int
    product: str
    start: Version | None
    end: Version
    by: Way | None


@dataclass(frozen=True, slots=True)
class Step:
    """One stage of the plan: usually one move, several where they must go together."""

    moves: tuple[Move, ...]
    before: tuple[int, ...]  # the whole choice before this step
    after: tuple[int, ...]


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
    forbidden: list[dict[int, int]] = []
    unsearched: set[int] = set()
    domains = list(problem.domains)
    choice = resolution.choice
    while True:
        passages: list[Passage] = []
        clear = True
        for group in _groups(problem, choice):
            try:
                parts = _passages(problem, choice, group)
                if all(part.cost is not None for part in parts):
                    passages += parts
                    for part in parts:
                        part.allowance.states = 1 << 62
                    continue
                dead = parts[0].dead or _around(problem, group)
                forbidden.append(_Dead(problem, choice).nogood(dead))
            except SearchTooLong:
                # The group stays as it is, and is told to be stuck.
                unsearched |= set(group)
                for v in group:
                    domains[v] = 1 << problem.start[v]
            clear = False
        if clear:
            reached = Resolution(resolution.case, problem, choice)
            steps = tuple(_Interleaving(reached, passages).steps())
            apart = tuple(tuple(nogood) for nogood in forbidden)
            return Order(reached, steps, resolution.choice, apart, frozenset(unsearched))
        found = best(problem, domains, forbidden)
        assert found is not None  # staying put needs no order
        choice = found


def _passages(problem: Problem, choice: Sequence[int], group: Sequence[int]) -> list[Passage]:
    """The passages of a group, in as many parts and with as few stops as may be.

    First everybody goes straight who can, but for those who wait for each other in rings; most then
    are tied to nobody. What that costs is the least there is, where it is what the rings cost by
    themselves and the fewest hops of the rest; else the group is looked at whole. Raises
    SearchTooLong.
    """
    straight = set(group) - _in_rings(problem, choice, group)
    known: dict[tuple[tuple[int, ...], frozenset[int]], Passage] = {}
    while straight:
        ringed: set[int] = set()
        found = []
        for part in _parts(problem, choice, group, straight):
            key = (tuple(part), frozenset(straight.intersection(part)))
            if key not in known:
                known[key] = Passage(
                    problem, choice, part, straight=straight, allowance=Allowance(_FEW_STATES)
                )
            passage = known[key]
            ringed = passage.ringed() & straight if passage.walkable else set(group)
            if ringed or not _is_least(passage, straight):
                break
            found.append(passage)
        else:
            return found
        straight -= ringed or straight
    return [Passage(problem, choice, group, allowance=Allowance(MOST_STATES))]


def _is_least(passage: Passage, straight: set[int]) -> bool:
    """Whether stops left out of straight ways could not make a passage cost less."""
    try:
        return passage.cost is not None and (
            straight.isdisjoint(passage.group) or passage.cost == passage.bound(passage.start)
        )
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
    for rule in problem.carried:
        if rule.p in stops and stops[rule.p] >> rule.i & 1:
            edges += [(rule.p, theme) for theme, _ in rule.themes]
    return components(group, edges)


def _in_rings(problem: Problem, choice: Sequence[int], group: Sequence[int]) -> set[int]:
    """The members that would wait for each other in rings, if everybody went straight."""
    waits: dict[int, list[int]] = {v: [] for v in group}
    for v in group:
        for table in problem.binding.tables[v]:
            p, q = table.scope
            if p == v and q in waits:
                if not table.relation.fits(choice[v], problem.start[q]):
                    waits[v].append(q)
                if not table.relation.fits(problem.start[v], choice[q]):
                    waits[q].append(v)
    for rule in problem.carried:
        if rule.p in waits and choice[rule.p] == rule.i and len(rule.themes) == 1:
            theme, mask = rule.themes[0]
            if theme in waits and not mask >> problem.start[theme] & 1:
                waits[rule.p].append(theme)
            if theme in waits and not mask >> choice[theme] & 1:
                waits[theme].append(rule.p)
    return {v for ring in strongly_connected(waits) if len(ring) > 1 for v in ring}


class _Dead:
    """Targets that no order of steps leads to, and why: who keeps whom from it."""

    def __init__(self, problem: Problem, choice: Sequence[int]) -> None:
        self.problem = problem
        self.choice = list(choice)
        self.tests = _MOST_TESTS

    def nogood(self, members: Iterable[int]) -> dict[int, int]:
        """Options, as bits, of as few members as may be, of which no combination can be reached.

        From members that can't reach their targets those are left out without whom the others
        can't either; then the same is tried for each one's other options.
        """
        core = self._fewest(sorted(members))
        found = {v: 1 << self.choice[v] for v in core}
        for v in core:
            others = [list(bits(found[u])) for u in core if u != v]
            for option in bits(self.problem.domains[v]):
                rows = list(product(*others))
                if found[v] >> option & 1 or self.tests < len(rows):
                    continue
                self.tests -= len(rows)
                if all(
                    self._dead(
                        core, dict(zip((u for u in core if u != v), row, strict=True)) | {v: option}
                    )
                    for row in rows
                ):
                    found[v] |= 1 << option
        return found

    def _fewest(self, members: list[int]) -> list[int]:
        size = max(1, len(members) // 2)
        while True:
            start = 0
            while start < len(members):
                fewer = members[:start] + members[start + size :]
                if fewer and self._dead(fewer, {}):
                    members = fewer
                else:
                    start += size
            if size == 1:
                return members
            size //= 2

    def _dead(self, members: list[int], options: dict[int, int]) -> bool:
        target = list(self.choice)
        for v, option in options.items():
            target[v] = option
        try:
            alone = Passage(
                self.problem, target, members, alone=True, allowance=Allowance(MOST_STATES)
            )
            return alone.cost is None
        except SearchTooLong:
            return False


def _around(problem: Problem, group: Sequence[int]) -> list[int]:
    """A group and everybody that a constraint or a bundle ties to it."""
    found = set(group)
    for rule in problem.rules:
        if rule.p in group or rule.q in group:
            found |= {rule.p, rule.q} - {NOBODY}
    for carriage in problem.carried:
        if carriage.p in group:
            found |= {theme for theme, _ in carriage.themes}
    return sorted(found)


_Ready = tuple[Hops, State, list[Hops]]  # a step, the state after it, a cheapest way from there


class _Interleaving:
    """The passages' steps in one row: always the ready one that comes first by the habit."""

    def __init__(self, resolution: Resolution, passages: Sequence[Passage]) -> None:
        self.resolution = resolution
        self.problem = resolution.problem
        self.passages = passages
        self.habits = {
            id(p): [
                n for _, n in sorted((self._rank(p, ((n, 0),)), n) for n in range(len(p.group)))
            ]
            for p in passages
        }

    def steps(self) -> Iterator[Step]:
        states = [passage.start for passage in self.passages]
        ready = {n: self._first(p, p.start, p.way(p.start)) for n, p in enumerate(self.passages)}
        whole = list(self.problem.start)
        while True:
            waiting = [(self._rank(self.passages[n], s[0]), n, s) for n, s in ready.items() if s]
            if not waiting:
                return
            _, n, (hops, after, way) = min(waiting)
            passage = self.passages[n]
            before = tuple(whole)
            for member, place in hops:
                whole[passage.group[member]] = passage.option(member, place)
            moves = tuple(self._move(passage, states[n], hop) for hop in hops)
            states[n], ready[n] = after, self._first(passage, after, way)
            yield Step(moves, before, tuple(whole))

    def _first(self, passage: Passage, state: State, way: list[Hops]) -> _Ready | None:
        """The first step, by the house's habit, on a cheapest way, of which one is given, and the
        rest of such a way; None at the target.
        """
        if not way:
            return None
        combined = sum(len(hops) - 1 for hops in way)
        hopped = sum(map(len, way))
        steps: Iterable[PassageStep] = self._single(passage, state)
        if combined:
            every = passage.steps(state, combined + 1)
            steps = sorted(every, key=lambda step: self._rank(passage, step[0]))
        for hops, after in steps:
            if hops == way[0] or (len(hops) == 1 and passage.may_begin(state, way, hops[0])):
                return hops, after, [other for other in way if other != hops]
            if passage.costs(after, (combined - len(hops) + 1, hopped - len(hops))):
                return hops, after, passage.way(after)
        raise AssertionError("a state with a way to the target has a first step on it")

    def _single(self, passage: Passage, state: State) -> Iterator[PassageStep]:
        """The steps of one hop from a state, by the house's habit."""
        for n in self.habits[id(passage)]:
            for place in passage.hops[n][state[n]]:
                after = passage.hopped(n, place, state)
                if after is not None:
                    yield ((n, place),), after

    def _rank(self, passage: Passage, hops: Sequence[Hop]) -> tuple[tuple[int, str, int], ...]:
        """The place of a step in the house's habit: by kind, then by product id, higher first."""
        case = self.resolution.case
        habit = case.policy.order
        found = []
        for member, place in hops:
            product = self.problem.members[passage.group[member]].product
            kind = self.problem.members[passage.group[member]].line.product.kind
            index = habit.index(kind) if kind in habit else len(habit)
            found.append((index, product, -place))
        return tuple(sorted(found))

    def _move(self, passage: Passage, state: State, hop: Hop) -> Move:
        n, place = hop
        v = passage.group[n]
        member = self.problem.members[v]
        option = passage.option(n, place)
        end = member.version(option)
        assert end is not None  # nothing moves to being absent
        start = member.version(passage.option(n, state[n]))
        return Move(v, member.product, start, end, member.ways.first(option))


def _groups(problem: Problem, choice: Sequence[int]) -> list[list[int]]:
    """The members that move, in groups that some constraint or bundle joins."""
    moving = [v for v, i in enumerate(choice) if i != problem.start[v]]
    edges: list[tuple[int, ...]] = [(rule.p, rule.q) for rule in problem.rules]
    edges += [carriage.clause.scope for carriage in problem.carried]
    return components(moving, edges)
