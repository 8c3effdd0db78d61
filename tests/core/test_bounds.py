"""What is odd or large is answered all the same, and in bounded time."""

import json
import unittest
from typing import Any

from windbreak.core.case.reading import case_from, read_case
from windbreak.core.case.situation import Case
from windbreak.core.errors import CaseError
from windbreak.core.ordering.order import order
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.verdicts import Answer
from windbreak.wording.answers import answer, plan


def case(
    products: dict[str, str], releases: list[dict[str, Any]], installed: dict[str, str]
) -> Case:
    return case_from(
        {
            "format": "windbreak-case/1",
            "at": "2026-11-24T01:10:00Z",
            "products": [
                {"id": p, "kind": p.partition("/")[0], "access": a} for p, a in products.items()
            ],
            "releases": [{"published": "2026-01-01", **r} for r in releases],
            "site": {
                "id": "odd",
                "components": [{"product": p, "version": v} for p, v in installed.items()],
            },
        }
    )


def told(one: Case) -> Answer:
    resolution = resolve(one)
    plan(order(resolution))
    return answer(resolution)


class Odd(unittest.TestCase):
    def test_an_empty_site_has_nothing_to_do(self) -> None:
        empty = case({}, [], {})
        self.assertEqual(told(empty).verdicts, ())
        self.assertEqual(plan(order(resolve(empty))).steps, ())

    def test_a_site_of_which_nothing_is_known_stays(self) -> None:
        found = told(case({"core/c": "public"}, [], {"core/c": "6.3"}))
        self.assertEqual([(v.to, v.outcome) for v in found.verdicts], [("6.3", "current")])

    def test_releases_listed_under_a_product_made_for_the_site_carry_and_require_nothing(
        self,
    ) -> None:
        releases: list[dict[str, Any]] = [
            {
                "product": "theme/t",
                "version": "3.0",
                "bundles": {"plugin/a": "5.0"},
                "requires": {"plugin/b": ">=2"},
            },
            *({"product": "plugin/a", "version": v} for v in ("4.0", "5.0")),
            *({"product": "plugin/b", "version": v} for v in ("1.0", "2.0")),
        ]
        accesses = {"theme/t": "custom", "plugin/a": "bundled-only", "plugin/b": "public"}
        installed = {"theme/t": "1.4", "plugin/a": "4.0", "plugin/b": "1.0"}
        found = {v.product: v for v in told(case(accesses, releases, installed)).verdicts}
        self.assertEqual({p: v.to for p, v in found.items()}, {
            "theme/t": "1.4", "plugin/a": "4.0", "plugin/b": "2.0",
        })  # fmt: skip
        blocked = found["plugin/a"].blocked
        assert blocked is not None
        self.assertEqual([t.reason.kind for t in blocked.reasons], ["access"])

    def test_requirements_in_a_circle_are_answered(self) -> None:
        names = [f"plugin/p{n}" for n in range(6)]
        releases = [
            {"product": p, "version": v, "requires": {names[(n + 1) % 6]: f">={v}"}}
            for n, p in enumerate(names)
            for v in ("1.0", "2.0")
        ]
        # All can only go together: each needs the next at its own version.
        circle = case(dict.fromkeys(names, "public"), releases, dict.fromkeys(names, "1.0"))
        found = told(circle)
        self.assertEqual({v.to for v in found.verdicts}, {"2.0"})
        steps = plan(order(resolve(circle))).steps
        self.assertEqual(sum(len(s.moves) for s in steps), 6)

    def test_additions_that_require_each_other_join_together_or_not_at_all(self) -> None:
        releases = [
            {"product": "core/c", "version": "1.0"},
            {"product": "core/c", "version": "2.0", "requires": {"plugin/a": "*"}},
            {"product": "plugin/a", "version": "1.0", "requires": {"plugin/b": "*"}},
            {"product": "plugin/b", "version": "1.0", "requires": {"plugin/a": "*"}},
        ]
        products = {"core/c": "public", "plugin/a": "public", "plugin/b": "public"}
        found = told(case(products, releases, {"core/c": "1.0"}))
        self.assertEqual({v.product: v.to for v in found.verdicts},
                         {"core/c": "2.0", "plugin/a": "1.0", "plugin/b": "1.0"})  # fmt: skip

    def test_ten_thousand_releases_that_speak_of_each_other_are_answered(self) -> None:
        products = {"core/c": "public", "plugin/p": "public", "runtime/r": "host"}
        releases: list[dict[str, Any]] = []
        for n in range(5000):
            needs = {"core/c": f">={max(0, n - 3)}.0,<{n + 3}"}
            releases.append({"product": "core/c", "version": f"{n}.0"})
            releases.append({"product": "plugin/p", "version": f"{n}.0", "requires": needs})
        large = case(products, releases, {"core/c": "0.0", "plugin/p": "0.0"})
        found = told(large)
        self.assertEqual({v.to for v in found.verdicts}, {"4999.0"})

    def test_a_soak_or_a_hold_beyond_all_days_is_answered(self) -> None:
        raw = json.loads(
            case(
                {"core/c": "public"},
                [{"product": "core/c", "version": "2.0"}],
                {"core/c": "1.0"},
            ).to_json()
        )
        raw["policy"]["soak"]["major"] = 10**9
        raw["policy"]["holds"] = [{"product": "core/c", "until": "9999-12-31", "reason": "x"}]
        (verdict,) = told(case_from(raw)).verdicts
        self.assertEqual(verdict.to, "1.0")

    def test_rules_for_products_that_are_not_listed_are_refused_with_the_rest(self) -> None:
        raw = json.loads(case({"core/c": "public"}, [], {"core/c": "1.0"}).to_json())
        raw["policy"]["soaks"] = {"plugin/x": {"major": 3}}
        raw["policy"]["channels_of"] = {"plugin/y": ["stable"]}
        raw["site"]["offers"] = {"runtime/z": ["8.0"]}
        with self.assertRaises(CaseError) as caught:
            read_case(json.dumps(raw))
        paths = {f.path for f in caught.exception.faults}
        self.assertEqual(len(paths), 3, paths)
