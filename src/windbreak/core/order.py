"""The order of the moves: from today's versions to the chosen ones, in steps.

Source of the rules: docs/reasoning.md, "The order of the moves". Exact: no order has fewer
combined members, and among those none has fewer steps. The members that move are split into
groups that nothing joins; the way of each is found by itself (see passage), and the groups'
steps are interleaved by the house's habit. What a step says of itself is made last, in explain.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from windbreak.core.candidates import Way
from windbreak.core.constraints import Problem
from windbreak.core.passage import Allowance, Hop, Passage, SearchTooLong, State
from windbreak.core.passage import Step as PassageStep
from windbreak.core.resolve import Resolution, best
from windbreak.core.versions import Version

MOST_STATES = 20_000


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
    and ``stuck`` then numbers the members left out.
    """

    resolution: Resolution
    steps: tuple[Step, ...]
    wanted: tuple[int, ...]

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
    domains = list(problem.domains)
    choice = resolution.choice
    while True:
        passages: list[Passage] = []
        dead: list[Passage] = []
        left_out: list[int] = []
        for group in _groups(problem, choice):
            allowance = Allowance(MOST_STATES)
            passage = Passage(problem, choice, group, problem.start, allowance=allowance)
            try:
                (dead if passage.cost is None else passages).append(passage)
            except SearchTooLong:
                left_out += group
            passage.allowance = None
        if not dead and not left_out:
            reached = Resolution(resolution.case, problem, choice)
            steps = tuple(_Interleaving(reached, passages).steps())
            return Order(reached, steps, resolution.choice)
        # What a group can't reach depends on its own targets and on who stands around it.
        for passage in dead:
            forbidden.append({v: choice[v] for v in passage.joined})
        # Where even looking takes too long, the group stays as it is, and is told to be stuck.
        for v in left_out:
            domains[v] = 1 << problem.start[v]
        found = best(problem, domains, forbidden)
        assert found is not None  # staying put needs no order
        choice = found


class _Interleaving:
    """The passages' steps in one row: always the ready one that comes first by the habit."""

    def __init__(self, resolution: Resolution, passages: Sequence[Passage]) -> None:
        self.resolution = resolution
        self.problem = resolution.problem
        self.passages = passages

    def steps(self) -> Iterator[Step]:
        states = [passage.start for passage in self.passages]
        ready = {n: self._first(p, states[n]) for n, p in enumerate(self.passages)}
        whole = list(self.problem.start)
        while True:
            waiting = [(self._rank(self.passages[n], s[0]), n, s) for n, s in ready.items() if s]
            if not waiting:
                return
            _, n, (hops, after) = min(waiting)
            passage = self.passages[n]
            before = tuple(whole)
            for place, option in hops:
                whole[passage.group[place]] = option
            moves = tuple(self._move(passage, states[n], hop) for hop in hops)
            states[n], ready[n] = after, self._first(passage, after)
            yield Step(moves, before, tuple(whole))

    def _first(self, passage: Passage, state: State) -> PassageStep | None:
        """The first step, by the house's habit, on a cheapest way; None at the target."""
        if state == passage.target:
            return None
        here = passage.left(state)
        assert here is not None  # only states with a way to the target are asked
        steps = passage.steps(state, here[0] + 1)
        for hops, after in sorted(steps, key=lambda step: self._rank(passage, step[0])):
            if passage.costs(after, (here[0] - len(hops) + 1, here[1] - len(hops))):
                return hops, after
        raise AssertionError("a state with a way to the target has a first step on it")

    def _rank(self, passage: Passage, hops: Sequence[Hop]) -> tuple[tuple[int, str, int], ...]:
        """The place of a step in the house's habit: by kind, then by product id, higher first."""
        case = self.resolution.case
        habit = case.policy.order
        found = []
        for place, option in hops:
            product = self.problem.members[passage.group[place]].product
            kind = case.product[product].kind
            index = habit.index(kind) if kind in habit else len(habit)
            found.append((index, product, -option))
        return tuple(sorted(found))

    def _move(self, passage: Passage, state: State, hop: Hop) -> Move:
        place, option = hop
        v = passage.group[place]
        member = self.problem.members[v]
        end = member.version(option)
        assert end is not None  # nothing moves to being absent
        start = member.version(state[place])
        return Move(v, member.product, start, end, member.ways.first(option))


def _groups(problem: Problem, choice: Sequence[int]) -> list[list[int]]:
    """The members that move, in groups that some constraint or bundle joins."""
    moving = [v for v, i in enumerate(choice) if i != problem.start[v]]
    leader = {v: v for v in moving}

    def find(v: int) -> int:
        while leader[v] != v:
            v = leader[v]
        return v

    edges = [(c.p, c.q) for c in problem.constraints]
    edges += [(r.p, theme) for r in problem.carried for theme, _ in r.themes]
    edges += [
        (a[0], b[0]) for r in problem.carried for a, b in zip(r.themes, r.themes[1:], strict=False)
    ]
    for p, q in edges:
        if p in leader and q in leader:
            leader[find(p)] = find(q)
    groups: dict[int, list[int]] = {}
    for v in moving:
        groups.setdefault(find(v), []).append(v)
    return list(groups.values())
