"""What is searched: domains of options, what binds them, and what they cost together.

Also what follows from it at once: options without support are dropped until nothing changes, and
the variables fall into groups that nothing still open joins. This module knows nothing of versions.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol, TypeVar

from windbreak.core.constraints import NOBODY, Carried, Classes, Pair, Problem

Link = tuple[int, int, Classes]  # p, q, classes: see Constraint
Domains = list[int]
Nogood = Mapping[int, int]  # options, as bits, of some variables
T = TypeVar("T")


class Prices(Protocol):
    """What options cost by themselves."""

    def price(self, v: int, i: int) -> int:
        """The cost of one option."""

    def pick(self, v: int, options: int) -> int:
        """The cheapest of some options that no mark tells apart."""

    def marks(self, v: int) -> Sequence[int]:
        """Sets of options whose cost differs for other reasons than their order."""


@dataclass(slots=True)
class Model:
    """What is searched: domains, the constraints that bind, and what options cost together.

    ``links[v]``, ``carried[v]``, ``pairs[v]`` and ``nogoods[v]`` are those that v takes part in, on
    any side. A nogood names options of some variables (as bits) that may not be met all at once.
    """

    domains: Domains
    links: list[list[Link]]
    carried: list[list[Carried]]
    pairs: list[list[Pair]]
    nogoods: list[list[Nogood]]

    @classmethod
    def bare(cls, domains: Sequence[int]) -> Model:
        """A model in which nothing binds yet."""
        size = len(domains)
        return cls(list(domains), [[]] * size, [[]] * size, [[]] * size, [[]] * size)

    def link(self, link: Link) -> None:
        _add(self.links, link[0], link)
        _add(self.links, link[1], link)

    def pair(self, pair: Pair) -> None:
        _add(self.pairs, pair.p, pair)
        _add(self.pairs, pair.q, pair)

    def carry(self, rule: Carried) -> None:
        for v in {rule.p, *(theme for theme, _ in rule.themes)}:
            _add(self.carried, v, rule)

    def forbid(self, nogood: Nogood) -> None:
        for v in nogood:
            _add(self.nogoods, v, nogood)


def _add(rows: list[list[T]], v: int, item: T) -> None:
    """Add to one row. Empty rows are one and the same list, which is never written to."""
    if rows[v]:
        rows[v].append(item)
    else:
        rows[v] = [item]


def build_model(
    problem: Problem,
    domains: Sequence[int],
    *,
    only: Iterable[int] | None = None,
    carried: Iterable[Carried] | None = None,
    pairs: Iterable[Pair] = (),
    nogoods: Iterable[Nogood] = (),
) -> Model:
    """Make a model. ``only`` numbers the constraints that bind (all).

    Constraints that do not hold today never bind.
    """
    found = Model.bare(domains)
    if carried is None:
        found.carried = problem.carried_of  # never written to
    for rule in carried or ():
        found.carry(rule)
    if only is None:
        found.links = problem.ties.links  # never written to
        found.domains = [d & ~shut for d, shut in zip(domains, problem.ties.shut, strict=True)]
    for n in only or ():
        c = problem.constraints[n]
        if n in problem.broken:
            continue
        if c.q == NOBODY:
            for own, _ in c.classes:
                found.domains[c.p] &= ~own
        else:
            found.link((c.p, c.q, c.classes))
    for pair in pairs:
        found.pair(pair)
    for nogood in nogoods:
        found.forbid(nogood)
    return found


def propagate(model: Model, domains: Domains, changed: Iterable[int]) -> bool:
    """Drop options that nothing supports, until nothing changes; False when one has none left."""
    waiting = list(changed)
    queued = set(waiting)
    links = model.links
    while waiting:
        v = waiting.pop()
        queued.discard(v)
        if not domains[v]:
            return False
        for p, q, classes in links[v]:
            if p == v:
                rest, allowed = domains[v], 0
                for own, others in classes:
                    if rest & own:
                        allowed |= others
                        rest &= ~own
                        if not rest:
                            break
                if rest:
                    continue
                other, before = q, domains[q]
                after = before & allowed
            else:
                there = domains[v]
                other, before = p, domains[p]
                after = before
                for own, others in classes:
                    if not others & there:
                        after &= ~own
            if after != before:
                if not after:
                    return False
                domains[other] = after
                if other not in queued:
                    queued.add(other)
                    waiting.append(other)
        for other, after in _beyond_links(model, domains, v):
            if after != domains[other]:
                if not after:
                    return False
                domains[other] = after
                if other not in queued:
                    queued.add(other)
                    waiting.append(other)
    return True


def _beyond_links(model: Model, domains: Domains, v: int) -> Iterator[tuple[int, int]]:
    """What bundle rules and nogoods of v leave: a variable, and its domain after."""
    for rule in model.carried[v]:
        yield _carry(rule, domains)
    for nogood in model.nogoods[v]:
        yield _avoid(nogood, domains)


def _avoid(nogood: Nogood, domains: Domains) -> tuple[int, int]:
    """What a nogood leaves of one variable's domain: the variable, and its domain after."""
    last = -1
    for v, mask in nogood.items():
        if not domains[v] & mask or (domains[v] & ~mask and last >= 0):
            return v, domains[v]
        if domains[v] & ~mask:
            last = v
    if last < 0:
        return next(iter(nogood)), 0
    return last, domains[last] & ~nogood[last]


