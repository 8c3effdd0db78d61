"""Windows as instants, over the nights when the clocks change."""

import unittest
from datetime import UTC, datetime, timedelta

from windbreak.core.scheduling.openings import next_start, on_grid, openings
from windbreak.core.values.sites import Window

ZONE = "Europe/London"


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


class Windows(unittest.TestCase):
    def test_a_window_is_as_long_as_it_really_is(self) -> None:
        window = [Window(start="00:30", end="04:00")]
        for day, hours in [("2026-03-29", 2.5), ("2026-10-25", 4.5), ("2026-11-24", 3.5)]:
            with self.subTest(day=day):
                start = at(f"{day}T00:00") - timedelta(hours=2)
                found = openings(window, ZONE, start, start + timedelta(hours=6))
                lengths = {(b - a).total_seconds() / 3600 for a, b in found}
                self.assertIn(hours, lengths)

    def test_a_window_may_reach_over_midnight(self) -> None:
        window = [Window(days=("mon",), start="22:00", end="02:00")]
        found = openings(window, ZONE, at("2026-11-24T00:00"), at("2026-11-24T12:00"))
        self.assertEqual(found, [(at("2026-11-23T22:00"), at("2026-11-24T02:00"))])

    def test_the_first_start_is_on_the_grid_and_the_whole_fits(self) -> None:
        window = [Window(start="01:00", end="05:00")]
        for after, minutes, expected in [
            ("2026-11-24T00:00", 30, "2026-11-24T01:00"),
            ("2026-11-24T02:02", 30, "2026-11-24T02:05"),
            ("2026-11-24T04:40", 30, "2026-11-25T01:00"),
            ("2026-11-24T04:30", 30, "2026-11-24T04:30"),
        ]:
            with self.subTest(after=after):
                found = next_start(window, ZONE, at(after), timedelta(minutes=minutes))
                assert found is not None
                self.assertEqual(found[0], at(expected))

    def test_what_fits_into_no_window_has_no_start(self) -> None:
        window = [Window(start="01:00", end="02:00")]
        self.assertIsNone(next_start(window, ZONE, at("2026-11-24T00:00"), timedelta(hours=2)))
        self.assertIsNone(next_start([], ZONE, at("2026-11-24T00:00"), timedelta(minutes=5)))

    def test_the_grid_has_five_minutes(self) -> None:
        self.assertEqual(on_grid(at("2026-11-24T01:10")), at("2026-11-24T01:10"))
        self.assertEqual(on_grid(at("2026-11-24T01:10:01")), at("2026-11-24T01:15"))
