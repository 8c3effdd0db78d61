"""The README's tour, command by command as it is printed, on the demo fleet."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.running import by_day
from windbreak.cli.main import parser
from windbreak.standins.demo import Demo, set_up

README = Path(__file__).parents[2] / "README.md"
BIN = Path(sys.executable).parent
# Played by `make demo-tour`, which takes minutes: here each command is only read.
DAY = "2030-01-01"  # in the place of what the shell would reckon
LATER = ("demo-fault", "demo-night", "demo-release", "run ask", "run watch")


def tour() -> list[list[str]]:
    """The blocks of commands of the tour, in their order."""
    text = README.read_text().partition("## Five minutes")[2].partition("## From a program")[0]
    blocks = re.findall(r"```\n(.*?)```", text, re.DOTALL)
    return [[line for line in block.splitlines() if line.strip()] for block in blocks]


class Readme(unittest.TestCase):
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        demo = Demo(cls.folder / "demo-data")
        cls.addClassCleanup(demo.stop)
        by_day(demo)
        where = demo.start_standins()
        demo.start_service()
        set_up(demo, where)
        cls.env = {
            **os.environ,
            "PATH": f"{BIN}:{os.environ['PATH']}",
            "WINDBREAK_PROFILE": str(cls.folder / "profile.json"),
        }
        made = cls.run_("windbreak sign-in-link --data demo-data/service").stdout
        cls.link = made.strip().splitlines()[-1]

    @classmethod
    def run_(cls, line: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            ["bash", "-c", line],
            cwd=cls.folder,
            env=cls.env,
            text=True,
            capture_output=True,
            timeout=240,
            stdin=subprocess.DEVNULL,
        )

    def test_every_command_of_the_tour_does_what_it_says(self) -> None:
        told: dict[str, str] = {}
        for block in tour():
            if any(word in line for line in block for word in LATER):
                continue
            for printed in block:
                if printed.startswith("export PATH"):
                    continue
                line = re.sub(r"sign-in 'http[^']*'", f"sign-in '{self.link}'", printed)
                done = self.run_(_answered(line))
                wanted = 1 if "exit status 1" in line else 0
                if "withdrawn: " in done.stdout:  # on some days of the week it leaves no place
                    wanted = 5
                with self.subTest(command=printed):
                    self.assertEqual(done.returncode, wanted, done.stdout + done.stderr)
                told[printed.partition("#")[0].strip()] = done.stdout
        self.assertIn("findings want you", told["windbreak today"])
        self.assertIn("It keeps back Breakwater", told["windbreak site show fulmar"])
        self.assertIn("done", told["windbreak run show 1"])
        self.assertIn("put back", told["windbreak run start 2 --watch --outside-window"])
        self.assertIn("Take one: windbreak matter take 2", told["windbreak matter show 2"])

    def test_every_other_command_is_one_that_the_program_takes(self) -> None:
        whole = parser()
        for line in (line for block in tour() for line in block):
            if line.startswith("windbreak"):
                words = shlex.split(re.sub(r"\$\([^)]*\)", DAY, line), comments=True)[1:]
                with self.subTest(command=line):
                    self.assertTrue(callable(whole.parse_args(words).do))


def _answered(line: str) -> str:
    """A command that asks, answered; its remark stays behind it."""
    command, sign, remark = line.partition(" #")
    if re.match(
        r"windbreak (approve|rollout approve|run start|matter take|licence enter)", command
    ):
        return f"{command} --yes {sign}{remark}"
    return line
