"""Dominance: options that need not be searched, since another can always stand in for them.

Of options that every neighbour treats alike the cheapest stays (interchangeability, Freuder 1991);
and an option goes that a cheaper one is at least as good as, whatever the neighbours do. The best
choice is among what stays.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from windbreak.core.bits import bits
from windbreak.core.solver.constraints import Domains
from windbreak.core.solver.network import Network, Prices

# Where so much tells options apart, comparing them costs more than it saves the search.
_WORTH_REDUCING = 100_000
_MOST_RIVALS = 400


def reduce(network: Network, prices: Prices, domains: Domains, group: list[int]) -> None:
    """Drop dominated options until nothing changes."""
    waiting = dict.fromkeys(v for v in group if domains[v] & (domains[v] - 1))
    while waiting:
        v = next(iter(waiting))
        del waiting[v]
        before = list(domains)
        domains[v] = _undominated(network, prices, domains, v)
        if domains[v] != before[v]:
            network.propagate(domains, (v,))
            for u in group:
                if domains[u] != before[u]:
                    waiting |= dict.fromkeys(
                        w for w in _neighbours(network, u) if domains[w] & (domains[w] - 1)
                    )


def split(options: int, masks: Iterable[int]) -> list[int]:
    """Options in blocks, split by every mask that tells some of them apart.

    split(0b1111, [0b0011]) == [0b0011, 0b1100]
    """
    blocks, most = [options], options.bit_count()
    for mask in {mask & options for mask in masks}:
        if len(blocks) == most:
            break
        parts = []
        for block in blocks:
            inside = block & mask
            if inside and inside != block:
                parts += [inside, block ^ inside]
            else:
                parts.append(block)
        blocks = parts
    return blocks


def cheapest_alike(network: Network, prices: Prices, domains: Sequence[int], v: int) -> list[int]:
    """The cheapest option of each set that prices and neighbours treat alike."""
    masks = {*prices.marks(v)}
    for constraint in network.constraints[v]:
        masks.update(constraint.distinctions(domains, v))
    for cost in network.costs[v]:
        masks.update(cost.distinctions(v))
    if len(masks) * domains[v].bit_count() > _WORTH_REDUCING:
        return list(bits(domains[v]))
    return [prices.pick(v, block) for block in split(domains[v], masks)]


def _neighbours(network: Network, v: int) -> Iterator[int]:
    for constraint in network.constraints[v]:
        yield from constraint.scope
    for cost in network.costs[v]:
        yield cost.q if cost.p == v else cost.p


def _undominated(network: Network, prices: Prices, domains: Sequence[int], v: int) -> int:
    """The options of v of which none other is at least as good whatever the neighbours do."""
    candidates = cheapest_alike(network, prices, domains, v)
    if len(candidates) == 1:
        return 1 << candidates[0]
    if len(candidates) > _MOST_RIVALS:
        return domains[v]
    among = sum([1 << i for i in candidates])
    advantages = {
        (these & among, others & among)
        for these, others in _advantages(network, domains, v)
        if these & among and others & among
    }
    kept = 0
    for _, i in sorted([(prices.price(v, i), i) for i in candidates]):
        rivals = kept  # all cheaper ones
        for these, others in advantages:
            if these >> i & 1:
                rivals &= ~others
                if not rivals:
                    break
        if not rivals:
            kept |= 1 << i
    return kept


def _advantages(network: Network, domains: Sequence[int], v: int) -> Iterator[tuple[int, int]]:
    for constraint in network.constraints[v]:
        yield from constraint.advantages(domains, v)
    for cost in network.costs[v]:
        yield from cost.advantages(domains, v)
