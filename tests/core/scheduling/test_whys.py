"""Why then, why not, what would help: stretches are true at each start, and each help helps."""

import unittest
from datetime import datetime, timedelta
from typing import Any

from tests.core.scheduling import books
from tests.core.scheduling.test_timetable import starts_of
from windbreak.core.scheduling.openings import openings, within
from windbreak.core.scheduling.timetable import timetable
from windbreak.core.scheduling.whys import Help, HelpAct, Stretch, Whys
from windbreak.core.values.nightbooks import Job, NightBook, Watch

SEEDS = range(24)


class WithBooks(unittest.TestCase):
    def each(self) -> Any:
        """Made-up books with their timetables."""
        for seed in SEEDS:
            book = books.made(300 + seed, 4 + seed % 9, days=1.0)
            outcome = timetable(book)
            yield seed, book, Whys(outcome), starts_of(outcome)

    def possible(self, book: NightBook, starts: books.Starts, job: Job, start: datetime) -> bool:
        others = {id_: at for id_, at in starts.items() if id_ != job.id}
        return books.alone(book, job, start) and books.together(book, {**others, job.id: start})

    def grid(self, start: datetime, end: datetime) -> list[datetime]:
        day = start.replace(hour=0, minute=0, second=0, microsecond=0)
        first = -((day - start) // books.GRID)
        last = -((day - end) // books.GRID)
        return [day + books.GRID * n for n in range(first, last)]


class Stretches(WithBooks):
    def test_they_cover_every_sooner_start_and_none_of_these_is_possible(self) -> None:
        for seed, book, whys, starts in self.each():
            for id_, start in starts.items():
                task = whys.board.tasks[whys.board.numbers[id_]]
                if start == task.job.was:
                    self.assertEqual(whys.of_booking(task), [])
                    continue
                with self.subTest(seed=seed, job=id_):
                    stretches = whys.of_booking(task)
                    edges = [book.at, *(s.end for s in stretches)]
                    self.assertEqual([s.start for s in stretches], edges[:-1])
                    self.assertEqual(edges[-1], start if stretches else book.at)
                    for sooner in self.grid(book.at, start):
                        self.assertFalse(self.possible(book, starts, task.job, sooner))

    def test_each_is_true_at_each_of_its_starts(self) -> None:
        for seed, book, whys, starts in self.each():
            for task in whys.board.tasks:
                booked = task.job.id in starts
                stretches = whys.of_booking(task) if booked else whys.of_left_out(task)
                for stretch in stretches:
                    for start in self.grid(stretch.start, stretch.end):
                        with self.subTest(seed=seed, job=task.job.id, kind=stretch.kind, at=start):
                            self.assertTrue(self.holds(book, starts, task.job, stretch, start))

    def holds(
        self, book: NightBook, starts: books.Starts, job: Job, stretch: Stretch, start: datetime
    ) -> bool:
        (site,) = [s for s in book.sites if s.id == job.site]
        whole = start + timedelta(minutes=job.minutes + job.back)
        spans = openings(site.windows, site.zone, book.at, book.horizon)
        bare = within(spans, book.at, book.horizon)
        open_ = any(a <= start < b for a, b in bare)
        frozen = any(f.from_ <= start < f.to for f in site.freezes)
        fits = any(a <= start and whole <= b for a, b in books.opened(book, job.site))
        match stretch.kind:
            case "closed":
                return not open_
            case "freeze":
                return open_ and frozen
            case "too-short":
                return open_ and not frozen and not fits
            case "earliest":
                return job.earliest is not None and start < job.earliest
            case "gate":
                waits = [o for g in book.gates if job.id in g.before for o in g.after]
                late = {
                    g.id
                    for g in book.gates
                    if job.id in g.before and self.shut(book, starts, g, start)
                }
                return fits and bool(waits) and stretch.more["gate"] in late
        return fits and not self.without(book, stretch.kind, starts, job, start)

    def shut(self, book: NightBook, starts: books.Starts, gate: Any, start: datetime) -> bool:
        jobs = {job.id: job for job in book.jobs}
        if any(id_ not in starts for id_ in gate.after):
            return True
        last = max(books.end(jobs[id_], starts[id_]) for id_ in gate.after)
        return start < last + timedelta(minutes=gate.quiet)

    def without(
        self, book: NightBook, kind: str, starts: books.Starts, job: Job, start: datetime
    ) -> bool:
        """Whether the start would do if only what a kind names bound jobs."""
        far = [Watch.model_validate({"from": book.at, "to": book.horizon, "people": 1000})]
        change: dict[str, Any] = {"gates": ()}
        if kind != "host":
            wide = [h.model_copy(update={"at_once": 1000}) for h in book.hosts]
            change["hosts"] = tuple(wide)
        if kind != "runs":
            change["runs_at_once"] = None
        if kind != "watch":
            change["watch"] = tuple(far)
        others = {id_: at for id_, at in starts.items() if id_ != job.id}
        if kind != "site":
            # Each job on a site of its own: only what is asked about binds.
            sites = {s.id: s for s in book.sites}
            change["sites"] = tuple(
                sites[j.site].model_copy(update={"id": f"{j.site}:{j.id}"}) for j in book.jobs
            )
            change["jobs"] = tuple(
                j.model_copy(update={"site": f"{j.site}:{j.id}"}) for j in book.jobs
            )
        return books.together(book.model_copy(update=change), {**others, job.id: start})


class Helps(WithBooks):
    def test_each_is_enough_with_all_others_as_they_are(self) -> None:
        acts = set()
        for seed, book, whys, starts in self.each():
            for task in whys.board.tasks:
                if task.job.id in starts:
                    continue
                for help_ in whys.helps(task):
                    acts.add(help_.act)
                    with self.subTest(seed=seed, job=task.job.id, act=help_.act):
                        self.assertTrue(self.helps(book, starts, task.job, help_))
        self.assertGreaterEqual(acts, {"widen", "add-window", "horizon", "lift-freeze", "watcher"})

    def test_one_more_at_once_or_a_pin_taken_out_may_help(self) -> None:
        night = {"start": "01:00", "end": "02:00"}
        raw: dict[str, Any] = {
            "format": "windbreak-nightbook/1",
            "at": "2027-05-14T16:00:00Z",
            "horizon": "2027-05-15T16:00:00Z",
            "hosts": [{"id": "quay", "at_once": 1}],
            "sites": [{"id": s, "host": "quay", "windows": [night]} for s in ("a", "b")],
            "jobs": [
                {"id": "first", "site": "a", "minutes": 50, "back": 10, "weight": 2},
                {"id": "second", "site": "b", "minutes": 55},
            ],
        }
        pinned = {"was": "2027-05-15T01:00:00Z", "pinned": True, "minutes": 5}
        cases: tuple[tuple[dict[str, Any], HelpAct, dict[str, str]], ...] = (
            ({}, "raise-at-once", {"host": "quay"}),
            (pinned, "unpin", {"job": "second"}),
        )
        for change, act, more in cases:
            first, second = raw["jobs"]
            book = {**raw, "jobs": [first, {**second, **change}]}
            whys = Whys(timetable(NightBook.model_validate(book, strict=False)))
            (left,) = [t for t in whys.board.tasks if t.number not in whys.outcome.starts]
            self.assertIn(Help(act, more), whys.helps(left))

    def helps(self, book: NightBook, starts: books.Starts, job: Job, help_: Help) -> bool:
        more, change = help_.more, dict[str, Any]()
        length = timedelta(minutes=job.minutes + job.back)
        (site,) = [s for s in book.sites if s.id == job.site]
        if help_.act in ("add-window", "widen"):
            opens, closes = more["opening"] if help_.act == "widen" else (more["from"], more["to"])
            room = timedelta(minutes=more.get("minutes", 0))
            day = [(s, s + length) for s in self.grid(opens - room, closes + room)]
            # How much longer the opening would have to be, at its two ends together.
            needed = [
                max(opens - s, timedelta()) + max(e - closes, timedelta())
                for s, e in day
                if not any(f.from_ < e and s < f.to for f in site.freezes)
                and (job.earliest is None or s >= job.earliest)
                and book.at <= s
                and e <= book.horizon
                and books.together(book, {**starts, job.id: s})
            ]
            least = min(needed, default=None)
            return least is not None and least <= room < least + timedelta(minutes=1)
        match help_.act:
            case "raise-at-once":
                change["hosts"] = tuple(
                    h.model_copy(update={"at_once": h.at_once + (h.id == more["host"])})
                    for h in book.hosts
                )
            case "lift-freeze":
                left = tuple(f for f in site.freezes if f.from_ != more["from"])
                change["sites"] = tuple(
                    s.model_copy(update={"freezes": left}) if s is site else s for s in book.sites
                )
            case "watcher":
                person = Watch.model_validate({"from": more["from"], "to": more["to"], "people": 1})
                change["watch"] = (*book.watch, person)
            case "horizon":
                change["horizon"] = more["to"]
            case "unpin":
                job = job.model_copy(update={"pinned": False})
        other = book.model_copy(update=change)
        return any(
            self.possible(other, starts, job, start) for start in self.grid(book.at, other.horizon)
        )
