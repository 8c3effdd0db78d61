"""Why then in words: what tells most comes first, and what tells nothing is left out."""

import json
import unittest
from typing import Any

from windbreak.core.scheduling.reading import read_book
from windbreak.core.scheduling.timetable import timetable
from windbreak.wording.timetables import timetable_document

NAMES = {"mole": "Mole", "a": "Avocet Trust", "b": "Skerry Light", "g": "the gate of its twin"}


def texts(**more: Any) -> dict[str, str]:
    """The text of each job of a book of two sites with windows from 01:00 to 05:00."""
    window = [{"start": "01:00", "end": "05:00"}]
    book = {
        "format": "windbreak-nightbook/1",
        "at": "2026-11-23T12:00:00Z",
        "horizon": "2026-11-27T12:00:00Z",
        "hosts": [{"id": "mole", "at_once": 1}],
        "sites": [{"id": s, "host": "mole", "windows": window} for s in ("x", "y")],
        "jobs": [
            {"id": "a", "site": "x", "minutes": 20, "back": 5},
            {"id": "b", "site": "y", "minutes": 30, "back": 5},
        ],
        **more,
    }
    document = timetable_document(timetable(read_book(json.dumps(book))), "", NAMES)
    return {one["job"]: one["text"] for one in [*document["bookings"], *document["left_out"]]}


class WhyThen(unittest.TestCase):
    def test_the_window_opens_or_who_is_done_before_it(self) -> None:
        told = texts()
        self.assertEqual(told["a"], "Tue 24 Nov 01:00: the window opens 01:00.")
        self.assertEqual(
            told["b"], "Tue 24 Nov 01:20: Mole bears 1 at once, and Avocet Trust is done 01:20."
        )

    def test_a_gate_is_told_by_its_name_and_day_and_the_ends_of_windows_are_not(self) -> None:
        gate = {"id": "g", "after": ["a"], "quiet": 1200, "before": ["b"]}
        self.assertEqual(
            texts(gates=[gate])["b"],
            "Wed 25 Nov 01:00: the window opens 01:00; not sooner: the gate of its twin opens "
            "Tue 24 Nov 21:20.",
        )

    def test_who_watches_is_told_as_a_window_in_which_nobody_is_there(self) -> None:
        watch = [{"from": "2026-11-25T00:30:00Z", "to": "2026-11-25T04:30:00Z", "people": 1}]
        jobs = [{"id": "a", "site": "x", "minutes": 20, "back": 5, "watched": True}]
        self.assertEqual(
            texts(watch=watch, jobs=jobs)["a"],
            "Wed 25 Nov 01:00: the window opens 01:00; not sooner: nobody is there to watch it in "
            "the window of Tue 24 Nov 01:00.",
        )
        late = [{"from": "2026-11-24T02:10:00Z", "to": "2026-11-24T04:30:00Z", "people": 1}]
        self.assertEqual(
            texts(watch=late, jobs=jobs)["a"],
            "Tue 24 Nov 02:10: somebody is there to watch it from 02:10 on.",
        )

    def test_a_window_that_is_too_short_is_told(self) -> None:
        jobs = [{"id": "a", "site": "x", "minutes": 300}]
        self.assertIn(
            "only 240 min are left of an opening, and it takes 300", texts(jobs=jobs)["a"]
        )
