"""Minimal unsatisfiable cores: unsatisfiable, and none of their facts can be left out."""

import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.solver.networks import choices, met, random_constraint
from windbreak.core.bits import bits
from windbreak.core.solver.cores import Facts


class Cores(unittest.TestCase):
    @given(st.integers(0, 10**9))
    @settings(max_examples=400, deadline=None, derandomize=True)
    def test_a_core_leaves_no_choice_and_each_of_its_facts_is_needed(self, seed: int) -> None:
        r = random.Random(seed)
        sizes = [r.randint(2, 4) for _ in range(r.randint(3, 5))]
        universe = [(1 << size) - 1 for size in sizes]
        some = {n: [random_constraint(r, sizes)] for n in range(r.randint(2, 6))}
        limits = [r.randrange(1, 1 << size) if r.random() < 0.5 else -1 for size in sizes]
        limits = [u & limit for u, limit in zip(universe, limits, strict=True)]
        facts = Facts(universe, some, len(some))

        def left(core: list[int], v: int, i: int) -> bool:
            domains = list(universe)
            for fact in core:
                if fact >= len(some):
                    domains[fact - len(some)] = limits[fact - len(some)]
            domains[v] = 1 << i
            binding = [x for fact in core if fact < len(some) for x in some[fact]]
            return any(all(met(x, c) for x in binding) for c in choices(domains))

        every = list(range(len(some) + len(sizes)))
        for v, domain in enumerate(limits):
            for i in bits(domain):
                whole = [fact for fact in every if fact != len(some) + v]
                if left(whole, v, i):
                    self.assertTrue(facts.satisfiable(whole, limits, v, i))
                    continue
                core = facts.minimal_core(limits, v, i)
                self.assertFalse(left(core, v, i))
                for fact in core:
                    self.assertTrue(left([x for x in core if x != fact], v, i), fact)
