"""The one type of constraint: what each form propagates, and what it says of itself."""

import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.solver.networks import choices, met, price, random_constraint, random_network
from windbreak.core.bits import bits
from windbreak.core.solver.constraints import Clause, Relation, Table

SEEDS = st.integers(0, 10**9)


def somewhere(seed: int) -> tuple[random.Random, list[int], list[int]]:
    """Sizes of variables and domains within them, none empty."""
    r = random.Random(seed)
    sizes = [r.randint(2, 4) for _ in range(4)]
    return r, sizes, [r.randrange(1, 1 << size) for size in sizes]


class Constraints(unittest.TestCase):
    @given(SEEDS)
    @settings(max_examples=400, deadline=None, derandomize=True)
    def test_propagating_drops_no_option_that_has_a_support(self, seed: int) -> None:
        r, sizes, domains = somewhere(seed)
        constraint = random_constraint(r, sizes)
        supports = [c for c in choices(domains) if met(constraint, c)]
        for v in constraint.scope:
            u, left = constraint.propagate(domains, v)
            self.assertEqual(left & ~domains[u], 0)
            self.assertLessEqual({c[u] for c in supports}, set(bits(left)))

    @given(SEEDS)
    @settings(max_examples=400, deadline=None, derandomize=True)
    def test_what_it_says_of_itself_is_so(self, seed: int) -> None:
        r, sizes, domains = somewhere(seed)
        constraint = random_constraint(r, sizes)
        every = list(choices(domains))
        for choice in every:
            self.assertEqual(constraint.violated(choice), not met(constraint, choice))
        if constraint.entailed(domains):
            self.assertTrue(all(met(constraint, c) for c in every))
        self.assertLessEqual(set(constraint.open(domains)), set(constraint.scope))

    @given(SEEDS)
    @settings(max_examples=300, deadline=None, derandomize=True)
    def test_options_that_are_in_all_the_same_advantages_are_alike_to_it(self, seed: int) -> None:
        r, sizes, domains = somewhere(seed)
        constraint = random_constraint(r, sizes)
        for v in constraint.scope:  # it is asked once nothing more can be dropped
            u, left = constraint.propagate(domains, v)
            domains[u] = left
        if not all(domains):
            return
        for v in constraint.scope:
            sets = [these for these, _ in constraint.advantages(domains, v)]
            for i in bits(domains[v]):
                for j in bits(domains[v]):
                    if any((one >> i ^ one >> j) & 1 for one in sets):
                        continue
                    for choice in choices(domains):
                        here, there = list(choice), list(choice)
                        here[v], there[v] = i, j
                        self.assertEqual(
                            met(constraint, tuple(here)), met(constraint, tuple(there))
                        )

    def test_a_table_goes_both_ways(self) -> None:
        table = Table(0, 1, Relation(((0b0011, 0b001), (0b0100, 0b110))))
        self.assertEqual(table.propagate([0b0100, 0b111], 0), (1, 0b110))
        self.assertEqual(table.propagate([0b1111, 0b100], 1), (0, 0b1100))
        self.assertEqual(table.explain(1), (0,))

    def test_a_clause_waits_until_one_is_left_to_meet_it(self) -> None:
        clause = Clause({0: 0b01, 1: 0b10, 2: 0b10})
        domains = [0b11, 0b11, 0b01]
        self.assertEqual(clause.propagate(domains, 2)[1], domains[clause.propagate(domains, 2)[0]])
        self.assertEqual(clause.propagate([0b10, 0b11, 0b01], 0), (1, 0b10))
        self.assertEqual(clause.propagate([0b10, 0b01, 0b01], 0)[1], 0)


class Costs(unittest.TestCase):
    @given(SEEDS)
    @settings(max_examples=200, deadline=None, derandomize=True)
    def test_what_may_and_what_must_be_paid_bounds_what_is_paid(self, seed: int) -> None:
        network, prices, _, costs = random_network(seed)
        for cost in costs:
            may, must = cost.bounds(network.domains)
            for choice in choices(network.domains):
                paid = price(choice, prices, [cost]) > price(choice, prices, [])
                self.assertEqual(paid, cost.paid(choice))
                self.assertLessEqual(must, paid)
                self.assertLessEqual(paid, may)
                here = cost.with_option(cost.p, choice[cost.p])
                self.assertEqual(bool(here >> choice[cost.q] & 1), paid)
