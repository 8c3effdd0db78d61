"""What the service does by itself: due bookings, rollouts, feeds, refreshes, findings, runs.

One thread looks about once a second; each run has a thread of its own. Only the service that
holds the lease of the data directory drives it.
"""

from __future__ import annotations

import fcntl
import logging
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import IO

from windbreak.core.values.feeds import Feed
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.links.errors import LinkError
from windbreak.notices.mail import MailSettings
from windbreak.operations.administration import instance, outward, retention
from windbreak.operations.administration.retention import Retention
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.executors import Workers
from windbreak.operations.findings import digest
from windbreak.operations.planning import policy
from windbreak.operations.runs import keeping, matters, runs, ways_out
from windbreak.operations.scheduling import (
    bookings,
    drafts,
    freeze_calendars,
    patch_releases,
    rollouts,
    timetables,
)
from windbreak.operations.sites import integrity, keys, sites, tasks, twins, visits
from windbreak.operations.tracking import credentials, polling, shelving
from windbreak.operations.views.projector import Projector
from windbreak.service.ready import Ready
from windbreak.service.settings import ShelfSettings

log = logging.getLogger("windbreak.drive")

_QUIET = 3.0  # seconds between two looks while nobody tells anything
_TOGETHER = 0.2  # seconds at the most for which changes are left to come together
_OWED_EVERY = timedelta(minutes=1)  # how often a site is asked to which something is owed


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

    def __init__(
        self,
        context: Context,
        refresh_minutes: int,
        pages_minutes: int,
        shelf: ShelfSettings,
        mail: MailSettings,
        digest_hour: int,
        retention: Retention,
    ) -> None:
        self.context = context
        self.shelf, self.mail, self.digest_hour = shelf, mail, digest_hour
        self.retention = retention
        self.refresh_every = timedelta(minutes=refresh_minutes)
        self.visit_every = timedelta(minutes=pages_minutes)
        self.stopping = threading.Event()
        self.asked = threading.Event()
        self.threads: list[threading.Thread] = []
        self._polling: threading.Thread | None = None
        self._asking: threading.Thread | None = None
        self._visiting: threading.Thread | None = None
        self.projector = Projector(context)
        self.ready = Ready(context)
        self._next: dict[str, tuple[int, datetime | None]] = {}
        self._again: dict[str, float] = {}  # not before is it worked out anew
        self._mail_after = datetime.min.replace(tzinfo=UTC)
        self._broken: list[Callable[[], object]] = []
        self._tasks: set[int] = set()
        self._tasks_at = -1
        self._rollouts_at = self._patches_at = self._timetable_at = -1
        self._timetable_after = self._proposals_after = 0.0
        self._proposals_at = (-1, "")
        self._let_go_at = -1
        self._hour = ""  # the hour whose turning was looked after
        self._main = threading.Thread(target=self._loop, name="drive", daemon=True)
        self._views = threading.Thread(target=self._project, name="projector", daemon=True)
        self._nights = threading.Thread(target=self._tend_nights, name="nights", daemon=True)
        self._answers = threading.Thread(target=self._renew, name="answers", daemon=True)

    def start(self) -> None:
        """Take up what was under way, then look about until stopped."""
        running = self.context.store.runs.all(state="running")
        for run in running if instance.may_drive(self.context) else ():
            log.info("run %s is taken up where it was", run.id)
            self.carry_out(run)
        for matter in matters.listed(self.context) if instance.may_drive(self.context) else ():
            if matter.doing is not None:
                log.info("matter %s: %s is taken up", matter.id, matter.doing.act)
                self.take_way_out(matter.id)
        self._main.start()
        self._views.start()
        self._nights.start()
        self._answers.start()

    @property
    def projects(self) -> bool:
        """Whether views are kept up to date here, so that waiting for them makes sense."""
        return self._views.is_alive()

    def stop(self) -> None:
        """Look about no more. Runs under way are left to be taken up at the next start."""
        self.stopping.set()
        self.projector.stop.set()
        self.asked.set()
        self.context.wake()
        for thread in (self._main, self._views, self._nights, self._answers):
            if thread.is_alive():
                thread.join(timeout=5)

    def carry_out(self, run: Run) -> None:
        """Carry a run out in a thread of its own. Where that stops on a fault of ours, the journal
        holds all that was done: it becomes a matter, and can be taken up again.
        """
        self._aside(
            f"run {run.id}",
            partial(runs.carry_out, self.context, run.id),
            partial(runs.broke, self.context, run.id),
        )

    def carry_out_task(self, task: int) -> None:
        """Carry a task out in a thread of its own, once."""
        if task not in self._tasks:
            self._tasks.add(task)
            self._aside(
                f"task {task}",
                partial(tasks.carry_out, self.context, task),
                partial(tasks.broke, self.context, task),
            )

    def take_way_out(self, matter: int) -> None:
        """Take the way out of a matter that was written down, in a thread of its own."""
        self._aside(
            f"matter {matter}",
            partial(ways_out.carry_out, self.context, matter),
            partial(ways_out.broke, self.context, matter),
        )

    def _aside(self, name: str, work: Callable[[], object], broke: Callable[[str], object]) -> None:
        """Do something in a thread of its own; ``broke`` is told which fault of ours stopped it."""

        def do() -> None:
            try:
                work()
                self.asked.set()
            except Exception as error:
                log.exception("%s stopped on an error of ours", name)
                self._broken.append(partial(broke, f"{type(error).__name__}: {error}"))
            finally:
                self.context.store.close()

        thread = threading.Thread(target=do, name=name.replace(" ", "-"), daemon=True)
        self.threads.append(thread)
        thread.start()

    def _tend_tasks(self) -> None:
        """Tasks that something else than a request began, and the day's proofs."""
        if self.context.store.database.generation("task") == self._tasks_at:
            return
        self._tasks_at = self.context.store.database.generation("task")
        for task in self.context.store.tasks.all(state="running"):
            self.carry_out_task(task.id)

    def _loop(self) -> None:
        while not self.stopping.is_set():
            for work in self._duties():
                try:
                    work()
                except Exception:
                    log.exception("%s failed; it is tried again", work.__name__)
            self.asked.wait(1.0)
            self.asked.clear()
        self.context.store.close()

    def _duties(self) -> tuple[Callable[[], None], ...]:
        """What is done in turn; a reader only asks feeds: nothing goes out of it."""
        if not instance.may_drive(self.context):
            return (self._broke, self._daily, self._feeds)
        first = (self._broke, self._bookings, self._rollouts, self._daily, self._feeds)
        looks = (self._refreshes, self._visits)
        return (*first, self._calendars, self._outward, self._digest, *looks, self._tend_tasks)

    def _broke(self) -> None:
        """What stopped on a fault of ours says so, as soon as that can be written: a run becomes a
        matter, a task has failed.
        """
        for tell in list(self._broken):
            tell()
            self._broken.remove(tell)

    def _bookings(self) -> None:
        if not self._due("bookings", ("booking",), lambda: bookings.next_due(self.context)):
            return
        for booking in bookings.startable(self.context):
            try:
                run = runs.start(self.context, booking.plan, booking.made_by, booking=booking.id)
            except Refused as error:
                if error.code in ("site-busy", "host-busy"):
                    continue  # it waits until there is room, or it is missed
                bookings.miss(self.context, booking, f"it could not be begun: {error}")
            else:
                self.carry_out(run)

    def _calendars(self) -> None:
        """Subscribed calendars of freezes are read beside everything else."""
        changed = ("freeze-calendar",)
        if self._due("calendars", changed, lambda: freeze_calendars.next_due(self.context)):
            self._next["calendars"] = (self.context.store.database.generation(*changed), None)
            work = partial(freeze_calendars.read_due, self.context)
            self._aside("calendars", work, lambda error: None)

    def _rollouts(self) -> None:
        """What happened since moves rollouts on; nothing else does."""
        hangs_on = ("rollout", "run", "plan", "booking", "task")
        generation = self.context.store.database.generation(*hangs_on)
        if generation != self._rollouts_at:
            rollouts.tend(self.context)
            self._rollouts_at = generation
        generation = self.context.store.database.generation(*patch_releases.HANGS_ON)
        if generation != self._patches_at:
            patch_releases.tend(self.context)
            self._patches_at = generation

    def _feeds(self) -> None:
        """Feeds are asked beside everything else: one that hangs keeps nothing back."""
        if self._polling is not None and self._polling.is_alive():
            return
        polls = self._due("feeds", ("feed",), lambda: polling.next_due(self.context))
        asks = self._due("checks", ("feed",), lambda: credentials.next_due(self.context))
        if not polls and not asks:
            return
        due = polling.due(self.context)
        checks = credentials.checks_due(self.context)
        if due or checks:
            self._polling = threading.Thread(
                target=self._poll, args=(due, checks), name="feeds", daemon=True
            )
            self._polling.start()

    def _poll(self, due: list[Feed], checks: list[str]) -> None:
        try:
            for _ in polling.poll_many(self.context, due):
                if self.stopping.is_set():
                    break
            for feed in checks:
                credentials.check(self.context, feed)
        except Exception:
            log.exception("feeds were not all asked; they are asked again")
        finally:
            self.context.store.close()

    def _refreshes(self) -> None:
        if not self.refresh_every or (self._asking is not None and self._asking.is_alive()):
            return
        if not self._due("refresh", ("site", "fleet", "run"), self._next_refresh):
            return
        now = self.context.clock()
        busy = {run.site for run in self.context.store.runs.all(state="running")}
        owed = self.context.store.debts.sites_owed()
        due = [
            site
            for site in sites.live(self.context)
            if site.link.looked_at is not None
            and (patience := self._patience(site, owed))
            and site.link.looked_at + patience <= now
            and site.id not in busy
        ]
        if due:
            self._asking = threading.Thread(
                target=self._refresh, args=(due,), name="refresh", daemon=True
            )
            self._asking.start()

    def _visits(self) -> None:
        """Pages are looked at beside everything else, on a time of their own."""
        if not self.visit_every or (self._visiting is not None and self._visiting.is_alive()):
            return
        if not self._due(
            "visits", ("site", "run"), lambda: visits.next_due(self.context, self.visit_every)
        ):
            return
        due = visits.due(self.context, self.visit_every)
        if due:
            self._visiting = threading.Thread(
                target=self._visit, args=(due,), name="visits", daemon=True
            )
            self._visiting.start()

    def _visit(self, due: list[Site]) -> None:
        try:
            for _ in visits.visit_many(self.context, due):
                if self.stopping.is_set():
                    break
        except Exception:
            log.exception("pages were not all looked at; they are looked at again")
        finally:
            self._next.pop("visits", None)  # what was seen as before marks no change
            self.context.store.close()

    def _look_at_files(self, site: Site) -> None:
        """Hold its files against its packages, once a day. What can't be seen is tried again."""
        if integrity.due(self.context, site):
            try:
                integrity.look(self.context, site.id)
            except (Refused, LinkError) as error:
                log.info("the files of %s were not looked at: %s", site.id, error)

    def _next_refresh(self) -> datetime | None:
        owed = self.context.store.debts.sites_owed()
        return min(
            [
                site.link.looked_at + patience
                for site in sites.live(self.context)
                if site.link.looked_at is not None and (patience := self._patience(site, owed))
            ],
            default=None,
        )

    def _patience(self, site: Site, owed: set[str]) -> timedelta:
        """How long until a site is asked again, 0: never; sooner where something is owed to it."""
        every = visits.own_time(site.agent_minutes, self.refresh_every)
        return min(every or _OWED_EVERY, _OWED_EVERY) if site.id in owed else every

    def _refresh(self, due: list[Site]) -> None:
        try:
            for site in sites.refresh_many(self.context, due):
                if self.stopping.is_set():
                    break
                if site.link.state != "linked":
                    continue
                if keys.pending(self.context):
                    keys.turn(self.context, site.id)
                keeping.tidy(self.context, site.id)
                self._look_at_files(site)
        except Exception:
            log.exception("sites were not all asked; they are asked again")
        finally:
            self.context.store.close()

    def _daily(self) -> None:
        """The turning of a day: soaks and licences end, what is old is forgotten."""
        now = self.context.clock()
        hour = f"{now:%Y-%m-%dT%H}"
        if self._hour != hour:
            self._turned(hour, now.date().isoformat())
            self._hour = hour

    def _digest(self) -> None:
        """The mail of the morning, once a day."""
        now = self.context.clock()
        today = now.date().isoformat()
        due = self.mail.server and self.mail.to and now.hour >= self.digest_hour
        if due and self.context.store.facts.get("digest_on") != today and self._mail_after <= now:
            self._mail_after = now + timedelta(minutes=15)
            path = self.context.data / "address"
            try:
                digest.send(self.context, self.mail, path.read_text() if path.exists() else "")
            except Refused as error:
                log.warning("%s", error)

    def _turned(self, hour: str, day: str) -> None:
        facts = self.context.store.facts
        if instance.may_drive(self.context):
            self._prove()
        if facts.get("hour") != hour:
            facts.set("hour", hour)
        if facts.get("day") != day:
            facts.set("day", day)
            shelving.tidy(self.context, self.shelf.days, self.shelf.most_mb)
            retention.forget(self.context, self.retention)
            self.context.tell("day", day, "a new day")

    def _prove(self) -> None:
        """Have one backup proved on its twin, where that is due."""
        twin = twins.unproved(self.context)
        proving = any(
            task.kind == "prove backup" for task in self.context.store.tasks.all(state="running")
        )
        if twin is not None and not proving:
            try:
                tasks.start(self.context, "prove backup", (twin,), "Windbreak")
            except Refused as error:
                log.info("the backup on %s was not proved: %s", twin, error)

    def _outward(self) -> None:
        outward.deliver(self.context)

    def _project(self) -> None:
        """Keep the views up to date, in a thread of its own. It takes half of the time at the most:
        while many runs write, their changes are looked at together.
        """
        self.context.store.database.behind()
        while not self.stopping.is_set():
            began = time.monotonic()
            try:
                if self.projector.project():
                    time.sleep(min(time.monotonic() - began, _TOGETHER))
                    continue
            except Exception:
                log.exception("the views were not brought up to date; it is tried again")
            with self.context.news:
                self.context.news.wait(0.5)
        self.context.store.close()

    def _renew(self) -> None:
        """Keep answers ready, in a thread of its own; half of the time at the most."""
        self.context.store.database.behind()
        try:
            self.ready.stand()
        except Exception:
            log.exception("answers are made on demand")
        while not self.stopping.is_set():
            began = time.monotonic()
            try:
                if self.ready.renew():
                    self.stopping.wait(min(time.monotonic() - began, _TOGETHER))
            except Exception:
                log.exception("answers were not all made again; it is tried again")
            with self.context.news:
                if self.projector.reached <= self.ready.marked:  # or it came to there meanwhile
                    self.context.news.wait(_QUIET)
        self.context.store.close()

    def _tend_nights(self) -> None:
        """Let go what may go by itself, keep the timetable, and what could be booked, in a thread
        of their own: whoever reads the calendar reads what is ready. Improving is the executor's.
        """
        self.context.store.database.behind()
        while not self.stopping.is_set():
            try:
                if isinstance(self.context.executor, Workers):
                    self.context.executor.mend()
                self._let_go()
                self._timetable()
                self._proposals()
            except Exception:
                log.exception("the nights were not brought up to date; it is tried again")
            with self.context.news:
                if self.projector.reached == self._let_go_at:  # or the views came further meanwhile
                    self.context.news.wait(_QUIET)
        self.context.store.close()

    def _let_go(self) -> None:
        """Let go what may go by itself, once the views have come further. Booking it waits for a
        worker, which is why the projector does not do it.
        """
        reached = self.projector.reached
        if reached != self._let_go_at and instance.may_drive(self.context):
            policy.let_go(self.context)
            self._let_go_at = reached

    def _proposals(self) -> None:
        """Work out again what could be booked, once the views show what it is made from. While much
        changes, that takes a tenth of the time at the most.
        """
        began, database = time.monotonic(), self.context.store.database
        minute = f"{self.context.clock():%Y-%m-%dT%H:%M}"
        state = database.generation(*drafts.HANGS_ON), minute  # times of it pass by themselves
        if began < self._proposals_after or state == self._proposals_at:
            return
        reached, _ = self.context.store.views.reached()
        if reached < state[0]:
            return
        if drafts.renew(self.context):
            self._proposals_after = time.monotonic() + 10 * (time.monotonic() - began)
        elif not drafts.is_renewing(self.context):
            self._proposals_at = state

    def _timetable(self) -> None:
        """Keep the timetable, where something changed that it hangs on. While many runs write it is
        made now and then: it takes a twentieth of the time at the most.
        """
        began = time.monotonic()
        if began < self._timetable_after or not instance.may_drive(self.context):
            return
        generation = self.context.store.database.generation(*timetables.HANGS_ON)
        if generation != self._timetable_at:
            timetables.keep(self.context)
            self._timetable_at = generation
            self._timetable_after = time.monotonic() + 20 * (time.monotonic() - began)

    def _due(
        self, name: str, kinds: tuple[str, ...], earliest: Callable[[], datetime | None]
    ) -> bool:
        """Whether it is time for something whose earliest instant changes only with some kinds of
        change, so that a second in which nothing changed costs next to nothing.
        """
        generation = self.context.store.database.generation(*kinds)
        due, began = self._next.get(name), time.monotonic()
        if due is None or (due[0] != generation and began >= self._again.get(name, 0.0)):
            due = self._next[name] = (generation, earliest())
            # While much changes, it is worked out anew for a twentieth of the time at the most.
            self._again[name] = began + 20 * (time.monotonic() - began)
        return due[1] is not None and due[1] <= self.context.clock()
