"""The console's states, layouts and filters: its vitest tests, each one a test of this suite."""

from __future__ import annotations

import functools
import json
import re
import subprocess
import unittest
from pathlib import Path

CONSOLE = Path(__file__).parents[2] / "console"
NAME = re.compile(r'^\s*test\("((?:[^"\\]|\\.)*)"', re.MULTILINE)


@functools.cache
def results() -> dict[tuple[str, str], tuple[bool, str]]:
    """By file and name, whether each passed, and what it said otherwise. Run once."""
    command = ["npx", "--no-install", "vitest", "run", "--dir", "tests", "--reporter=json"]
    done = subprocess.run(
        command, cwd=CONSOLE, capture_output=True, text=True, check=False, timeout=300
    )
    start = done.stdout.find("{")
    if start < 0:
        raise AssertionError(done.stdout + done.stderr)
    found = {}
    for file in json.loads(done.stdout[start:])["testResults"]:
        for one in file["assertionResults"]:
            ok = one["status"] == "passed"
            found[Path(file["name"]).name, one["title"]] = (ok, "\n".join(one["failureMessages"]))
    return found


class Vitest(unittest.TestCase):
    """One of them."""

    def __init__(self, file: str = "", name: str = "") -> None:
        super().__init__("passes")
        self.file, self.name = file, name

    def passes(self) -> None:
        ok, said = results().get((self.file, self.name), (False, "it did not run"))
        self.assertTrue(ok, said)

    def __str__(self) -> str:
        return f"{self.name} (console/tests, {self.file})"


def load_tests(
    loader: unittest.TestLoader, tests: unittest.TestSuite, pattern: str | None
) -> unittest.TestSuite:
    cases = [
        Vitest(path.name, name.replace('\\"', '"'))
        for path in sorted((CONSOLE / "tests").rglob("*.test.ts"))
        for name in NAME.findall(path.read_text())
    ]
    assert cases
    return unittest.TestSuite(cases)
