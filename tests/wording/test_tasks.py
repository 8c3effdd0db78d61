"""What a task at many sites came to, in words."""

import unittest

from windbreak.wording.tasks import ended_text


class Ended(unittest.TestCase):
    def test_those_that_did_not_are_named_and_many_are_counted(self) -> None:
        self.assertEqual(ended_text("refresh", 3, []), "3 of 3 answered.")
        self.assertEqual(
            ended_text("refresh", 5, ["Dunlin Walks", "Spindrift Surf"]),
            "3 of 5 answered; not Dunlin Walks and Spindrift Surf.",
        )
        self.assertEqual(
            ended_text("rotate keys", 9, ["a", "b", "c", "d"]),
            "5 of 9 have the new key; not a, b, c and d.",
        )
        self.assertEqual(
            ended_text("rotate keys", 9, ["a", "b", "c", "d", "e"]),
            "4 of 9 have the new key; not a, b, c and 2 others.",
        )
