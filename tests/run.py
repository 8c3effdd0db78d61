"""Runs the checks and the tests, and closes with one line that counts both."""

from __future__ import annotations

import subprocess
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).parent.parent
BIN = Path(sys.executable).parent
CHECKS: tuple[tuple[str, Path, tuple[str, ...]], ...] = (
    ("format", ROOT, (str(BIN / "ruff"), "format", "--check", "--quiet", ".")),
    ("lint", ROOT, (str(BIN / "ruff"), "check", "--quiet", ".")),
    ("types", ROOT, (str(BIN / "mypy"), "--no-error-summary")),
    ("console types", ROOT / "console", ("npm", "run", "--silent", "check")),
)


class Counting(unittest.TextTestResult):
    """A result that knows how many passed."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def main() -> int:
    passed = failed = 0
    for name, where, command in CHECKS:
        done = subprocess.run(command, cwd=where, check=False, capture_output=True, text=True)
        ok = done.returncode == 0
        print(f"{name}: {'ok' if ok else 'failed'}", flush=True)
        passed, failed = passed + ok, failed + (not ok)
        if not ok:
            print(done.stdout + done.stderr, flush=True)
    names = sys.argv[1:]
    loader = unittest.defaultTestLoader
    suite = (
        loader.loadTestsFromNames(names)
        if names
        else loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    )
    runner = unittest.TextTestRunner(resultclass=Counting, verbosity=1, stream=sys.stdout)
    result = runner.run(suite)
    assert isinstance(result, Counting)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed, failed = passed + result.passed, failed + bad
    print(f"{passed} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
