"""Options that need not be searched, since another can always stand in for them.

Of options that every neighbour takes alike the cheapest stays; and an option goes that a cheaper
one is at least as good as, whatever the neighbours do. The best choice is among what stays.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from windbreak.core.catalogue import bits
from windbreak.core.constraints import Classes
from windbreak.core.model import Domains, Model, Prices, propagate

# Where so much tells options apart, comparing them costs more than it saves the search.
_WORTH_REDUCING = 100_000
_MOST_RIVALS = 400


def reduce(model: Model, prices: Prices, domains: Domains, group: list[int]) -> None:
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


def split(options: int, masks: Iterable[int]) -> list[int]:
    """Options in blocks, split by every mask that tells some of them apart."""
    blocks, most = [options], options.bit_count()
    for mask in {mask & options for mask in masks}:
        if len(blocks) == most:
            break
        split = []
        for block in blocks:
            inside = block & mask
            if inside and inside != block:
                split += [inside, block ^ inside]
            else:
                split.append(block)
        blocks = split
    return blocks


def cheapest_alike(model: Model, prices: Prices, domains: Sequence[int], v: int) -> list[int]:
    """The cheapest option of each set that price and neighbours take alike."""
    masks = (*prices.marks(v), *_told_apart(model, domains, v))
    if len(masks) * domains[v].bit_count() > _WORTH_REDUCING:
        return list(bits(domains[v]))
    return [prices.pick(v, block) for block in split(domains[v], masks)]


def _told_apart(model: Model, domains: Sequence[int], v: int) -> set[int]:
    """Sets of options of v that some neighbour tells from the others."""
    found: set[int] = set()
    for p, q, classes in model.links[v]:
        there = domains[q] if p == v else domains[p]
        if not there & (there - 1):
            continue  # who is settled goes with every option that is left
        if p == v:
            found.update(_alike(classes, domains[v], there, there).values())
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
    reps = cheapest_alike(model, prices, domains, v)
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
    mine = domains[v]
    for p, q, classes in model.links[v]:
        there = domains[q] if p == v else domains[p]
        if not there & (there - 1):
            continue  # who is settled goes with every option that is left
        if p == v:
            # An option is better off than one that lacks some of what goes with it.
            fit = _alike(classes, mine, there, there)
            for seen, own in fit.items():
                worse = sum(mask for other, mask in fit.items() if seen & ~other)
                if worse:
                    yield own, worse
        else:
            for own, others in classes:
                if own & there:
                    yield others, ~others
    for pair in model.pairs[v]:
        there = domains[pair.q] if pair.p == v else domains[pair.p]
        if pair.p == v:
            cost = _alike(pair.classes, mine, there, 0)
            for seen, own in cost.items():
                worse = sum(mask for other, mask in cost.items() if other & ~seen)
                if worse:
                    yield own, worse
        else:
            for own, others in pair.classes:
                if own & there:
                    yield ~others, others
    for rule in model.carried[v]:
        if rule.p == v:
            yield ~(1 << rule.i), 1 << rule.i
        for theme, mask in rule.themes:
            if theme == v:
                yield mask, ~mask
    for nogood in model.nogoods[v]:
        yield ~nogood[v], nogood[v]


def _alike(classes: Classes, mine: int, there: int, rest: int) -> dict[int, int]:
    """Some options by which of a neighbour's they meet; those in no class meet the rest."""
    found: dict[int, int] = {}
    for own, others in classes:
        if own & mine:
            found[others & there] = found.get(others & there, 0) | own & mine
            mine &= ~own
    if mine:
        found[rest] = found.get(rest, 0) | mine
    return found
