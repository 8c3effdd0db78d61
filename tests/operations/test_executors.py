"""Heavy work: done in processes that are started again when they die, and end with the service."""

import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import Executor, Future, wait
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any

from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, aside, close, open_context
from windbreak.operations.executors import Workers, carried_out, on_this_machine
from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import look_into

_SERVICE = """
import os, time
from windbreak.operations.executors import Workers
workers = Workers(1)
print(workers.submit(os.getpid).result(), flush=True)
time.sleep(60)
"""


def dies_once(path: str) -> str:
    """Dies at the first time, and says so at the second."""
    if not Path(path).exists():
        Path(path).write_text("died")
        os.kill(os.getpid(), signal.SIGKILL)
    return "done once more"


def dies(_: object) -> None:
    os.kill(os.getpid(), signal.SIGKILL)


def niceness() -> int:
    return os.nice(0)


class Elsewhere(Executor):
    """An executor that is not on this machine."""

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> Future[Any]:
        raise AssertionError("an archive was sent away")


class Processes(unittest.TestCase):
    def setUp(self) -> None:
        self.workers = Workers(1)
        self.addCleanup(self.workers.shutdown)

    def test_a_worker_stands_back_behind_the_service(self) -> None:
        self.assertNotEqual(carried_out(self.workers, os.getpid), os.getpid())
        self.assertEqual(carried_out(self.workers, niceness), min(19, os.nice(0) + 5))
        self.assertEqual(carried_out(None, os.getpid), os.getpid())

    def test_what_a_worker_had_in_hand_when_it_died_is_done_once_more(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            with self.assertLogs("windbreak.workers", "WARNING") as logged:
                done = self.workers.submit(dies_once, f"{folder}/died")
                self.assertEqual(done.result(60), "done once more")
            self.assertIn("a worker died", logged.output[0])

    def test_work_at_which_workers_die_again_fails_and_no_other_does(self) -> None:
        with self.assertLogs("windbreak.workers", "WARNING"):
            broken = self.workers.submit(dies, None)
            with self.assertRaises(BrokenProcessPool):
                broken.result(60)
            self.assertNotEqual(self.workers.submit(os.getpid).result(60), os.getpid())

    def test_a_worker_that_dies_idle_is_started_again(self) -> None:
        before = self.workers.submit(os.getpid).result(60)
        os.kill(before, signal.SIGKILL)
        until = time.monotonic() + 60
        while True:
            self.workers.mend()
            try:
                if (now := self.workers.submit(os.getpid).result(60)) != before:
                    break
            except BrokenProcessPool:
                self.assertLess(time.monotonic(), until)
        self.assertNotEqual(now, os.getpid())

    def test_what_was_not_done_when_it_ends_is_never_waited_for(self) -> None:
        self.workers.submit(time.sleep, 1)
        waiting = [self.workers.submit(time.sleep, 1) for _ in range(4)]
        self.workers.shutdown(cancel_futures=True)
        done, left = wait(waiting, 30)
        self.assertEqual((len(done), left), (4, set()))
        with self.assertRaises(RuntimeError):
            self.workers.submit(os.getpid).result(30)

    def test_what_is_refused_comes_back_as_it_was(self) -> None:
        with self.assertRaises(PackageRefused) as raised:
            on_this_machine(self.workers, look_into, b"no archive", None, None)
        self.assertEqual(raised.exception.expected, "a zip archive")
        self.assertEqual(carried_out(self.workers, abs, -1), 1)

    def test_an_archive_is_examined_on_this_machine(self) -> None:
        with self.assertRaises(PackageRefused):
            on_this_machine(Elsewhere(), look_into, b"no archive", None, None)

    def test_a_worker_ends_with_a_service_that_was_killed(self) -> None:
        service = subprocess.Popen([sys.executable, "-c", _SERVICE], stdout=subprocess.PIPE)
        assert service.stdout is not None
        worker = int(service.stdout.readline())
        service.kill()
        service.wait()
        service.stdout.close()
        until = time.monotonic() + 30
        while Path(f"/proc/{worker}/cmdline").exists():
            self.assertLess(time.monotonic(), until, "the worker outlives its service")
            time.sleep(0.05)


def accounts_and_process(context: Context, kind: str) -> tuple[int, list[str], str]:
    """A read: where it is made, and what it sees."""
    return os.getpid(), [a.id for a in context.store.accounts.all()], kind


class LongReads(unittest.TestCase):
    """What takes long to read is read by a process of its own, of the same database."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.workers = Workers(1)
        self.addCleanup(self.workers.shutdown)
        self.context = open_context(Path(folder.name), executor=self.workers)
        self.addCleanup(close, self.context)

    def test_it_is_made_elsewhere_and_sees_what_was_written_last(self) -> None:
        here = os.getpid()
        for account in ("rhona", "edda"):
            accounts.ensure_account(self.context, account, account.title())
            process, seen, kind = aside(self.context, accounts_and_process, "a kind")
            self.assertNotEqual(process, here)
            self.assertIn(account, seen)
            self.assertEqual(kind, "a kind")

    def test_it_does_not_wait_for_what_the_worker_has_in_hand(self) -> None:
        busy = self.workers.submit(time.sleep, 3)
        aside(self.context, accounts_and_process, "")
        self.assertFalse(busy.done(), "the read waited for the worker")

    def test_without_a_process_it_is_made_here(self) -> None:
        self.context.executor = None
        self.assertEqual(aside(self.context, accounts_and_process, "")[0], os.getpid())
