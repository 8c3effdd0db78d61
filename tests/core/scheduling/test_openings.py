"""Windows as instants, over the nights when the clocks change."""

import unittest
from datetime import UTC, datetime, timedelta

from windbreak.core.scheduling.openings import on_grid, openings, within, without
from windbreak.core.values.nightbooks import RuleWindow
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

    def test_the_grid_has_five_minutes(self) -> None:
        self.assertEqual(on_grid(at("2026-11-24T01:10")), at("2026-11-24T01:10"))
        self.assertEqual(on_grid(at("2026-11-24T01:10:01")), at("2026-11-24T01:15"))


class ClockChanges(unittest.TestCase):
    """Berlin skips 02:00 to 03:00 on 28 March 2027, and has it twice on 31 October."""

    def night(self, start: str, end: str, day: str) -> list[tuple[str, str]]:
        window = [Window(start=start, end=end)]
        noon = at(f"{day}T12:00") - timedelta(days=1)
        found = openings(window, "Europe/Berlin", noon, noon + timedelta(days=1))
        return [(f"{a:%d %H:%M}", f"{b:%d %H:%M}") for a, b in found]

    def test_a_window_in_the_hour_that_is_skipped_is_empty_that_night(self) -> None:
        self.assertEqual(self.night("02:00", "03:00", "2027-03-28"), [])
        self.assertEqual(self.night("02:15", "02:45", "2027-03-28"), [])
        self.assertEqual(self.night("02:00", "03:00", "2027-03-29"), [("29 00:00", "29 01:00")])

    def test_a_time_that_is_skipped_is_the_instant_of_the_skip(self) -> None:
        self.assertEqual(self.night("01:00", "02:30", "2027-03-28"), [("28 00:00", "28 01:00")])
        self.assertEqual(self.night("02:30", "04:00", "2027-03-28"), [("28 01:00", "28 02:00")])

    def test_a_time_that_comes_twice_is_the_first_as_a_start_and_the_second_as_an_end(self) -> None:
        self.assertEqual(self.night("02:00", "03:00", "2027-10-31"), [("31 00:00", "31 02:00")])
        self.assertEqual(self.night("01:00", "02:30", "2027-10-31"), [("30 23:00", "31 01:30")])
        self.assertEqual(self.night("02:30", "02:45", "2027-10-31"), [("31 00:30", "31 01:45")])

    def test_an_end_at_or_before_its_start_as_written_is_the_next_days(self) -> None:
        self.assertEqual(self.night("23:00", "24:00", "2027-06-02"), [("01 21:00", "01 22:00")])
        (whole,) = self.night("00:00", "00:00", "2027-06-02")
        self.assertEqual(whole[0][3:], "22:00")


class Rules(unittest.TestCase):
    def test_the_days_of_a_rule_open_for_so_many_real_minutes(self) -> None:
        rule = {"rrule": "FREQ=MONTHLY;BYDAY=-1SU", "from": "2027-01-01", "start": "01:00",
                "minutes": 180}  # fmt: skip
        window = [RuleWindow.model_validate(rule, strict=False)]
        found = openings(window, "Europe/Berlin", at("2027-03-01T00:00"), at("2027-04-30T00:00"))
        self.assertEqual(
            found,
            [
                (at("2027-03-28T00:00"), at("2027-03-28T03:00")),
                (at("2027-04-24T23:00"), at("2027-04-25T02:00")),
            ],
        )

    def test_nothing_opens_before_a_rules_first_day(self) -> None:
        rule = {"rrule": "FREQ=DAILY", "from": "2027-05-10", "start": "01:00", "minutes": 60}
        window = [RuleWindow.model_validate(rule, strict=False)]
        found = openings(window, "UTC", at("2027-05-08T00:00"), at("2027-05-11T00:00"))
        self.assertEqual(found, [(at("2027-05-10T01:00"), at("2027-05-10T02:00"))])


class Together(unittest.TestCase):
    def test_openings_that_touch_or_overlap_are_one(self) -> None:
        windows = [Window(start="01:00", end="03:00"), Window(start="03:00", end="04:00"),
                   Window(start="02:00", end="02:30")]  # fmt: skip
        found = openings(windows, "UTC", at("2027-05-10T00:00"), at("2027-05-10T12:00"))
        self.assertEqual(found, [(at("2027-05-10T01:00"), at("2027-05-10T04:00"))])

    def test_freezes_are_cut_out(self) -> None:
        day = (at("2027-05-10T01:00"), at("2027-05-10T05:00"))
        freezes = [
            (at("2027-05-10T00:00"), at("2027-05-10T01:30")),
            (at("2027-05-10T03:00"), at("2027-05-10T04:00")),
        ]
        self.assertEqual(
            without([day], freezes),
            [
                (at("2027-05-10T01:30"), at("2027-05-10T03:00")),
                (at("2027-05-10T04:00"), at("2027-05-10T05:00")),
            ],
        )
        self.assertEqual(within([day], at("2027-05-10T02:00"), at("2027-05-10T03:00")),
                         [(at("2027-05-10T02:00"), at("2027-05-10T03:00"))])  # fmt: skip
