"""Exact search over a network: the cheapest choice, or whether there is any.

Own code, because it is the heart: branch and bound over bit sets. Costs are plain integers,
compared exactly; a caller packs an ordered vector into one (see resolution). This module knows
nothing of versions. State of the search: for each variable its domain, the options still open.

(1) Propagate: drop options without support (see network).
(2) Split the variables into connected components that nothing still open joins; each is solved
    alone.
(3) In a component every variable takes its cheapest option. Those that a constraint or a cost then
    sets at odds are searched; whoever is at odds with their best choice joins them, until nobody
    is: then the lower bound is reached. Of options that all neighbours treat alike only the
    cheapest stays, and a dominated option goes (see dominance).
(4) Branch on the variable whose second option is dearest, cheapest option first; the bound is the
    sum of the lowest prices. What falls apart on the way is split again.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence, Set
from dataclasses import dataclass

from windbreak.core.bits import bits
from windbreak.core.solver.constraints import Cost, Domains
from windbreak.core.solver.dominance import reduce, split
from windbreak.core.solver.network import Network, Prices

Rows = dict[int, dict[int, int]]  # by variable, what each of its options costs by now
Best = tuple[int, dict[int, int]]
Choice = tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Component:
    """Variables that nothing open joins to others, and the best choice for them."""

    variables: tuple[int, ...]
    cost: int
    choice: Mapping[int, int]


@dataclass(frozen=True, slots=True)
class Optimum:
    """The cheapest choice, by components, so that a question about one need not look at others.

    ``network`` holds only what was still open after the first propagation; ``paid`` is what its
    costs came to that were not.
    """

    network: Network
    paid: int
    components: tuple[Component, ...]

    @property
    def cost(self) -> int:
        return self.paid + sum(component.cost for component in self.components)

    @property
    def choice(self) -> Choice:
        options = {v: i for component in self.components for v, i in component.choice.items()}
        return tuple([options[v] for v in range(len(options))])


def cheapest(network: Network, prices: Prices) -> Optimum | None:
    """The cheapest choice; None where there is none."""
    domains = list(network.domains)
    if not network.propagate(domains, range(len(domains))):
        return None
    left, paid = network.simplified(domains)
    solved = []
    for group in left.components(domains, range(len(domains)), simplified=True):
        component = _solved(left, prices, domains, group)
        if component is None:
            return None
        solved.append(component)
    return Optimum(left, paid, tuple(solved))


def cheapest_with(optimum: Optimum, prices: Prices, v: int, option: int) -> Optimum | None:
    """The cheapest choice that has one option, given the cheapest that need not."""
    network = optimum.network
    if not network.domains[v] >> option & 1:
        return None
    domains = list(network.domains)
    domains[v] = 1 << option
    if not network.propagate(domains, (v,)):
        return None
    solved: list[Component] = []
    for component in optimum.components:
        if v not in component.choice:
            solved.append(component)
            continue
        for group in network.components(domains, component.variables):
            again = _solved(network, prices, domains, group)
            if again is None:
                return None
            solved.append(again)
    return Optimum(network, optimum.paid, tuple(solved))


def satisfiable(
    network: Network, fixed: Mapping[int, int], among: Iterable[int] | None = None
) -> bool:
    """Whether any choice meets the constraints; prices are not looked at.

    ``fixed`` narrows domains; ``among`` names the variables that something binds, where that is
    known (all).
    """
    domains = list(network.domains)
    for v, mask in fixed.items():
        domains[v] &= mask
    variables = range(len(domains)) if among is None else list(among)
    return network.propagate(domains, variables) and _settled(network, domains, variables)


def satisfiable_from(network: Network, v: int, option: int, choices: list[Choice]) -> bool:
    """Whether any choice that has one option meets the constraints.

    ``choices`` meet them; they are tried first, and one that is found joins them.
    """
    for choice in reversed(choices):
        here = choice if choice[v] == option else (*choice[:v], option, *choice[v + 1 :])
        if _odd(network, here, (v,)) is None:
            choices.append(here)
            return True
    domains = list(network.domains)
    domains[v] = 1 << option
    if not network.propagate(domains, (v,)):
        return False
    dived = _dived(network, domains, choices[0])
    if dived is None:
        return satisfiable(network, {v: 1 << option})
    choices.append(dived)
    return True


def _dived(network: Network, domains: Domains, start: Choice) -> Choice | None:
    """What settling one variable after the other, never going back, comes to, if it ends well.

    Everybody stays who may, and the others go as high as they can; of those at odds then, one who
    can't stay is settled first.
    """
    while True:
        moved = [v for v, domain in enumerate(domains) if not domain >> start[v] & 1]
        choice = list(start)
        for v in moved:
            choice[v] = domains[v].bit_length() - 1
        odd = _odd(network, choice, moved)
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
            if network.propagate(narrowed, (v,)):
                domains = narrowed
                break
        else:
            return None


def _odd(network: Network, choice: Sequence[int], moved: Iterable[int]) -> Collection[int] | None:
    """The scope of a constraint that a choice violates, one of whom moved; None where none is."""
    for v in moved:
        for constraint in network.constraints[v]:
            if constraint.violated(choice):
                return constraint.scope
    return None


def _settled(network: Network, domains: Domains, open_: Sequence[int]) -> bool:
    """Whether what is still open can be settled, one component after the other."""
    for group in network.components(domains, open_):
        free = [v for v in group if domains[v] & (domains[v] - 1)]
        if len(group) == 1 or not free:
            continue
        v = min(free, key=lambda v: domains[v].bit_count())
        for i in reversed(list(bits(domains[v]))):
            narrowed = list(domains)
            narrowed[v] = 1 << i
            if network.propagate(narrowed, (v,)) and _settled(network, narrowed, group):
                break
        else:
            return False
    return True


def _solved(
    network: Network, prices: Prices, domains: Sequence[int], group: list[int]
) -> Component | None:
    """The best of one component; None where there is none."""
    choice = {v: _cheapest_alone(prices, domains, v) for v in group}
    component = choice.keys()
    # Variables of other components stand for whatever is left of them.
    whole = [domain.bit_length() - 1 for domain in domains]
    inside: set[int] = set()
    cost = 0
    while True:
        for v, i in choice.items():
            whole[v] = i
        more = _at_odds(network, domains, whole, component, inside)
        if not more:
            rest = sum(prices.price(v, i) for v, i in choice.items() if v not in inside)
            return Component(tuple(group), cost + rest, choice)
        inside |= more
        among = [v for v in group if v in inside]
        best = _searched(network.within(domains, inside, component), prices, domains, among)
        if best is None:
            return None
        cost = best[0]
        choice |= best[1]


def _cheapest_alone(prices: Prices, domains: Sequence[int], v: int) -> int:
    """The option of v that costs least, its neighbours left out of account."""
    marks = prices.marks(v)
    if not marks:
        return prices.pick(v, domains[v])
    blocks = split(domains[v], marks)
    return min((prices.price(v, i), i) for i in (prices.pick(v, block) for block in blocks))[1]


def _at_odds(
    network: Network,
    domains: Sequence[int],
    choice: Sequence[int],
    component: Set[int],
    inside: set[int],
) -> set[int]:
    """Who takes part in what a choice violates, or pays for, that is not all inside."""
    odd: set[int] = set()
    for v in component:
        for constraint in network.constraints[v]:
            first = constraint.scope[0]
            if (first == v or first not in component) and constraint.violated(choice):
                # Who can't meet it whatever is chosen does not decide about it.
                odd.update(constraint.open(domains))
        for cost in network.costs[v]:
            both = v in inside and cost.q in inside
            if cost.p == v and cost.q in component and not both and cost.paid(choice):
                odd |= {v, cost.q}
    return odd & component


def _searched(
    network: Network, prices: Prices, domains: Sequence[int], group: list[int]
) -> Best | None:
    """The best of some variables: dominated options dropped, then searched."""
    own = list(domains)
    reduce(network, prices, own, group)
    left, paid = network.simplified(own, group)
    rows = {v: {i: prices.price(v, i) for i in bits(own[v])} for v in group}
    best = _Branching(left).best(own, rows, group, None)
    return (paid + best[0], best[1]) if best else None


class _Branching:
    """Branch and bound over one component."""

    def __init__(self, network: Network) -> None:
        self.network = network

    def best(
        self, domains: Domains, rows: Rows, group: Sequence[int], limit: int | None
    ) -> Best | None:
        """The cheapest choice for a group that costs less than ``limit``; None without any.

        What is settled is paid, and lays what it costs with others on those still open.
        """
        rows = {v: rows[v] for v in group}
        spent, choice = 0, {}
        free = [v for v in group if domains[v] & (domains[v] - 1)]
        for v in group:
            if not domains[v] & (domains[v] - 1):
                i = domains[v].bit_length() - 1
                spent += rows.pop(v)[i]
                choice[v] = i
                for cost in self.network.costs[v]:
                    _lay(cost, v, i, domains, rows)
        lows = {v: min([rows[v][i] for i in bits(domains[v])]) for v in free}
        bound = spent + sum(lows.values())
        if limit is not None and bound >= limit:
            return None
        if free:
            groups = self.network.components(domains, free)
            for part in sorted(groups, key=len):
                low = sum(lows[v] for v in part)
                room = None if limit is None else limit - (bound - low)
                part_best = self._branch(domains, rows, part, room)
                if part_best is None:
                    return None
                bound += part_best[0] - low
                choice |= part_best[1]
        return bound, choice

    def _branch(
        self, domains: Domains, rows: Rows, group: Sequence[int], limit: int | None
    ) -> Best | None:
        """Try each option of one variable of a group, cheapest first."""
        v = min(group, key=lambda v: self._promise(v, domains, rows))
        rest = sum(min([rows[u][i] for i in bits(domains[u])]) for u in group if u != v)
        best = None
        for i in sorted(bits(domains[v]), key=rows[v].__getitem__):
            if limit is not None and rows[v][i] + rest >= limit:
                break
            narrowed = list(domains)
            narrowed[v] = 1 << i
            if self.network.propagate(narrowed, (v,)):
                deeper = self.best(narrowed, rows, group, limit)
                if deeper is not None:
                    best, limit = deeper, deeper[0]
        return best

    def _promise(self, v: int, domains: Sequence[int], rows: Rows) -> tuple[int, int]:
        """Who is branched on first: whose second option is dearest, then who binds the most."""
        first, second, *_ = sorted(rows[v][i] for i in bits(domains[v]))
        return -(second - first).bit_length(), -len(self.network.constraints[v])


def _lay(cost: Cost, v: int, i: int, domains: Sequence[int], rows: Rows) -> None:
    """Lay what is paid with option i of v on the options of the other side, if it is open."""
    other = cost.q if cost.p == v else cost.p
    row = rows.get(other)
    if row is None:
        return
    hit = cost.with_option(v, i)
    if hit & domains[other]:
        rows[other] = {j: p + cost.weight if hit >> j & 1 else p for j, p in row.items()}
