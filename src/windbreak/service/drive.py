"""What the service does by itself: due bookings, rollouts, feeds, refreshes, findings, runs.

One thread looks about once a second; each run has a thread of its own. Only the service that
holds the lease of the data directory drives it.
"""

from __future__ import annotations

import fcntl
import logging
import threading
from datetime import timedelta
from pathlib import Path
from typing import IO

from windbreak.core.work import Run
from windbreak.operations import findings, rollouts, runs, sites, tracking
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused

log = logging.getLogger("windbreak.drive")


class LeaseTaken(Exception):
    """Another service drives this data directory."""

    code = "lease-taken"


class Lease:
    """The right to drive a data directory; the system gives it back when the process ends."""

    def __init__(self, data: Path) -> None:
        self._file: IO[str] = (data / "lease").open("a")
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._file.close()
            raise LeaseTaken(
                f"another service drives {data} already; stop it, or give another --data"
            ) from None

    def end(self) -> None:
        self._file.close()


class Driver:
    """The background work of one service."""

    def __init__(self, context: Context, refresh_minutes: int) -> None:
        self.context = context
        self.refresh_every = timedelta(minutes=refresh_minutes)
        self.stopping = threading.Event()
        self.asked = threading.Event()
        self.threads: list[threading.Thread] = []
        self._main = threading.Thread(target=self._loop, name="drive", daemon=True)

    def start(self) -> None:
        """Take up what was under way, then look about until stopped."""
        for run in self.context.store.runs.all(state="running"):
            log.info("run %s is taken up where it was", run.id)
            self.carry_out(run)
        self._main.start()

    def stop(self) -> None:
        """Look about no more. Runs under way are left to be taken up at the next start."""
        self.stopping.set()
        self.asked.set()
        if self._main.is_alive():
            self._main.join(timeout=5)

    def carry_out(self, run: Run) -> None:
        """Carry a run out in a thread of its own."""
        thread = threading.Thread(
            target=self._run, args=(run.id,), name=f"run-{run.id}", daemon=True
        )
        self.threads.append(thread)
        thread.start()

    def _run(self, run: int) -> None:
        try:
            runs.carry_out(self.context, run)
            self.asked.set()
        except Exception:
            # The journal holds all that was done: the next start takes the run up again.
            log.exception("run %s stopped on an error of ours; it is taken up again", run)
            self.context.tell("run", str(run), "stopped on a fault of the service")
        finally:
            self.context.store.close()

    def _loop(self) -> None:
        while not self.stopping.is_set():
            for work in (self._bookings, self._rollouts, self._feeds, self._refreshes, self._find):
                try:
                    work()
                except Exception:
                    log.exception("%s failed; it is tried again", work.__name__)
            self.asked.wait(1.0)
            self.asked.clear()
        self.context.store.close()

    def _bookings(self) -> None:
        for booking in rollouts.due(self.context):
            try:
                run = runs.start(self.context, booking.plan, booking.made_by, booking=booking.id)
            except Refused as error:
                if error.code in ("site-busy", "host-busy"):
                    continue  # it waits until there is room, or it is missed
                self.context.store.bookings.change(booking.id, state="missed")
                self.context.record(
                    "Windbreak", f"booking {booking.id} not begun", booking.site, result=str(error)
                )
            else:
                self.carry_out(run)

    def _rollouts(self) -> None:
        rollouts.tend_rollouts(self.context)

    def _feeds(self) -> None:
        now = self.context.clock()
        for feed in self.context.store.feeds.all():
            if feed.next_poll_at is None or feed.next_poll_at <= now:
                tracking.poll(self.context, feed.id)
                if feed.check is None and feed.sign_in != "none":
                    tracking.check_credential(self.context, feed.id)

    def _refreshes(self) -> None:
        if not self.refresh_every:
            return
        now = self.context.clock()
        for site in self.context.store.sites.all():
            looked = site.link.looked_at
            if looked is None or looked + self.refresh_every > now:
                continue
            if not self.context.store.runs.all(site=site.id, state="running"):
                try:
                    sites.refresh(self.context, site.id)
                except OperationError as error:
                    log.warning("%s was not refreshed: %s", site.id, error)

    def _find(self) -> None:
        newest = self.context.store.last_event()
        day = self.context.clock().date()
        if (newest, day) != getattr(self, "_found_at", None):
            findings.look_again(self.context)
            self._found_at = (self.context.store.last_event(), day)
