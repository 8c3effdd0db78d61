"""The search against every choice tried one by one."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.solver.networks import choices, met, price, random_network
from windbreak.core.bits import bits
from windbreak.core.solver.search import (
    cheapest,
    cheapest_with,
    satisfiable,
    satisfiable_from,
)

SEEDS = st.integers(0, 10**9)


class Search(unittest.TestCase):
    @given(SEEDS)
    @settings(max_examples=400, deadline=None, derandomize=True)
    def test_no_choice_that_meets_all_is_cheaper_than_the_optimum(self, seed: int) -> None:
        network, prices, constraints, costs = random_network(seed)
        allowed = [
            price(c, prices, costs)
            for c in choices(network.domains)
            if all(met(x, c) for x in constraints)
        ]
        optimum = cheapest(network, prices)
        self.assertEqual(None if optimum is None else optimum.cost, min(allowed, default=None))
        self.assertEqual(satisfiable(network, {}), bool(allowed))
        if optimum is not None:
            self.assertTrue(all(met(x, optimum.choice) for x in constraints))
            self.assertEqual(price(optimum.choice, prices, costs), optimum.cost)

    @given(SEEDS)
    @settings(max_examples=150, deadline=None, derandomize=True)
    def test_the_optimum_with_one_option_is_the_cheapest_that_has_it(self, seed: int) -> None:
        network, prices, constraints, costs = random_network(seed)
        optimum = cheapest(network, prices)
        if optimum is None:
            return
        allowed = [c for c in choices(network.domains) if all(met(x, c) for x in constraints)]
        for v, domain in enumerate(network.domains):
            for i in bits(domain):
                mine = [price(c, prices, costs) for c in allowed if c[v] == i]
                best = cheapest_with(optimum, prices, v, i)
                self.assertEqual(None if best is None else best.cost, min(mine, default=None))
                if best is not None:
                    self.assertEqual(best.choice[v], i)

    @given(SEEDS)
    @settings(max_examples=150, deadline=None, derandomize=True)
    def test_going_out_from_choices_that_are_met_the_answer_is_the_same(self, seed: int) -> None:
        network, _, constraints, _ = random_network(seed)
        allowed = [c for c in choices(network.domains) if all(met(x, c) for x in constraints)]
        if not allowed:
            return
        starts = allowed[:1]
        for v, domain in enumerate(network.domains):
            for i in bits(domain):
                wanted = any(c[v] == i for c in allowed)
                self.assertEqual(satisfiable_from(network, v, i, starts), wanted)
        for start in starts:
            self.assertIn(start, allowed)
