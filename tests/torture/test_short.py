"""A short bad night: what ``make torture`` does, over five sites and a few minutes' worth of it."""

import os
import unittest

from tests.torture.__main__ import night


class Short(unittest.TestCase):
    def test_whatever_is_killed_and_cut_every_site_ends_as_its_plan_allows(self) -> None:
        seed = int.from_bytes(os.urandom(3), "big")
        with night(seed, kills=3, cuts=1, messages=20, few=True) as made:
            wrong = made.go()
            self.assertEqual(wrong, [], f"seed {seed}")
            self.assertEqual((made.killed, made.cut), (3, 1))
