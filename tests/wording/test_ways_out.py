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


if __name__ == "__main__":
    unittest.main()
