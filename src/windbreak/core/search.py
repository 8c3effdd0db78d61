"""Exact search over a numbered case: the cheapest choice, or whether there is any.

Own code, because it is the heart: branch and bound over bit sets. Costs are plain integers,
compared exactly; a caller packs an ordered vector into one (see resolve). This module knows
nothing of versions.

State of the search, for each variable:

    domain   the options still open, as bits
    price    what each option costs by itself, plus the pairs it makes with variables settled

Steps: (1) split the variables into groups that no constraint joins, each solved alone; (2) in a
group, settle variables whose domain is one option and charge its pairs to their neighbours'
prices; (3) drop options without support; (4) bound: the sum of the lowest open prices; (5)
branch on the variable with the fewest open options, cheapest option first.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from windbreak.core.constraints import NOBODY, Problem


@dataclass(frozen=True, slots=True)
class Pair:
    """Options of p and q that cost something together: ``cost[i]`` has bit j for each such j."""

    p: int
    q: int
    weight: int
    cost: tuple[int, ...]


@dataclass(slots=True)
class Model:
    """What is searched: domains, hard tables, prices. Built once, asked many times.

    ``links[p]`` lists ``(q, table)``: with option i of p, only the options ``table[i]`` of q.
    ``charges[p]`` lists ``(q, weight, table)`` alike, for pairs that cost. ``carried`` lists
    ``(p, bit, themes)``: the option needs one of the themes at one of the marked options.
    """

    domains: list[int]
    links: list[list[tuple[int, tuple[int, ...]]]]
    charges: list[list[tuple[int, int, tuple[int, ...]]]]
    carried: list[tuple[int, int, tuple[tuple[int, int], ...]]]
    prices: list[list[int]]


def build_model(
    problem: Problem,
    *,
    only: Iterable[int] | None = None,
    carried: Iterable[int] | None = None,
    prices: Sequence[Sequence[int]] | None = None,
    pairs: Iterable[Pair] = (),
    broken_weight: int = 0,
) -> Model:
    """Make a model. ``only``/``carried`` name the constraints and bundle rules that bind (all).

    Constraints that do not hold today never bind; each costs ``broken_weight`` where it stays
    unmet.
    """
    size = len(problem.members)
    domains = list(problem.domains)
    links: list[list[tuple[int, tuple[int, ...]]]] = [[] for _ in range(size)]
    charges: list[list[tuple[int, int, tuple[int, ...]]]] = [[] for _ in range(size)]
    own = [list(p) for p in prices] if prices else [[0] * len(o) for o in problem.options]
    chosen = range(len(problem.constraints)) if only is None else sorted(set(only))
    for n in chosen:
        c = problem.constraints[n]
        if n in problem.broken:
            if broken_weight and c.q == NOBODY:
                for i, fit in enumerate(c.fits):
                    own[c.p][i] += 0 if fit else broken_weight
            elif broken_weight:
                every = problem.domains[c.q]
                table = tuple(every & ~fit for fit in c.fits)
                _charge(charges, Pair(c.p, c.q, broken_weight, table), len(problem.options[c.q]))
        elif c.q == NOBODY:
            for i, fit in enumerate(c.fits):
                if not fit:
                    domains[c.p] &= ~(1 << i)
        else:
            links[c.p].append((c.q, c.fits))
            links[c.q].append((c.p, _turn(c.fits, len(problem.options[c.q]))))
    for pair in pairs:
        _charge(charges, pair, len(problem.options[pair.q]))
    rules = problem.carried
    which = range(len(rules)) if carried is None else sorted(set(carried))
    bundle = [(rules[n].p, 1 << rules[n].i, rules[n].themes) for n in which]
    return Model(domains, links, charges, bundle, own)


def _charge(charges: list[list[tuple[int, int, tuple[int, ...]]]], pair: Pair, width: int) -> None:
    charges[pair.p].append((pair.q, pair.weight, pair.cost))
    charges[pair.q].append((pair.p, pair.weight, _turn(pair.cost, width)))


def _turn(table: Sequence[int], width: int) -> tuple[int, ...]:
    """The same pairs of options seen from the other side."""
    return tuple(sum(1 << i for i, mask in enumerate(table) if mask >> j & 1) for j in range(width))


def cheapest(
    model: Model,
    fixed: dict[int, int] | None = None,
    forbidden: Sequence[dict[int, int]] = (),
) -> tuple[int, ...] | None:
    """The cheapest choice, an option number for each variable; None where there is none.

    ``fixed`` narrows domains (variable to bits). A choice that contains one of ``forbidden``
    whole (variable to option) is passed over.
    """
    domains = list(model.domains)
    for v, mask in (fixed or {}).items():
        domains[v] &= mask
    if not _propagate(model, domains, range(len(domains))):
        return None
    answer = [0] * len(domains)
    for group in _groups(model, domains, forbidden):
        ban = [f for f in forbidden if f and next(iter(f)) in group]
        best = _Search(model, group, ban).run(domains)
        if best is None:
            return None
        for v, i in best.items():
            answer[v] = i
    return tuple(answer)


def possible(model: Model, fixed: dict[int, int] | None = None) -> bool:
    """Whether any choice meets the model's constraints; prices are not looked at."""
    free = Model(
        model.domains,
        model.links,
        [[] for _ in model.domains],
        model.carried,
        [[0] * len(p) for p in model.prices],
    )
    return cheapest(free, fixed) is not None


