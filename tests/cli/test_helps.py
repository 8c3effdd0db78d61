"""Help and wrong use: no argument without its words, and the usage of the command itself."""

from __future__ import annotations

import argparse
import contextlib
import io
import unittest
from collections.abc import Iterator

from windbreak.cli.main import main, parser


def every(line: str, of: argparse.ArgumentParser) -> Iterator[tuple[str, argparse.Action]]:
    """Each argument of each command."""
    for action in of._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, sub in action.choices.items():
                yield from every(f"{line} {name}", sub)
        else:
            yield line, action


class Helps(unittest.TestCase):
    def test_no_argument_is_without_its_help(self) -> None:
        for line, action in every("windbreak", parser()):
            with self.subTest(command=line, argument=action.dest):
                self.assertTrue(action.help)

    def test_a_wrong_option_is_told_with_the_usage_of_its_command(self) -> None:
        told = io.StringIO()
        with contextlib.redirect_stderr(told), self.assertRaises(SystemExit) as caught:
            main(["site", "list", "--nonsense"])
        self.assertEqual(caught.exception.code, 2)
        self.assertIn("usage: windbreak site list", told.getvalue())
        self.assertIn("--nonsense", told.getvalue())
