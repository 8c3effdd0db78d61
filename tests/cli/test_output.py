"""Words of a terminal's output, by themselves."""

import unittest
from datetime import UTC, datetime, timedelta

from windbreak.cli.output import reason_of

AT = datetime(2026, 11, 29, 23, 0, tzinfo=UTC)


class Reasons(unittest.TestCase):
    def test_a_why_beside_its_time_drops_the_hour_that_stands_there(self) -> None:
        here = AT.astimezone()
        why = f"{here:%a} {here.day} {here:%b %H:%M}: the window opens."
        self.assertEqual(reason_of(why, AT), "the window opens")

    def test_another_hour_at_the_site_is_told(self) -> None:
        there = AT.astimezone() + timedelta(hours=2)
        head = f"{there:%a} {there.day} {there:%b %H:%M}"
        self.assertEqual(reason_of(f"{head}: at once.", AT), f"{head} at the site: at once")

    def test_what_begins_otherwise_is_left(self) -> None:
        self.assertEqual(reason_of("Left out: no window opens.", None), "Left out: no window opens")