def _groups(
    model: Model, domains: Sequence[int], forbidden: Sequence[dict[int, int]]
) -> list[list[int]]:
    """The variables in groups that nothing joins; settled ones stand alone."""
    leader = list(range(len(domains)))

    def find(v: int) -> int:
        while leader[v] != v:
            leader[v] = leader[leader[v]]
            v = leader[v]
        return v

    def join(a: int, b: int) -> None:
        leader[find(a)] = find(b)

    for p in range(len(domains)):
        for q, _ in model.links[p]:
            join(p, q)
        for q, _, _ in model.charges[p]:
            join(p, q)
    for p, _, themes in model.carried:
        for theme, _ in themes:
            join(p, theme)
    for banned in forbidden:
        first, *rest = banned
        for v in rest:
            join(first, v)
    groups: dict[int, list[int]] = {}
    for v in range(len(domains)):
        groups.setdefault(find(v), []).append(v)
    return list(groups.values())


def _propagate(model: Model, domains: list[int], changed: Iterable[int]) -> bool:
    """Drop options that nothing supports, until nothing changes; False when one has none left."""
    waiting = list(changed)
    queued = set(waiting)
    carried = model.carried
    while True:
        while waiting:
            p = waiting.pop()
            queued.discard(p)
            domain = domains[p]
            if not domain:
                return False
            for q, table in model.links[p]:
                support = 0
                rest = domain
                before = domains[q]
                while rest:
                    low = rest & -rest
                    support |= table[low.bit_length() - 1]
                    rest ^= low
                    if not before & ~support:
                        break
                after = before & support
                if after != before:
                    if not after:
                        return False
                    domains[q] = after
                    if q not in queued:
                        queued.add(q)
                        waiting.append(q)
        for p, bit, themes in carried:
            if domains[p] & bit:
                able = [(t, mask) for t, mask in themes if domains[t] & mask]
                if not able:
                    after, hit = domains[p] & ~bit, p
                elif domains[p] == bit and len(able) == 1:
                    hit, mask = able[0]
                    after = domains[hit] & mask
                else:
                    continue
                if not after:
                    return False
                if after != domains[hit]:
                    domains[hit] = after
                    if hit not in queued:
                        queued.add(hit)
                        waiting.append(hit)
        if not waiting:
            return True


class _Search:
    """Branch and bound over one group."""

    def __init__(self, model: Model, group: list[int], forbidden: list[dict[int, int]]) -> None:
        self.model = model
        self.group = group
        self.forbidden = forbidden
        self.best_cost: int | None = None
        self.best: dict[int, int] | None = None

    def run(self, domains: Sequence[int]) -> dict[int, int] | None:
        prices = {v: self.model.prices[v] for v in self.group}
        self._go(list(domains), prices, 0, list(self.group))
        return self.best

    def _go(
        self, domains: list[int], prices: dict[int, list[int]], spent: int, open_: list[int]
    ) -> None:
        # Settle what has one option left; its pairs are charged to the neighbours still open.
        still = []
        for v in open_:
            if domains[v] & (domains[v] - 1):
                still.append(v)
                continue
            i = domains[v].bit_length() - 1
            spent += prices[v][i]
            for q, weight, table in self.model.charges[v]:
                mask = table[i]
                if q in prices and mask & domains[q]:
                    row = prices[q] = list(prices[q])
                    for j in range(len(row)):
                        if mask >> j & 1:
                            row[j] += weight
            prices = {q: row for q, row in prices.items() if q != v}
        bound = spent
        choice, fewest, floor = -1, 0, 0
        for v in still:
            row, rest, low = prices[v], domains[v], None
            count = rest.bit_count()
            while rest:
                bit = rest & -rest
                cost = row[bit.bit_length() - 1]
                if low is None or cost < low:
                    low = cost
                rest ^= bit
            assert low is not None  # an open variable has options
            bound += low
            if choice < 0 or count < fewest or (count == fewest and low > floor):
                choice, fewest, floor = v, count, low
        if self.best_cost is not None and bound >= self.best_cost:
            return
        if not still:
            found = {v: domains[v].bit_length() - 1 for v in self.group}
            if not any(all(found[v] == i for v, i in f.items()) for f in self.forbidden):
                self.best_cost, self.best = spent, found
            return
        row = prices[choice]
        options = [i for i in range(len(row)) if domains[choice] >> i & 1]
        for i in sorted(options, key=row.__getitem__):
            if self.best_cost is not None and bound - floor + row[i] >= self.best_cost:
                break
            narrowed = list(domains)
            narrowed[choice] = 1 << i
            if _propagate(self.model, narrowed, [choice]):
                self._go(narrowed, dict(prices), spent, still)
