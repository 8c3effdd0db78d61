"""The ways out of a matter: what each does, and what is lost by it."""

import unittest

from windbreak.core.values.matters import WayOut
from windbreak.wording.ways_out import Standing, ways_out


class WaysOut(unittest.TestCase):
    def ways(self, **more: object) -> dict[str, WayOut]:
        known = {"step": "Dune 1.0 → 1.1", "steps": ("Dune 1.0 → 1.1", "Lee 5.4 → 5.5")}
        told = {**known, "snapshot": "03:56 UTC", **more}
        return {way.act: way for way in ways_out(Standing(**told))}  # type: ignore[arg-type]

    def test_what_came_in_is_lost_by_a_restore_alone(self) -> None:
        ways = self.ways(came={"orders": 2})
        self.assertEqual(ways["restore"].loses, ("2 orders",))
        self.assertEqual(ways["restore"].label, "Restore and lose 2")
        self.assertEqual({way.loses for act, way in ways.items() if act != "restore"}, {()})

    def test_what_later_runs_moved_is_undone_by_a_restore_and_keeps_steps_from_going_back(
        self,
    ) -> None:
        ways = self.ways(later=("Tide Forms 1.0 → 1.1", "WordPress 6.1.9 → 6.1.10"))
        moved = "Tide Forms 1.0 → 1.1 and WordPress 6.1.9 → 6.1.10"
        self.assertIn(f"Later runs moved {moved}: that is undone as well", ways["restore"].text)
        self.assertEqual(len(ways["restore"].loses), 2)
        for act in ("put-back-step", "put-back-all"):
            self.assertFalse(ways[act].possible, act)
            self.assertIn(moved, ways[act].text)
        self.assertTrue(ways["accept"].possible)

    def test_while_no_agent_answers_only_giving_up_is_left(self) -> None:
        ways = self.ways(came=None)
        self.assertEqual([act for act, way in ways.items() if way.possible], ["abandon"])

    def test_what_undoes_a_step_that_is_fine_is_not_offered_first(self) -> None:
        fine = [act for act, way in self.ways().items() if way.possible]
        self.assertEqual(fine[:3], ["go-on", "accept", "put-back-step"])
        worse = [act for act, way in self.ways(worse=2).items() if way.possible]
        self.assertEqual(worse[:3], ["put-back-step", "put-back-all", "restore"])

    def test_giving_up_says_what_stays_owed_only_where_something_is(self) -> None:
        self.assertEqual(self.ways()["abandon"].text, "Nothing is owed.")
        owed = self.ways(owed="the cache of Lee")["abandon"].text
        self.assertEqual(owed, "Sets back what can be: the cache of Lee. What can't be stays owed.")


if __name__ == "__main__":
    unittest.main()
