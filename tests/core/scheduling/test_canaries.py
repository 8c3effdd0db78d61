"""Canaries: the fewest sites, the least at stake, held against every choice."""

import random
import unittest
from itertools import combinations

from windbreak.core.scheduling.canaries import canaries, shared


def best(kinds: dict[str, set[str]], stake: dict[str, float]) -> tuple[int, float]:
    """By trying every set of sites: how few cover what is shared, and the least at stake then."""
    wanted = shared(kinds)
    for count in range(len(kinds) + 1):
        costs = [
            sum(stake[site] for site in some)
            for some in combinations(kinds, count)
            if wanted <= set().union(*(kinds[site] for site in some))
        ]
        if costs:
            return count, min(costs)
    raise AssertionError("all sites together cover all")


class Canaries(unittest.TestCase):
    def test_no_fewer_do_and_none_of_as_many_have_less_at_stake(self) -> None:
        for seed in range(300):
            dice = random.Random(seed)
            every = [f"k{n}" for n in range(dice.randint(1, 8))]
            kinds = {
                f"s{n}": set(dice.sample(every, dice.randint(0, len(every))))
                for n in range(dice.randint(1, 8))
            }
            stake = {site: float(dice.randint(0, 5)) for site in kinds}
            with self.subTest(seed=seed):
                cover = canaries(kinds, stake)
                self.assertTrue(cover.proven)
                self.assertEqual(cover.kinds, shared(kinds))
                told = (len(cover.chosen), sum(stake[site] for site in cover.chosen))
                self.assertEqual(told, best(kinds, stake))
                covered = set().union(*cover.chosen.values()) if cover.chosen else set()
                self.assertEqual(covered, set(cover.kinds))
                # Each kind is told of one canary alone, the first that has it.
                self.assertEqual(sum(map(len, cover.chosen.values())), len(cover.kinds))
                self.assertTrue(all(cover.chosen.values()))

    def test_what_one_site_alone_has_needs_no_canary(self) -> None:
        cover = canaries({"a": {"x", "y"}, "b": {"y"}, "c": {"z"}}, {"a": 0, "b": 9, "c": 0})
        self.assertEqual((set(cover.chosen), cover.kinds), ({"a"}, frozenset({"y"})))
        self.assertEqual(dict(canaries({"a": {"x"}}, {"a": 0}).chosen), {})

    def test_many_sites_take_bounded_work(self) -> None:
        dice = random.Random(7)
        every = [f"k{n}" for n in range(60)]
        kinds = {f"s{n}": set(dice.sample(every, 5)) for n in range(2000)}
        cover = canaries(kinds, dict.fromkeys(kinds, 1.0))
        self.assertEqual(set().union(*cover.chosen.values()), set(every))
        self.assertLess(len(cover.chosen), 30)
