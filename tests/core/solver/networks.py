"""Small random networks, and everything that can be chosen in them, tried one by one."""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator

from windbreak.core.bits import bits
from windbreak.core.solver.constraints import Clause, Constraint, Cost, Relation, Table
from windbreak.core.solver.network import Network

Choice = tuple[int, ...]


class Row:
    """Prices by a plain table."""

    def __init__(self, rows: list[list[int]]) -> None:
        self.rows = rows

    def price(self, v: int, i: int) -> int:
        return self.rows[v][i]

    def pick(self, v: int, options: int) -> int:
        return min(bits(options), key=lambda i: (self.rows[v][i], i))

    def marks(self, v: int) -> list[int]:
        return [1 << i for i in range(len(self.rows[v]))]


def partition(r: random.Random, options: int) -> list[int]:
    """Some options in disjoint sets; a few are in none."""
    sets = [0, 0, 0]
    for i in range(options):
        place = r.randrange(4)
        if place < 3:
            sets[place] |= 1 << i
    return [one for one in sets if one]


def random_constraint(r: random.Random, sizes: list[int]) -> Constraint:
    if r.random() < 0.6 or len(sizes) < 3:
        p, q = r.sample(range(len(sizes)), 2)
        classes = [(own, r.randrange(1, 1 << sizes[q])) for own in partition(r, sizes[p])]
        return Table(p, q, Relation(classes))
    scope = r.sample(range(len(sizes)), r.randint(2, 3))
    return Clause({v: r.randrange(1, 1 << sizes[v]) for v in scope})


def random_network(seed: int) -> tuple[Network, Row, list[Constraint], list[Cost]]:
    """Three to five variables of two to four options, bound and priced at random."""
    r = random.Random(seed)
    sizes = [r.randint(2, 4) for _ in range(r.randint(3, 5))]
    network = Network([(1 << size) - 1 for size in sizes])
    constraints = [random_constraint(r, sizes) for _ in range(r.randint(1, 6))]
    for constraint in constraints:
        network.bind(constraint)
    costs = []
    for _ in range(r.randint(0, 3)):
        p, q = r.sample(range(len(sizes)), 2)
        classes = tuple((own, r.randrange(1, 1 << sizes[q])) for own in partition(r, sizes[p]))
        costs.append(Cost(p, q, r.randint(1, 9), classes))
        network.charge(costs[-1])
    prices = Row([[r.randrange(20) for _ in range(size)] for size in sizes])
    return network, prices, constraints, costs


def choices(domains: list[int]) -> Iterator[Choice]:
    """Every choice of one option for each variable."""
    yield from itertools.product(*(list(bits(domain)) for domain in domains))


def met(constraint: Constraint, choice: Choice) -> bool:
    """Whether a choice meets a constraint, by its plain meaning."""
    if isinstance(constraint, Table):
        i, j = choice[constraint.p], choice[constraint.q]
        for own, others in constraint.relation.classes:
            if own >> i & 1:
                return bool(others >> j & 1)
        return True
    assert isinstance(constraint, Clause)
    return any(options >> choice[v] & 1 for v, options in constraint.literals)


def price(choice: Choice, prices: Row, costs: list[Cost]) -> int:
    """What a choice costs, by its plain meaning."""
    whole = sum(prices.price(v, i) for v, i in enumerate(choice))
    for cost in costs:
        for own, others in cost.classes:
            if own >> choice[cost.p] & 1 and others >> choice[cost.q] & 1:
                whole += cost.weight
    return whole
