"""Runs the checks and the tests, several beside each other, and closes with one line that counts.

    python -m tests.run                 everything
    python -m tests.run --check         format, lint, types and the tests of the core alone
    python -m tests.run tests.core      the tests of some rooms or modules, without the checks

Each module of tests has a process of its own, so that none leans on what another left behind.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
BIN = Path(sys.executable).parent
CHECKS: tuple[tuple[str, Path, tuple[str, ...]], ...] = (
    ("format", ROOT, (str(BIN / "ruff"), "format", "--check", "--quiet", ".")),
    ("lint", ROOT, (str(BIN / "ruff"), "check", "--quiet", ".")),
    ("types", ROOT, (str(BIN / "mypy"), "--no-error-summary")),
    ("console types", ROOT / "console", ("npm", "run", "--silent", "check")),
)
# The longest first, so that none is waited for at the end: those with browsers and services.
FIRST = ("console", "agent", "cli", "torture", "service", "client", "operations", "core")
QUICK = ("tests.core", "tests.wording", "tests.test_house", "tests.test_generated")
LONGEST = 480.0  # seconds for one module
ROOM = 3 * 2**30  # bytes that tests may take beside each other
COUNTS = re.compile(r"^counts: (\d+) (\d+) (\d+)$", re.MULTILINE)


@dataclass(frozen=True)
class Done:
    """One piece of work: what it was, how many passed, failed and were skipped, what it printed."""

    name: str
    passed: int
    failed: int
    skipped: int
    seconds: float
    text: str


class Counting(unittest.TextTestResult):
    """A result that counts who passed."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def check(name: str, where: Path, command: tuple[str, ...]) -> Done:
    """One check, as a process."""
    began = time.monotonic()
    done = subprocess.run(command, cwd=where, check=False, capture_output=True, text=True)
    ok = done.returncode == 0
    return Done(name, int(ok), int(not ok), 0, time.monotonic() - began, done.stdout + done.stderr)


def module(name: str) -> Done:
    """One module of tests, as a process."""
    began = time.monotonic()
    command = [sys.executable, *(f"-W{option}" for option in sys.warnoptions)]
    command += ["-m", "tests.run", "--here", name]
    try:
        done = subprocess.run(
            command, cwd=ROOT, check=False, capture_output=True, text=True, timeout=LONGEST
        )
    except subprocess.TimeoutExpired as error:
        told = (error.stdout or b"").decode() + (error.stderr or b"").decode()
        text = f"{told}\n{name} did not end in {LONGEST:.0f} s"
        return Done(name, 0, 1, 0, time.monotonic() - began, text)
    text = done.stdout + done.stderr
    counts = COUNTS.search(done.stdout)
    # A module that dies before it can count has failed once.
    passed, failed, skipped = map(int, counts.groups()) if counts else (0, 1, 0)
    return Done(name, passed, failed, skipped, time.monotonic() - began, text)


def here(name: str) -> int:
    """Run a module of tests in this process."""
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    result = unittest.TextTestRunner(resultclass=Counting, stream=sys.stdout).run(suite)
    assert isinstance(result, Counting)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    print(f"counts: {result.passed} {failed} {len(result.skipped)}")
    return 1 if failed else 0


def modules(under: tuple[str, ...]) -> list[str]:
    """The modules of tests, the longest first; those under some names alone, if any are given."""
    names = [
        ".".join(path.relative_to(ROOT).with_suffix("").parts)
        for path in sorted((ROOT / "tests").rglob("test_*.py"))
    ]
    kept = [n for n in names if not under or any(f"{n}.".startswith(f"{u}.") for u in under)]
    # Something within a module is run by its whole name.
    kept += [u for u in under if not any(f"{n}.".startswith(f"{u}.") for n in names)]
    places = {room: place for place, room in enumerate(FIRST)}
    return sorted(kept, key=lambda n: places.get((n.split(".") + [""])[1], len(FIRST)))


@contextlib.contextmanager
def _passing() -> Iterator[None]:
    """Let what the tests make lie in memory where there is room: half of their time goes into
    disks being waited for, and nothing of it is kept.
    """
    memory = Path("/dev/shm")
    if not memory.is_dir() or shutil.disk_usage(memory).free < ROOM or "TMPDIR" in os.environ:
        yield
        return
    with tempfile.TemporaryDirectory(prefix="windbreak-tests-", dir=memory) as folder:
        os.environ["TMPDIR"] = folder
        yield


def main(words: list[str]) -> int:
    if words[:1] == ["--here"]:
        return here(words[1])
    quick = words == ["--check"]
    under = QUICK if quick else tuple(words)
    passed = failed = skipped = 0
    with _passing(), ThreadPoolExecutor((os.cpu_count() or 2) + 1) as pool:
        work = [pool.submit(check, *one) for one in CHECKS] if quick or not words else []
        work += [pool.submit(module, name) for name in modules(under)]
        for each in work:
            done = each.result()
            word = "failed" if done.failed else "ok"
            print(f"{done.name}: {word}, {done.passed} in {done.seconds:.0f} s", flush=True)
            if done.failed:
                print(done.text, flush=True)
            passed += done.passed
            failed += done.failed
            skipped += done.skipped
    print(f"{passed} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
