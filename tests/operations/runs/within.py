"""What tests of runs share: stand-in sites of each test's own, and a run carried out here."""

import tempfile
import threading
import time
from pathlib import Path
from typing import ClassVar
from unittest import mock

import httpx

from tests.operations.within import RHONA, Here, WithContext
from windbreak.core.values.journal import JournalEntry
from windbreak.core.values.matters import TakeWayOut, WayOutAct
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.runs import Run
from windbreak.operations.runs import going_back, looking, matters, runs, ways_out
from windbreak.operations.runs.runner import Runner
from windbreak.standins.demo import Demo
from windbreak.standins.faults import put as put_faults
from windbreak.standins.fleet import put
from windbreak.standins.millrace import MillraceSite

SHOP = "seapink-florists"  # a white page after its update; putting back does not help


class WithRuns(WithContext):
    """Each test has sites of its own: what runs leave behind stays on them."""

    beside: ClassVar[type[Demo]] = Here

    @classmethod
    def setUpClass(cls) -> None:
        pass

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        type(self).demo = demo = self.beside(Path(folder.name), few=True)
        self.addCleanup(demo.stop)
        type(self).where = demo.start_standins()
        super().setUp()
        # Nothing here gets better by waiting: a fault is proved within a second.
        for name, value in (("_APART", 0.2), ("_PAUSES", (0.2, 0.4, 0.8, 1.6))):
            patch = mock.patch.object(looking, name, value)
            patch.start()
            self.addCleanup(patch.stop)
        self.feeds()

    def status(self, slug: str) -> int:
        return httpx.get(self.where[slug], trust_env=False).status_code

    def faults(self, slug: str, **faults: object) -> None:
        put_faults(self.demo.standins_folder / slug / "agent" / "faults.json", faults)

    def alarm(self) -> Run:
        """A run of which a step failed while an order came in: the page is up."""
        self.site(SHOP)
        plan = self.approved(SHOP)
        real = going_back.put_back

        def ordered(runner: Runner, *args: object) -> None:
            httpx.post(f"{self.where[SHOP]}/order", trust_env=False).raise_for_status()
            real(runner, *args)  # type: ignore[arg-type]

        with mock.patch.object(going_back, "put_back", ordered):
            return self.carried_out(plan)

    def take(self, matter: int, act: WayOutAct) -> str:
        ways_out.check(self.context, matter, act)
        matters.take(self.context, matter, TakeWayOut(act=act, why="tonight"), RHONA)
        return ways_out.carry_out(self.context, matter).told

    def run_aside(self, plan: SitePlan) -> tuple[Run, threading.Thread]:
        run = runs.start(self.context, plan.id, RHONA.name)

        def go() -> None:
            runs.carry_out(self.context, run.id)
            self.context.store.close()

        thread = threading.Thread(target=go)
        thread.start()
        return run, thread

    def until(self, holds: object, seconds: float = 30) -> None:
        end = time.monotonic() + seconds
        while not holds():  # type: ignore[operator]
            self.assertLess(time.monotonic(), end, "it did not come")
            time.sleep(0.05)

    def place(self, slug: str) -> MillraceSite:
        """A stand-in site's own folder."""
        return MillraceSite(self.demo.standins_folder / slug / "site")

    def with_shop(self, slug: str = "skerry-light", version: str = "8.3") -> None:
        """Give a site a shop before it is linked."""
        put(self.place(slug), "plugin/tollhouse", version)
        self.place(slug).switch("plugin/tollhouse", on=True)

    def lines(self, run: Run) -> list[JournalEntry]:
        return self.context.store.journal.all(run=run.id)

    def acts(self, run: Run) -> list[tuple[str, str]]:
        return [(str(entry.act), entry.state) for entry in self.lines(run)]

    def now(self, run: Run) -> Run:
        return self.context.store.runs.get(run.id)
