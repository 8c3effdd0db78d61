"""Words of a terminal's output, by themselves."""

import io
import unittest
from collections.abc import Callable
from contextlib import redirect_stdout
from datetime import UTC, datetime, timedelta

from windbreak.cli.output import reason_of, say, table

AT = datetime(2026, 11, 29, 23, 0, tzinfo=UTC)


class Reasons(unittest.TestCase):
    def test_a_why_beside_its_time_drops_the_hour_that_stands_there(self) -> None:
        here = AT.astimezone()
        why = f"{here:%a} {here.day} {here:%b %H:%M}: the window opens."
        self.assertEqual(reason_of(why, AT), "the window opens")

    def test_another_hour_at_the_site_is_told(self) -> None:
        there = AT.astimezone() + timedelta(hours=2)
        head = f"{there:%a} {there.day} {there:%b %H:%M}"
        self.assertEqual(
            reason_of(f"{head}: at once.", AT), f"by the site’s clock, {head}: at once"
        )

    def test_what_begins_otherwise_is_left(self) -> None:
        self.assertEqual(reason_of("Left out: no window opens.", None), "Left out: no window opens")


class Pipes(unittest.TestCase):
    def printed(self, what: Callable[[], None]) -> list[str]:
        with redirect_stdout(io.StringIO()) as out:
            what()
        return out.getvalue().splitlines()

    def test_in_a_pipe_nothing_is_cut_and_no_line_ends_in_spaces(self) -> None:
        long = "It could not be put back, and this is why. " * 9
        rows = [("run 11", "done"), ("run 12", long)]
        lines = self.printed(lambda: table(("what", "how it stands"), rows, "none"))
        self.assertEqual(lines[1:], ["run 11  done", f"run 12  {long}".rstrip()])
        self.assertEqual([line for line in lines if line != line.rstrip()], [])
        self.assertEqual(self.printed(lambda: say(f"  {long}")), [f"  {long}".rstrip()])
