"""Night books are read whole, or refused with every fault and its path."""

import json
import unittest
from typing import Any

from windbreak.core.errors import BookError
from windbreak.core.scheduling.reading import read_book


def book(**change: Any) -> dict[str, Any]:
    return {
        "format": "windbreak-nightbook/1",
        "at": "2026-11-24T12:00:00Z",
        "horizon": "2026-11-26T12:00:00Z",
        "hosts": [{"id": "quay", "at_once": 2}],
        "sites": [
            {"id": "a", "host": "quay", "zone": "Europe/London", "windows": [
                {"start": "01:00", "end": "05:00"},
                {"rrule": "FREQ=WEEKLY;BYDAY=WE", "from": "2026-11-01", "start": "12:00",
                 "minutes": 90}]},
        ],
        "jobs": [{"id": "j1", "site": "a", "minutes": 20}, {"id": "j2", "site": "a", "minutes": 5}],
        **change,
    }  # fmt: skip


class Reading(unittest.TestCase):
    def faults(self, raw: object) -> dict[str, str]:
        with self.assertRaises(BookError) as caught:
            read_book(raw if isinstance(raw, str) else json.dumps(raw))
        return {fault.path: fault.reason for fault in caught.exception.faults}

    def test_a_book_without_faults_is_read_with_its_defaults(self) -> None:
        read = read_book(json.dumps(book()))
        self.assertEqual(read.jobs[0].weight, 1)
        self.assertIsNone(read.runs_at_once)
        self.assertEqual(read.sites[0].windows[0].start, "01:00")

    def test_every_fault_is_told_at_once_with_its_path(self) -> None:
        raw = book(colour="red")
        raw["sites"][0] |= {"zone": "Europe/Nowhere", "host": "mole"}
        raw["sites"][0]["windows"][1]["rrule"] = "FREQ=SOMETIMES"
        raw["sites"][0]["freezes"] = [{"from": "2026-11-24T12:00:00Z", "reason": "no end"}]
        raw["jobs"] += [
            {"id": "j1", "site": "b", "minutes": 0},
            {"id": "j3", "site": "a", "minutes": 5, "pinned": True, "due": "tomorrow"},
        ]
        raw["gates"] = [{"id": "g", "after": ["j1"], "before": ["j9"]}]
        told = self.faults(raw)
        self.assertEqual(
            set(told),
            {
                "$.colour",
                "$.sites[0].zone",
                "$.sites[0].host",
                "$.sites[0].windows[1].rrule",
                "$.sites[0].freezes[0].to",
                "$.jobs[2].id",
                "$.jobs[2].site",
                "$.jobs[2].minutes",
                "$.jobs[3].pinned",
                "$.jobs[3].due",
                "$.gates[0].before[0]",
            },
        )
        self.assertEqual(told["$.colour"], "this key is unknown")
        self.assertIn("SOMETIMES", told["$.sites[0].windows[1].rrule"])

    def test_what_is_no_book_at_all_is_told(self) -> None:
        self.assertIn("not JSON", self.faults("{")["$"])
        self.assertIn("one JSON object", self.faults([])["$"])
        self.assertIn("stands twice", self.faults('{"at": 1, "at": 2}')["$"])
        self.assertIn("required", self.faults({})["$.format"])

    def test_gates_in_a_circle_are_refused(self) -> None:
        gates = [
            {"id": "g1", "after": ["j1"], "before": ["j2"]},
            {"id": "g2", "after": ["j2"], "before": ["j1"]},
            {"id": "g3", "after": ["j3"], "before": ["j1"]},
        ]
        jobs = [{"id": f"j{n}", "site": "a", "minutes": 5} for n in (1, 2, 3)]
        told = self.faults(book(gates=gates, jobs=jobs))
        self.assertEqual(set(told), {"$.gates[0]", "$.gates[1]"})
        own = [{"id": "g", "after": ["j1"], "before": ["j1"]}]
        self.assertIn("circle", self.faults(book(gates=own))["$.gates[0]"])

    def test_time_runs_forward_and_not_for_ever(self) -> None:
        self.assertIn("before", self.faults(book(horizon="2026-11-23T12:00:00Z"))["$.horizon"])
        self.assertIn("days", self.faults(book(horizon="2126-11-23T12:00:00Z"))["$.horizon"])
        site = book()["sites"][0]
        freeze = {"from": "2026-11-25T00:00:00Z", "to": "2026-11-24T00:00:00Z"}
        told = self.faults(book(sites=[{**site, "freezes": [freeze]}]))
        self.assertEqual(list(told), ["$.sites[0].freezes[0].to"])

    def test_a_rule_names_days_not_hours(self) -> None:
        raw = book()
        raw["sites"][0]["windows"][1]["rrule"] = "FREQ=HOURLY"
        self.assertIn("its day", self.faults(raw)["$.sites[0].windows[1].rrule"])

    def test_what_is_pinned_where_it_may_not_stand_is_refused(self) -> None:
        for was, more, words in (
            ("2026-11-25T01:02:00Z", {}, "grid"),
            ("2026-11-25T06:00:00Z", {}, "no opening"),
            ("2026-11-25T04:50:00Z", {}, "no opening"),
            ("2026-11-25T01:00:00Z", {"earliest": "2026-11-25T02:00:00Z"}, "too early"),
            ("2026-11-25T01:00:00Z", {"watched": True}, "nobody"),
            ("2026-12-25T01:00:00Z", {}, "within the book"),
        ):
            with self.subTest(was=was, more=more):
                job = {"id": "j1", "site": "a", "minutes": 20, "was": was, "pinned": True, **more}
                self.assertIn(words, self.faults(book(jobs=[job]))["$.jobs[0].was"])
        fine = {"id": "j1", "site": "a", "minutes": 20, "was": "2026-11-25T01:00:00Z"}
        read_book(json.dumps(book(jobs=[{**fine, "pinned": True}])))
