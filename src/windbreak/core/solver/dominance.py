"""Dominance: options that need not be searched, since another can always stand in for them.

Of options that every neighbour treats alike the cheapest stays (interchangeability, Freuder 1991);
and an option goes that a cheaper one is at least as good as, whatever the neighbours do. The best
choice is among what stays.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from windbreak.core.solver.constraints import Domains
from windbreak.core.solver.network import Network, Prices

# Where so much tells options apart, comparing them costs more than it saves the search.
_WORTH_COMPARING = 100_000
_MOST_RIVALS = 400


def reduce(network: Network, prices: Prices, domains: Domains, group: Iterable[int]) -> None:
    """Drop dominated options: of each variable once, those that bind the least first, since what
    they keep tells fewer options of their neighbours apart.
    """
    free = [v for v in group if domains[v] & (domains[v] - 1)]
    for v in sorted(free, key=lambda v: len(network.constraints[v])):
        domains[v] = _undominated(network, prices, domains, v)


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


def _undominated(network: Network, prices: Prices, domains: Sequence[int], v: int) -> int:
    """The options of v of which none other is at least as good whatever the neighbours do."""
    domain = domains[v]
    pairs = [
        *[pair for bond in network.constraints[v] for pair in bond.advantages(domains, v)],
        *[pair for cost in network.costs[v] for pair in cost.advantages(domains, v)],
    ]
    advantages = {(these & domain, others & domain) for these, others in pairs}
    masks = {*prices.marks(v), *[these for these, _ in advantages]}
    if len(masks) * domain.bit_count() > _WORTH_COMPARING:
        return domain
    candidates = [prices.pick(v, block) for block in split(domain, masks)]
    if len(candidates) > _MOST_RIVALS:
        return domain
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
