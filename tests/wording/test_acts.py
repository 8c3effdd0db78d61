"""Acts as data: one table makes the command and the page, and both are there."""

import argparse
import re
import shlex
import unittest
from pathlib import Path

from windbreak.cli.main import parser
from windbreak.core.values.findings import NextAct
from windbreak.wording import acts

PAGES = Path(__file__).parents[2] / "console/src/main.tsx"
ON = {
    "site": "skerry-light",
    "product": "plugin/lee",
    "version": "5.5",
    "feed": "commons",
    "licence": "breakwater",
    "plan": "3",
    "run": "1",
    "errand": "1",
    "matter": "1",
    "state": "ready",
    "folder": "lee-forms",
    "rollout": "1",
    "calendar": "season",
    "host": "jetty",
    "hold": "29e0b38a",
    "package": "0a1b2c3d",
    "rule": "163d3ccd",
    "text": "Remove Lee",
    "file": "lee-5.5.zip",
    "channels": "stable,preview",
    "why": "to have it early",
}


class Acts(unittest.TestCase):
    def test_every_command_is_one_that_the_program_takes(self) -> None:
        whole = parser()
        for name in acts.ACTS:
            with self.subTest(act=name):
                words = shlex.split(acts.command_line(name, ON))
                self.assertEqual(words.pop(0), "windbreak")
                try:
                    args = whole.parse_args(words)
                except (SystemExit, argparse.ArgumentError):
                    self.fail(f"windbreak {' '.join(words)} is no command")
                self.assertTrue(callable(args.do))

    def test_every_page_is_one_that_the_console_has(self) -> None:
        routes = re.findall(r'path="(/[^"*]*)"', PAGES.read_text()) + ["/"]
        shapes = [re.compile(re.sub(r":\w+", "[^/]+", route)) for route in routes]
        for name, surface in acts.ACTS.items():
            if surface.page:
                with self.subTest(act=name):
                    path = acts.page(NextAct(act=name, on=ON, label="x")).partition("?")[0]
                    self.assertTrue(any(s.fullmatch(path) for s in shapes), path)

    def test_what_it_is_done_on_is_one_word_whatever_it_holds(self) -> None:
        odd = {"site": "a b; rm -rf 'x' &"}
        self.assertEqual(
            shlex.split(acts.command_line("link", odd)), ["windbreak", "site", "link", odd["site"]]
        )
        act = NextAct(act="see-site", on={"site": "a?b#c"}, label="x")
        self.assertEqual(acts.page(act), "/sites/a%3Fb%23c")
