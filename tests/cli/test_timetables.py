"""``windbreak timetable`` as a process: answers of files, and one that is refused."""

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.core.scheduling import books

BOOKS = Path(__file__).parents[1] / "data/books"


class Timetable(unittest.TestCase):
    def windbreak(self, *words: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "windbreak", "timetable", *words]
        return subprocess.run(command, capture_output=True, text=True, check=False)

    def test_each_file_is_answered_in_its_place_and_a_refused_one_says_why(self) -> None:
        with tempfile.NamedTemporaryFile("w", suffix=".json") as bad:
            bad.write('{"format": "windbreak-nightbook/1", "jobs": [{}]}')
            bad.flush()
            files = [str(BOOKS / "small-1002.json"), bad.name, str(BOOKS / "small-1004.json")]
            done = self.windbreak(*files, "--json")
        self.assertEqual(done.returncode, 1)
        first, refused, last = map(json.loads, done.stdout.splitlines())
        self.assertEqual([first["file"], refused["file"], last["file"]], files)
        self.assertIn("$.jobs[0].id: required, but missing", refused["error"])
        expected = json.loads((BOOKS / "expected.json").read_text())
        self.assertEqual(first["objective"], expected["small-1002"]["objective"])
        self.assertEqual((last["objective"]["moved"], last["proven"]), (2, True))

    def test_an_answer_has_the_form_that_is_documented(self) -> None:
        done = self.windbreak(str(BOOKS / "small-1002.json"), "--json")
        answer = json.loads(done.stdout)
        self.assertEqual(answer["format"], "windbreak-timetable/1")
        self.assertEqual(answer["bound"], answer["objective"])
        for booking in answer["bookings"]:
            self.assertEqual(
                set(booking), {"job", "start", "end", "opening", "late", "why", "text"}
            )
            edges = [*(stretch["to"] for stretch in booking["why"])]
            self.assertEqual(edges[-1:], [booking["start"]])
        for left in answer["left_out"]:
            self.assertEqual(set(left), {"job", "why", "would_help", "text"})

    def test_a_person_reads_why_then_and_why_not(self) -> None:
        done = self.windbreak(str(BOOKS / "small-1002.json"))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("j0               Sat 15 May 22:40: h0 bears 1 at once, and", done.stdout)
        self.assertIn("Left out: gate g1 waits for", done.stdout)

    def test_a_book_that_was_not_improved_to_its_end_says_how_far(self) -> None:
        book = books.made(5, 40, days=2.0)
        with tempfile.NamedTemporaryFile("w", suffix=".json") as file:
            file.write(book.model_dump_json(by_alias=True))
            file.flush()
            early = json.loads(self.windbreak(file.name, "--within", "0.01", "--json").stdout)
            whole = json.loads(self.windbreak(file.name, "--json").stdout)
            said = self.windbreak(file.name, "--within", "0.01").stdout
            refused = self.windbreak(file.name, "--within", "-1")
        self.assertLess(early["improved"], 1)
        self.assertNotIn("improved", whole)
        self.assertLessEqual(list(whole["objective"].values()), list(early["objective"].values()))
        self.assertRegex(said, r"It was improved to \d+%; give it more time: --within SECONDS")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("-1 is not a number of seconds from 0 up, as 0.5", refused.stderr)
