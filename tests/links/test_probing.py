"""Probes held against the baseline: what is worse, what only differs, what was there before."""

import unittest
from datetime import UTC, datetime
from typing import Any

from windbreak.core.values.runs import Look, Probe
from windbreak.links.probing import compare, worse

NOW = datetime(2026, 11, 24, 1, 10, tzinfo=UTC)
PAGE = Look(name="Front page", status=200, seconds=0.41, bytes=900, marks=("Visit us",))
EDITOR = Look(name="Editor", status=200, seconds=0.2, bytes=500)


def probe(page: dict[str, Any] | None = None, **more: Any) -> Probe:
    fields: dict[str, Any] = {
        "at": NOW,
        "looks": (PAGE.model_copy(update=page or {}), EDITOR),
        "editor_blocks": 14,
        "counts": {"page": 3, "orders": 10},
        "settings": "a",
        "errors": ("old fault 1",),
        "written": "w",
    }
    return Probe(**{**fields, **more})


class Comparing(unittest.TestCase):
    def verdicts(self, now: Probe, **more: bool) -> dict[str, str]:
        return {one.name: one.verdict for one in compare(probe(), now, **more)}

    def test_nothing_changed_is_as_before(self) -> None:
        self.assertEqual(set(self.verdicts(probe()).values()), {"as before"})

    def test_each_thing_that_gets_worse_is_seen(self) -> None:
        for now, name in [
            (probe({"status": 500}), "Front page"),
            (probe({"status": None, "bytes": 0}), "Front page"),
            (probe({"bytes": 0, "marks": ()}), "Front page"),
            (probe({"marks": ()}), "Front page"),
            (probe({"faults": ("fatal fault",)}), "Front page"),
            (probe(editor_blocks=0), "Editor"),
            (probe(editor_blocks=None), "Editor"),
            (probe(counts={"page": 2, "orders": 10}), "Count of page"),
            (probe(counts={"page": 3}), "Count of orders"),
            (probe(errors=("old fault 1", "a new one")), "Error log"),
        ]:
            with self.subTest(name=name):
                self.assertEqual([s.name for s in worse(compare(probe(), now))], [name])

    def test_content_that_a_browser_shows_no_more_in_the_editor_is_worse_unless_it_was_edited(
        self,
    ) -> None:
        def seen(*marks: str, blocks: int = 2, written: str = "w") -> Probe:
            editor = EDITOR.model_copy(update={"where": "/edit?post=2", "marks": marks})
            return probe(editor_blocks=blocks, written=written).model_copy(
                update={"looks": (PAGE, editor)}
            )

        before = seen("core/paragraph Open.", "core/paragraph Open.")
        for now, verdict, told in (
            (before, "as before", "opens, 2 blocks"),
            (
                seen("core/paragraph Open.", "core/missing This block"),
                "worse",
                "opens, 2 blocks; not shown: “Open.”",
            ),
            (seen("core/paragraph Shut.", written="x"), "as before", "opens, 2 blocks"),
            (seen(blocks=0), "worse", "opens empty"),
        ):
            (found,) = [one for one in compare(before, now) if one.name == "Editor"]
            self.assertEqual((found.verdict, found.now), (verdict, told))
        # Where the one look had a browser and the other had none, they are not held together.
        plain = compare(before, probe(editor_blocks=2))
        self.assertEqual(worse(plain), ())

    def test_live_content_differs_legitimately(self) -> None:
        now = probe({"marks": ("Visit us tomorrow",)}, counts={"page": 4, "orders": 12})
        verdicts = self.verdicts(now)
        self.assertEqual(verdicts["Front page"], "differs")
        self.assertEqual(verdicts["Count of orders"], "differs")
        self.assertEqual(worse(compare(probe(), now)), ())

    def test_a_fault_that_was_there_before_is_not_a_new_one(self) -> None:
        before = probe({"status": 404, "faults": ("traceback",)}, editor_blocks=None)
        self.assertEqual(worse(compare(before, before)), ())
        numbered = probe(errors=("old fault 27",))
        self.assertEqual(worse(compare(probe(), numbered)), ())

    def test_what_a_failed_step_left_in_the_log_is_not_judged_again(self) -> None:
        now = probe(errors=("old fault 1", "of the step"), earlier=("old fault 1", "of the step"))
        self.assertEqual(self.verdicts(now)["Error log"], "worse")
        self.assertEqual(self.verdicts(now, judged=True)["Error log"], "as before")
        again = probe(errors=("of the step", "since"), earlier=("of the step",))
        self.assertEqual(self.verdicts(again, judged=True)["Error log"], "worse")
