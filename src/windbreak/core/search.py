"""Exact search over a numbered case: the cheapest choice, or whether there is any.

Own code, because it is the heart: branch and bound over bit sets. Costs are plain integers,
compared exactly; a caller packs an ordered vector into one (see resolve). This module knows
nothing of versions.

State of the search: for each variable its domain, the options still open, as bits. Steps:

(1) Drop options without support (see model).
(2) Split the variables into groups that nothing still open joins; each is solved alone.
(3) In a group everybody takes the cheapest; who is at odds then, and whoever is at odds with the
    best choice for those, is searched, until nobody is: the bound is reached then. Of options
    that every neighbour takes alike only the cheapest stays, and an option goes that another
    is at least as good as, whatever the neighbours do (see reduce).
(4) Branch on the variable whose second choice is dearest, cheapest option first; the bound is the
    sum of the lowest prices. What falls apart on the way is split again.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from windbreak.core.catalogue import bits
from windbreak.core.constraints import Pair
from windbreak.core.model import Domains, Model, Prices, groups_of, opened, propagate
from windbreak.core.reduce import cheapest_alike, reduce, split

Rows = dict[int, dict[int, int]]  # by variable, what each of its options costs by now
Best = tuple[int, dict[int, int]]
Choice = tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Part:
    """Variables that nothing open joins to others, and the best choice for them."""

    variables: tuple[int, ...]
    cost: int
    choice: Mapping[int, int]


@dataclass(frozen=True, slots=True)
class Found:
    """The cheapest choice, by parts, so that a question about one need not look at the others.

    ``model`` holds only what was still open after the first look; ``settled`` is what its pairs
    cost that were not.
    """

    model: Model
    settled: int
    parts: tuple[Part, ...]

    @property
    def cost(self) -> int:
        return self.settled + sum(part.cost for part in self.parts)

    @property
    def choice(self) -> tuple[int, ...]:
        found = {v: i for part in self.parts for v, i in part.choice.items()}
        return tuple(found[v] for v in range(len(found)))


def cheapest(model: Model, prices: Prices) -> Found | None:
    """The cheapest choice; None where there is none."""
    domains = list(model.domains)
    if not propagate(model, domains, range(len(domains))):
        return None
    left, settled = opened(model, domains)
    parts = []
    for group in groups_of(left, domains, range(len(domains))):
        part = _solved(left, prices, domains, group)
        if part is None:
            return None
        parts.append(part)
    return Found(left, settled, tuple(parts))


def cheapest_with(found: Found, prices: Prices, v: int, option: int) -> Found | None:
    """The cheapest choice that has one option, given the cheapest that need not."""
    model = found.model
    if not model.domains[v] >> option & 1:
        return None
    domains = list(model.domains)
    domains[v] = 1 << option
    if not propagate(model, domains, (v,)):
        return None
    parts: list[Part] = []
    for part in found.parts:
        if v not in part.choice:
            parts.append(part)
            continue
        for group in groups_of(model, domains, part.variables):
            again = _solved(model, prices, domains, group)
            if again is None:
                return None
            parts.append(again)
    return Found(model, found.settled, tuple(parts))


def possible(model: Model, fixed: Mapping[int, int], among: Iterable[int] | None = None) -> bool:
    """Whether any choice meets the model's constraints; prices are not looked at.

    ``among`` names the variables that something binds, where that is known (all).
    """
    domains = list(model.domains)
    for v, mask in fixed.items():
        domains[v] &= mask
    variables = range(len(domains)) if among is None else list(among)
    return propagate(model, domains, variables) and _feasible(model, domains, variables)


def possible_from(model: Model, v: int, option: int, known: list[Choice]) -> bool:
    """Whether any choice that has one option meets the model's constraints.

    ``known`` are choices that meet them; they are tried first, and one that is found joins them.
    """
    for choice in reversed(known):
        here = choice if choice[v] == option else (*choice[:v], option, *choice[v + 1 :])
        if _odd(model, here, (v,)) is None:
            known.append(here)
            return True
    domains = list(model.domains)
    domains[v] = 1 << option
    if not propagate(model, domains, (v,)):
        return False
    found = _dived(model, domains, known[0])
    if found is None:
        return possible(model, {v: 1 << option})
    known.append(found)
    return True


def _dived(model: Model, domains: Domains, start: Choice) -> Choice | None:
    """What settling one variable after the other, never going back, comes to, if it ends well.

    Everybody stays who may, and the others go as high as they can; of those at odds then, one who
    can't stay is settled first.
    """
    while True:
        moved = [v for v, domain in enumerate(domains) if not domain >> start[v] & 1]
        choice = list(start)
        for v in moved:
            choice[v] = domains[v].bit_length() - 1
        odd = _odd(model, choice, moved)
        if odd is None:
            return tuple(choice)
        free = [v for v in odd if domains[v] & (domains[v] - 1)]
        if not free:
            return None
        v = min(free, key=lambda v: (domains[v] >> start[v] & 1, domains[v].bit_count()))
        options = sorted(bits(domains[v]), key=lambda i: (i != start[v], -i))
        for i in options:
            narrowed = list(domains)
            narrowed[v] = 1 << i
            if propagate(model, narrowed, (v,)):
                domains = narrowed
                break
        else:
            return None


def _odd(model: Model, choice: Sequence[int], moved: Iterable[int]) -> Collection[int] | None:
    """Some who are at odds in a choice, one of whom moved; None where nobody is."""
    for v in moved:
        for p, q, classes in model.links[v]:
            i, j = choice[p], choice[q]
            for own, others in classes:
                if own >> i & 1:
                    if not others >> j & 1:
                        return p, q
                    break
        for rule in model.carried[v]:
            if choice[rule.p] == rule.i and not rule.holds(choice):
                return rule.p, *(theme for theme, _ in rule.themes)
        for nogood in model.nogoods[v]:
            if all(mask >> choice[u] & 1 for u, mask in nogood.items()):
                return nogood.keys()
    return None


def _feasible(model: Model, domains: Domains, open_: Iterable[int]) -> bool:
    """Whether what is still open can be settled, one group after the other."""
    for group in groups_of(model, domains, open_):
        free = [v for v in group if domains[v] & (domains[v] - 1)]
        if len(group) == 1 or not free:
            continue
        v = min(free, key=lambda v: domains[v].bit_count())
        for i in reversed(list(bits(domains[v]))):
            narrowed = list(domains)
            narrowed[v] = 1 << i
            if propagate(model, narrowed, (v,)) and _feasible(model, narrowed, group):
                break
        else:
            return False
    return True


def _solved(
    model: Model,
    prices: Prices,
    domains: Sequence[int],
    group: list[int],
) -> Part | None:
    """The best of one group of variables; None where there is none."""
    if len(group) == 1 and not model.pairs[group[0]]:
        (v,) = group
        least = min((prices.price(v, i), i) for i in cheapest_alike(model, prices, domains, v))
        return Part((v,), least[0], {v: least[1]})
    choice = {v: _cheapest_by_itself(prices, domains, v) for v in group}
    inside: set[int] = set()
    cost = 0
    while True:
        more = _at_odds(model, choice, inside)
        if not more:
            rest = sum(prices.price(v, i) for v, i in choice.items() if v not in inside)
            return Part(tuple(group), cost + rest, choice)
        inside |= more
        among = [v for v in group if v in inside]
        found = _solved_whole(_within(model, inside), prices, domains, among)
        if found is None:
            return None
        cost = found[0]
        choice |= found[1]


def _cheapest_by_itself(prices: Prices, domains: Sequence[int], v: int) -> int:
    """The option of v that costs least, its neighbours left out of account."""
    blocks = split(domains[v], prices.marks(v))
    return min((prices.price(v, i), i) for i in (prices.pick(v, block) for block in blocks))[1]


def _at_odds(model: Model, choice: Mapping[int, int], inside: set[int]) -> set[int]:
    """Who takes part in what a choice does not meet, or pays for, that is not all inside."""
    found: set[int] = set()
    for v, i in choice.items():
        for p, q, classes in model.links[v]:
            # A neighbour of another group goes with whatever is left here.
            if p == v and q in choice and not (p in inside and q in inside):
                for own, others in classes:
                    if own >> i & 1:
                        if not others >> choice[q] & 1:
                            found |= {p, q}
                        break
        for pair in model.pairs[v]:
            if pair.p == v and not (v in inside and pair.q in inside) and _met(pair, choice):
                found |= {v, pair.q}
        for rule in model.carried[v]:
            if rule.p == v and rule.i == i:
                ends = {v, *(theme for theme, _ in rule.themes)}
                held = any(mask >> choice[t] & 1 for t, mask in rule.themes if t in choice)
                if not held and not ends <= inside:
                    found |= ends
        for nogood in model.nogoods[v]:
            met = all(mask >> choice[u] & 1 for u, mask in nogood.items() if u in choice)
            if met and not nogood.keys() <= inside:
                found |= nogood.keys()
    return found & choice.keys()


def _met(pair: Pair, choice: Mapping[int, int]) -> bool:
    i, j = choice[pair.p], choice.get(pair.q)
    if j is None:
        return False
    return any(own >> i & 1 and others >> j & 1 for own, others in pair.classes)


def _within(model: Model, inside: set[int]) -> Model:
    """The model with only what binds those inside among themselves."""
    found = Model.bare(model.domains)
    for v in inside:
        found.links[v] = [x for x in model.links[v] if x[0] in inside and x[1] in inside]
        found.pairs[v] = [x for x in model.pairs[v] if x.p in inside and x.q in inside]
        found.carried[v] = [
            rule
            for rule in model.carried[v]
            if rule.p in inside and all(theme in inside for theme, _ in rule.themes)
        ]
        found.nogoods[v] = [x for x in model.nogoods[v] if x.keys() <= inside]
    return found


def _solved_whole(
    model: Model, prices: Prices, domains: Sequence[int], group: list[int]
) -> Best | None:
    """The best of some variables: reduced, then searched."""
    own = list(domains)
    reduce(model, prices, own, group)
    model, settled = opened(model, own, group)
    rows = {v: {i: prices.price(v, i) for i in bits(own[v])} for v in group}
    found = _Search(model).best(own, rows, group, None)
    return (settled + found[0], found[1]) if found else None


class _Search:
    """Branch and bound over one group."""

    def __init__(self, model: Model) -> None:
        self.model = model

    def best(
        self, domains: Domains, rows: Rows, group: Sequence[int], limit: int | None
    ) -> Best | None:
        """The cheapest choice for a group that costs less than ``limit``; None without any.

        What is settled is paid, and lays what its pairs cost on the neighbours still open.
        """
        rows = {v: rows[v] for v in group}
        spent, choice = 0, {}
        free = []
        for v in group:
            if domains[v] & (domains[v] - 1):
                free.append(v)
        for v in group:
            if not domains[v] & (domains[v] - 1):
                i = domains[v].bit_length() - 1
                spent += rows.pop(v)[i]
                choice[v] = i
                for pair in self.model.pairs[v]:
                    _lay(pair, v, i, domains, rows)
        lows = {v: min(rows[v][i] for i in bits(domains[v])) for v in free}
        bound = spent + sum(lows.values())
        if limit is not None and bound >= limit:
            return None
        if free:
            groups = groups_of(self.model, domains, free)
            for g in sorted(groups, key=len):
                low = sum(lows[v] for v in g)
                room = None if limit is None else limit - (bound - low)
                found = self._branch(domains, rows, g, room)
                if found is None:
                    return None
                bound += found[0] - low
                choice |= found[1]
        return bound, choice

    def _branch(
        self, domains: Domains, rows: Rows, group: Sequence[int], limit: int | None
    ) -> Best | None:
        """Try each option of one variable of a group, cheapest first."""
        v = min(group, key=lambda v: self._promise(v, domains, rows))
        rest = sum(min(rows[u][i] for i in bits(domains[u])) for u in group if u != v)
        best = None
        for i in sorted(bits(domains[v]), key=rows[v].__getitem__):
            if limit is not None and rows[v][i] + rest >= limit:
                break
            narrowed = list(domains)
            narrowed[v] = 1 << i
            if propagate(self.model, narrowed, (v,)):
                found = self.best(narrowed, rows, group, limit)
                if found is not None:
                    best, limit = found, found[0]
        return best

    def _promise(self, v: int, domains: Sequence[int], rows: Rows) -> tuple[int, int]:
        """Who is branched on first: whose second choice is dearest, then who binds the most."""
        first, second, *_ = sorted(rows[v][i] for i in bits(domains[v]))
        return -(second - first).bit_length(), -len(self.model.links[v])


def _lay(pair: Pair, v: int, i: int, domains: Sequence[int], rows: Rows) -> None:
    """Lay what a pair costs with option i of v on the options of the other, if it is open."""
    other = pair.q if pair.p == v else pair.p
    row = rows.get(other)
    if row is None:
        return
    hit = 0
    for own, others in pair.classes:
        if pair.p == v and own >> i & 1:
            hit = others
            break
        if pair.q == v and others >> i & 1:
            hit |= own
    if hit & domains[other]:
        rows[other] = {j: p + pair.weight if hit >> j & 1 else p for j, p in row.items()}