def _carry(rule: Carried, domains: Domains) -> tuple[int, int]:
    """What a bundle rule leaves of one variable's domain: the variable, and its domain after."""
    p, bit = rule.p, 1 << rule.i
    if domains[p] & bit:
        able = [(t, mask) for t, mask in rule.themes if domains[t] & mask]
        if not able:
            return p, domains[p] & ~bit
        if domains[p] == bit and len(able) == 1:
            theme, mask = able[0]
            return theme, domains[theme] & mask
    return p, domains[p]


def opened(
    model: Model, domains: Domains, variables: Iterable[int] | None = None
) -> tuple[Model, int]:
    """The model without what nothing can change any more, and what its decided pairs cost."""
    found = Model.bare(domains)
    settled = 0
    for v in range(len(domains)) if variables is None else variables:
        for link in model.links[v]:
            if link[0] == v and forbids(link, domains):
                found.link(link)
        for pair in model.pairs[v]:
            if pair.p != v:
                continue
            may, must = costs(pair, domains)
            if must:
                settled += pair.weight
            elif may:
                found.pair(pair)
        for rule in model.carried[v]:
            if rule.p == v and domains[v] >> rule.i & 1:
                found.carry(rule)
        for nogood in model.nogoods[v]:
            if v == next(iter(nogood)) and all(domains[u] & mask for u, mask in nogood.items()):
                found.forbid(nogood)
    return found, settled


def forbids(link: Link, domains: Sequence[int]) -> bool:
    """Whether a constraint still forbids something."""
    p, q, classes = link
    mine, there = domains[p], domains[q]
    return any(own & mine and there & ~others for own, others in classes)


def costs(pair: Pair, domains: Sequence[int]) -> tuple[bool, bool]:
    """Whether a pair may still cost, and whether it costs whatever is chosen."""
    rest, there = domains[pair.p], domains[pair.q]
    may, must = False, True
    for own, others in pair.classes:
        if own & rest:
            rest &= ~own
            may |= bool(others & there)
            must &= not there & ~others
    return may, must and not rest


def groups_of(
    model: Model,
    domains: Sequence[int],
    variables: Iterable[int],
) -> list[list[int]]:
    """The variables in groups that nothing still open joins."""
    leader = {v: v for v in variables}

    def find(v: int) -> int:
        while leader[v] != v:
            leader[v] = leader[leader[v]]
            v = leader[v]
        return v

    for v in leader:
        for link in model.links[v]:
            p, q, _ = link
            if p == v and q in leader and find(p) != find(q) and forbids(link, domains):
                leader[find(p)] = find(q)
        for pair in model.pairs[v]:
            p, q = pair.p, pair.q
            if p == v and q in leader and find(p) != find(q) and costs(pair, domains)[0]:
                leader[find(p)] = find(q)
        for rule in model.carried[v]:
            if rule.p == v and domains[v] >> rule.i & 1:
                for theme, mask in rule.themes:
                    if theme in leader and domains[theme] & mask:
                        leader[find(v)] = find(theme)
        for nogood in model.nogoods[v]:
            if all(domains[u] & mask for u, mask in nogood.items()):
                for u in nogood:
                    if u in leader:
                        leader[find(u)] = find(v)
    groups: dict[int, list[int]] = {}
    for v in leader:
        groups.setdefault(find(v), []).append(v)
    return list(groups.values())
