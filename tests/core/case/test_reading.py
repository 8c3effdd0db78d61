"""The case file: what is read, and what is refused, with every fault's path."""

import copy
import json
import unittest
from typing import Any

from tests.core.resolution.test_resolve import DATA, load
from windbreak.core.case.reading import case_from, read_case
from windbreak.core.errors import CaseError


class Reading(unittest.TestCase):
    def test_a_case_written_out_reads_back_equal(self) -> None:
        for path in DATA.glob("*-*.json"):
            with self.subTest(case=path.stem):
                case = load(path.stem)
                self.assertEqual(read_case(case.to_json()), case)


class Refusing(unittest.TestCase):
    def setUp(self) -> None:
        self.raw: dict[str, Any] = json.loads((DATA / "hand-odds.json").read_text())

    def faults(self, raw: Any) -> dict[str, str]:
        with self.assertRaises(CaseError) as caught:
            case_from(raw)
        return {fault.path: fault.reason for fault in caught.exception.faults}

    def test_each_kind_of_fault_is_named_with_its_path(self) -> None:
        def change(**keys: Any) -> dict[str, Any]:
            return {**copy.deepcopy(self.raw), **keys}

        core, theme = self.raw["products"][0], self.raw["products"][1]
        odd_kind = {"id": "theme/x", "kind": "plugin", "access": "public"}
        release = self.raw["releases"][0]
        for raw, path in [
            (change(colour="green"), "$.colour"),
            (change(format="windbreak-case/2"), "$.format"),
            (change(at="2026-11-24"), "$.at"),
            (change(products=[*self.raw["products"], odd_kind]), "$.products[7].id"),
            (change(products=[*self.raw["products"], core]), "$.products[7].id"),
            (change(releases=[release, release]), "$.releases[1].version"),
            (change(releases=[{**release, "version": "six"}]), "$.releases[0].version"),
            (change(releases=[{**release, "published": "soon"}]), "$.releases[0].published"),
            (change(releases=[{**release, "from": "~1"}]), "$.releases[0].from"),
            (change(releases=[{**release, "product": "core/x"}]), "$.releases[0].product"),
            (
                change(releases=[{**release, "bundles": {"theme/x": "1"}}]),
                '$.releases[0].bundles["theme/x"]',
            ),
            (
                change(releases=[{**release, "requires": {"core/x": ">=1 <2"}}]),
                '$.releases[0].requires["core/x"]',
            ),
            (
                change(lockstep=[{"products": [theme["id"]] * 2, "match": "exact"}]),
                "$.lockstep[0].products[1]",
            ),
            (
                change(clashes=[{"a": (s := {"product": theme["id"], "range": "*"}), "b": s}]),
                "$.clashes[0]",
            ),
        ]:
            with self.subTest(path=path):
                self.assertIn(path, self.faults(raw))

    def test_all_faults_of_a_document_are_reported_at_once(self) -> None:
        self.raw["site"]["components"].append({"product": "plugin/nope", "version": "x"})
        self.raw["site"]["components"].append(self.raw["site"]["components"][0])
        self.raw["policy"]["soak"] = {"major": -1}
        self.raw["site"]["offers"] = {"runtime/nope": ["8"]}
        found = self.faults(self.raw)
        self.assertEqual(
            set(found),
            {
                "$.site.components[6].version",
                "$.site.components[6].product",
                "$.site.components[7].product",
                "$.policy.soak.major",
                '$.site.offers["runtime/nope"]',
            },
        )

    def test_what_is_not_one_json_object_is_refused(self) -> None:
        for text in ("", "[1]", "{", '{"a":1,"a":2}', "NaN", "[" * 100_000):
            with self.subTest(text=text[:10]), self.assertRaises(CaseError):
                read_case(text)
