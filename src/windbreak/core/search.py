"""Exact search over a numbered case: the cheapest choice, or whether there is any.

Own code, because it is the heart: branch and bound over bit sets. Costs are plain integers,
compared exactly; a caller packs an ordered vector into one (see resolve). This module knows
nothing of versions.

State of the search: for each variable its domain, the options still open, as bits. Steps:

(1) Drop options without support (`propagate`).
(2) Split the variables into groups that nothing still open joins; each is solved alone.
(3) In a group everybody takes the cheapest; who is at odds then, and whoever is at odds with the
    best choice for those, is searched, until nobody is: the bound is reached then. Of options
    that every neighbour takes alike only the cheapest stays, and an option goes that another
    is at least as good as, whatever the neighbours do (`_reduce`).
(4) Branch on the variable whose second choice is dearest, cheapest option first; the bound is the
    sum of the lowest prices. What falls apart on the way is split again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from windbreak.core.catalogue import bits
from windbreak.core.constraints import NOBODY, Carried, Classes, Pair, Problem

# Where so much tells options apart, comparing them costs more than it saves the search.
_WORTH_REDUCING = 100_000
_MOST_RIVALS = 400

Link = tuple[int, int, Classes]  # p, q, classes: see Constraint
Domains = list[int]
Nogood = Mapping[int, int]  # options, as bits, of some variables
Rows = dict[int, dict[int, int]]  # by variable, what each of its options costs by now
Best = tuple[int, dict[int, int]]


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
        size = range(len(domains))
        return cls(
            list(domains),
            [[] for _ in size],
            [[] for _ in size],
            [[] for _ in size],
            [[] for _ in size],
        )

    def carry(self, rule: Carried) -> None:
        for v in {rule.p, *(theme for theme, _ in rule.themes)}:
            self.carried[v].append(rule)

    def forbid(self, nogood: Nogood) -> None:
        for v in nogood:
            self.nogoods[v].append(nogood)


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
    for rule in problem.carried if carried is None else carried:
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
            link = (c.p, c.q, c.classes)
            found.links[c.p].append(link)
            found.links[c.q].append(link)
    for pair in pairs:
        found.pairs[pair.p].append(pair)
        found.pairs[pair.q].append(pair)
    for nogood in nogoods:
        found.forbid(nogood)
    return found


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
    opened, settled = _opened(model, domains)
    parts = []
    for group in _groups(opened, domains, range(len(domains))):
        part = _solved(opened, prices, domains, group)
        if part is None:
            return None
        parts.append(part)
    return Found(opened, settled, tuple(parts))


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
        for group in _groups(model, domains, part.variables):
            again = _solved(model, prices, domains, group)
            if again is None:
                return None
            parts.append(again)
    return Found(model, found.settled, tuple(parts))


def possible(
    model: Model,
    fixed: Mapping[int, int],
    among: Iterable[int] | None = None,
    start: Sequence[int] | None = None,
) -> bool:
    """Whether any choice meets the model's constraints; prices are not looked at.

    ``among`` names the variables that something binds, where that is known (all); ``start`` is a
    choice that nearly meets them, to begin with.
    """
    domains = list(model.domains)
    for v, mask in fixed.items():
        domains[v] &= mask
    variables = range(len(domains)) if among is None else list(among)
    if not propagate(model, domains, variables):
        return False
    if start is not None and _dived(model, domains, start):
        return True
    return _feasible(model, domains, variables)


def _dived(model: Model, domains: Domains, start: Sequence[int]) -> bool:
    """Whether settling one variable after the other, never going back, ends well.

    Those that can't stay where they are come first. False says nothing.
    """
    while not _nearly(model, domains, start):
        free = [v for v, d in enumerate(domains) if d & (d - 1)]
        if not free:
            return False
        v = min(free, key=lambda v: (domains[v] >> start[v] & 1, domains[v].bit_count()))
        options = sorted(bits(domains[v]), key=lambda i: (i != start[v], -i))
        for i in options:
            narrowed = list(domains)
            narrowed[v] = 1 << i
            if propagate(model, narrowed, (v,)):
                domains = narrowed
                break
        else:
            return False
    return True


def _nearly(model: Model, domains: Domains, start: Sequence[int]) -> bool:
    """Whether all is met where everybody stays who may, and the others go as high as they can."""
    choice = [
        i if domain >> i & 1 else domain.bit_length() - 1
        for i, domain in zip(start, domains, strict=True)
    ]
    for v, i in enumerate(choice):
        if i == start[v]:
            continue
        for p, q, classes in model.links[v]:
            for own, others in classes:
                if own >> choice[p] & 1:
                    if not others >> choice[q] & 1:
                        return False
                    break
    for rules in model.carried:
        for rule in rules:
            if choice[rule.p] == rule.i and not rule.holds(choice):
                return False
    return all(
        not all(mask >> choice[v] & 1 for v, mask in nogood.items())
        for nogoods in model.nogoods
        for nogood in nogoods
    )


def _feasible(model: Model, domains: Domains, open_: Iterable[int]) -> bool:
    """Whether what is still open can be settled, one group after the other."""
    for group in _groups(model, domains, open_):
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


def propagate(model: Model, domains: Domains, changed: Iterable[int]) -> bool:
    """Drop options that nothing supports, until nothing changes; False when one has none left."""
    waiting = list(changed)
    queued = set(waiting)
    links, carried = model.links, model.carried
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
        for rule in carried[v]:
            other, after = _carry(rule, domains)
            if after != domains[other]:
                if not after:
                    return False
                domains[other] = after
                if other not in queued:
                    queued.add(other)
                    waiting.append(other)
        for nogood in model.nogoods[v]:
            other, after = _avoid(nogood, domains)
            if other >= 0 and after != domains[other]:
                if not after:
                    return False
                domains[other] = after
                if other not in queued:
                    queued.add(other)
                    waiting.append(other)
    return True


def _avoid(nogood: Nogood, domains: Domains) -> tuple[int, int]:
    """What a nogood leaves of one variable's domain: the variable, and its domain after.

    The variable is below 0 where it leaves everybody as they are.
    """
    last = -1
    for v, mask in nogood.items():
        if not domains[v] & mask:
            return -1, 0
        if domains[v] & ~mask:
            if last >= 0:
                return -1, 0
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


def _opened(
    model: Model, domains: Domains, variables: Iterable[int] | None = None
) -> tuple[Model, int]:
    """The model without what nothing can change any more, and what its decided pairs cost."""
    opened = Model.bare(domains)
    settled = 0
    for v in range(len(domains)) if variables is None else variables:
        for link in model.links[v]:
            if link[0] == v and _forbids(link, domains):
                opened.links[v].append(link)
                opened.links[link[1]].append(link)
        for pair in model.pairs[v]:
            if pair.p != v:
                continue
            may, must = _costs(pair, domains)
            if must:
                settled += pair.weight
            elif may:
                opened.pairs[v].append(pair)
                opened.pairs[pair.q].append(pair)
        for rule in model.carried[v]:
            if rule.p == v and domains[v] >> rule.i & 1:
                opened.carry(rule)
        for nogood in model.nogoods[v]:
            if v == next(iter(nogood)) and all(domains[u] & mask for u, mask in nogood.items()):
                opened.forbid(nogood)
    return opened, settled


def _forbids(link: Link, domains: Sequence[int]) -> bool:
    """Whether a constraint still forbids something."""
    p, q, classes = link
    mine, there = domains[p], domains[q]
    return any(own & mine and there & ~others for own, others in classes)


def _costs(pair: Pair, domains: Sequence[int]) -> tuple[bool, bool]:
    """Whether a pair may still cost, and whether it costs whatever is chosen."""
    rest, there = domains[pair.p], domains[pair.q]
    may, must = False, True
    for own, others in pair.classes:
        if own & rest:
            rest &= ~own
            may |= bool(others & there)
            must &= not there & ~others
    return may, must and not rest


def _groups(
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
            if p == v and q in leader and find(p) != find(q) and _forbids(link, domains):
                leader[find(p)] = find(q)
        for pair in model.pairs[v]:
            p, q = pair.p, pair.q
            if p == v and q in leader and find(p) != find(q) and _costs(pair, domains)[0]:
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


def _solved(
    model: Model,
    prices: Prices,
    domains: Sequence[int],
    group: list[int],
) -> Part | None:
    """The best of one group of variables; None where there is none."""
    if len(group) == 1 and not model.pairs[group[0]]:
        (v,) = group
        least = min((prices.price(v, i), i) for i in _cheapest_alike(model, prices, domains, v))
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
    blocks = _split([domains[v]], prices.marks(v))
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
    _reduce(model, prices, own, group)
    model, settled = _opened(model, own, group)
    rows = {v: {i: prices.price(v, i) for i in bits(own[v])} for v in group}
    found = _Search(model).best(own, rows, group, None)
    return (settled + found[0], found[1]) if found else None


def _split(blocks: list[int], masks: Iterable[int]) -> list[int]:
    """Blocks of options, split by every mask that tells some of them apart."""
    for mask in masks:
        split = []
        for block in blocks:
            inside = block & mask
            if inside and inside != block:
                split += [inside, block ^ inside]
            else:
                split.append(block)
        blocks = split
    return blocks


def _cheapest_alike(model: Model, prices: Prices, domains: Sequence[int], v: int) -> list[int]:
    """The cheapest option of each set that price and neighbours take alike."""
    masks = (*prices.marks(v), *_told_apart(model, domains, v))
    if len(masks) * domains[v].bit_count() > _WORTH_REDUCING:
        return list(bits(domains[v]))
    return [prices.pick(v, block) for block in _split([domains[v]], masks)]


def _told_apart(model: Model, domains: Sequence[int], v: int) -> set[int]:
    """Sets of options of v that some neighbour tells from the others."""
    found: set[int] = set()
    for p, q, classes in model.links[v]:
        there = domains[q] if p == v else domains[p]
        if not there & (there - 1):
            continue  # who is settled goes with every option that is left
        if p == v:
            alike: dict[int, int] = {}
            for own, others in classes:
                seen = others & there
                if seen != there:
                    alike[seen] = alike.get(seen, 0) | own
            found.update(alike.values())
        else:
            found.update([others for own, others in classes if own & there])
    for pair in model.pairs[v]:
        for own, others in pair.classes:
            found.add(own if pair.p == v else others)
    for rule in model.carried[v]:
        if rule.p == v:
            found.add(1 << rule.i)
        found.update(mask for theme, mask in rule.themes if theme == v)
    found.update(nogood[v] for nogood in model.nogoods[v])
    return found


def _reduce(model: Model, prices: Prices, domains: Domains, group: list[int]) -> None:
    """Drop options that a cheaper one can always stand in for, until nothing changes."""
    waiting = dict.fromkeys(v for v in group if domains[v] & (domains[v] - 1))
    while waiting:
        v = next(iter(waiting))
        del waiting[v]
        before = list(domains)
        domains[v] = _unrivalled(model, prices, domains, v)
        if domains[v] != before[v]:
            propagate(model, domains, (v,))
            for u in group:
                if domains[u] != before[u]:
                    waiting |= dict.fromkeys(
                        w for w in _neighbours(model, u) if domains[w] & (domains[w] - 1)
                    )


def _neighbours(model: Model, v: int) -> list[int]:
    found = [q if p == v else p for p, q, _ in model.links[v]]
    found += [pair.q if pair.p == v else pair.p for pair in model.pairs[v]]
    for rule in model.carried[v]:
        found += [rule.p, *(theme for theme, _ in rule.themes)]
    for nogood in model.nogoods[v]:
        found += nogood
    return found


def _unrivalled(model: Model, prices: Prices, domains: Sequence[int], v: int) -> int:
    """The options of v of which none other is at least as good whatever the neighbours do."""
    reps = _cheapest_alike(model, prices, domains, v)
    if len(reps) == 1:
        return 1 << reps[0]
    if len(reps) > _MOST_RIVALS:
        return domains[v]
    among = sum(1 << i for i in reps)
    better_off = {
        (these & among, others & among)
        for these, others in _better_off(model, domains, v)
        if these & among and others & among
    }
    kept = 0
    for _, i in sorted((prices.price(v, i), i) for i in reps):
        rivals = kept  # all cheaper ones
        for these, others in better_off:
            if these >> i & 1:
                rivals &= ~others
                if not rivals:
                    break
        if not rivals:
            kept |= 1 << i
    return kept


def _better_off(model: Model, domains: Sequence[int], v: int) -> Iterator[tuple[int, int]]:
    """Options of v that are better off with some neighbour than others: ``(these, others)``."""
    for p, q, classes in model.links[v]:
        there = domains[q] if p == v else domains[p]
        if not there & (there - 1):
            continue  # who is settled goes with every option that is left
        if p != v:
            for own, others in classes:
                if own & there:
                    yield others, ~others
            continue
        bound = 0
        for own, others in classes:
            bound |= own
            worse = 0
            for other, less in classes:
                if others & there & ~less:
                    worse |= other
            yield own, worse
        yield ~bound, sum(own for own, others in classes if there & ~others)
    for pair in model.pairs[v]:
        there = domains[pair.q] if pair.p == v else domains[pair.p]
        if pair.p != v:
            for own, others in pair.classes:
                if own & there:
                    yield ~others, others
            continue
        bound = 0
        for own, others in pair.classes:
            bound |= own
            worse = 0
            for other, more in pair.classes:
                if more & there & ~others:
                    worse |= other
            yield own, worse
        yield ~bound, sum(own for own, others in pair.classes if there & others)
    for rule in model.carried[v]:
        if rule.p == v:
            yield ~(1 << rule.i), 1 << rule.i
        for theme, mask in rule.themes:
            if theme == v:
                yield mask, ~mask
    for nogood in model.nogoods[v]:
        yield ~nogood[v], nogood[v]


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
            groups = _groups(self.model, domains, free)
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
