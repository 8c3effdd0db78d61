"""Pictures before and after a run, by a real browser; and where two pictures differ."""

import shutil
import tempfile
import unittest
from pathlib import Path

from PIL import Image, ImageDraw

from tests.operations.runs.within import WithRuns
from windbreak.operations.runs import pictures
from windbreak.operations.views.runs import run_story
from windbreak.store.errors import NotFound

CHROMIUM = shutil.which("chromium") or ""


class Marks(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def drawn(self, name: str, *boxes: tuple[int, int, int, int], height: int = 400) -> Path:
        image = Image.new("RGB", (390, height), "white")
        for left, top, width, tall in boxes:
            box = (left, top, left + width - 1, top + tall - 1)
            ImageDraw.Draw(image).rectangle(box, fill="black")
        path = self.folder / f"{name}.png"
        image.save(path)
        return path

    def test_what_differs_is_one_box_around_it(self) -> None:
        first, now = self.drawn("a", (32, 32, 64, 32)), self.drawn("b", (32, 160, 64, 32))
        seen = pictures.marked(first, first, now)
        self.assertEqual(seen.boxes, ((32, 32, 64, 32), (32, 160, 64, 32)))
        self.assertEqual(seen.lively, ())

    def test_what_changes_by_itself_is_marked_apart(self) -> None:
        first = self.drawn("a")
        again = self.drawn("again", (0, 0, 48, 16))
        now = self.drawn("b", (16, 0, 16, 16), (160, 320, 32, 16))
        seen = pictures.marked(first, again, now)
        self.assertEqual(seen.boxes, ((160, 320, 32, 16),))
        self.assertEqual(seen.lively, ((0, 0, 48, 16),))

    def test_a_page_that_grew_shorter_differs_where_it_was(self) -> None:
        first, now = self.drawn("a", (0, 480, 390, 16), height=800), self.drawn("b", height=400)
        seen = pictures.marked(first, first, now)
        self.assertEqual((seen.height, seen.boxes), (800, ((0, 480, 400, 16),)))


@unittest.skipUnless(CHROMIUM, "no chromium here")
class Taken(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        self.site("skerry-light")
        self.plan = self.approved("skerry-light")
        self.context.browser = CHROMIUM

    def test_pages_are_taken_before_and_after_at_two_widths(self) -> None:
        run = self.carried_out(self.plan)
        self.assertEqual(run.state, "done", run.text)
        taken = run_story(self.context, run.id).pictures
        self.assertEqual({pair.width for pair in taken}, {1280, 390})
        for pair in taken:
            for address in (pair.before, pair.after):
                assert address is not None
                path = pictures.picture(self.context, run.id, address.rsplit("/", 1)[1])
                with Image.open(path) as image:
                    self.assertEqual(image.width, pair.width)

    def test_a_browser_that_is_not_there_holds_nothing_up(self) -> None:
        self.context.browser = "/nowhere/chromium"
        run = self.carried_out(self.plan)
        self.assertEqual(run.state, "done", run.text)
        (line,) = [e for e in self.lines(run) if e.kind == "pictures-before"]
        self.assertIn("could not be taken: /nowhere/chromium did not start", line.text)
        self.assertEqual(run_story(self.context, run.id).pictures, ())

    def test_no_other_file_is_given_for_a_picture(self) -> None:
        folder = self.context.data / "pictures" / "1"
        folder.mkdir(parents=True)
        (folder / "notes.txt").write_text("not a picture")
        for name in ("../../windbreak.db", "0-1280-before.png", "notes.txt"):
            with self.assertRaises(NotFound):
                pictures.picture(self.context, 1, name)
