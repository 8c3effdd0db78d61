"""The tour over a real content system: each stage told, and seen to happen by another witness than
the agent: what the system itself lists, its pages, its database and its folders.
"""

from __future__ import annotations

import os
import re
import signal
import threading
import time
from collections.abc import Callable
from contextlib import ExitStack
from functools import partial
from pathlib import Path

import httpx

from windbreak.core.values.holds import NewHold
from windbreak.core.values.plans import SitePlan
from windbreak.documents.runs import RunStory
from windbreak.standins import catalogue, real, real_fleet, real_hands, workshop
from windbreak.standins.demo import running
from windbreak.standins.real_fleet import CORE
from windbreak.standins.seeing import ALL_DAY, Seeing, played
from windbreak.standins.workshop import DOCK, DUNE, FORMS, ICONS, LEDGER, PLANK, SLIDES, STILL

_FORMS_FILE = "tide-forms/tide-forms.php"
SITE, TWIN = (slug for slug, _, _ in real_fleet.SITES)


def play(data: Path | None, *, ask: Callable[[str], bool]) -> int:
    """Play the tour in a folder of its own; the exit status."""
    os.environ["WINDBREAK_PROVE_DAYS"] = "0"  # a backup is proved when its stage comes

    def stages(folder: Path) -> None:
        real.install(ask=ask)
        browser = real.browser()
        with running(folder, few=True, browser=browser) as (demo, where), ExitStack() as besides:
            tour = _RealTour(demo, where)
            started, lines = real_fleet.join(tour.windbreak, folder / "real", where["feeds"])
            for site in started:
                besides.callback(site.stop)
            tour.play(started[0], started[1], lines)

    return played(data, "windbreak-real-tour-", stages)


class _RealTour(Seeing):
    live: real.RealSite
    twin: real.RealSite

    def play(self, live: real.RealSite, twin: real.RealSite, lines: list[str]) -> None:
        self.live, self.twin = live, twin
        self.head("Two real sites, and what the system itself lists on them.")
        for line in lines:
            self.tell(line)
        for site in (SITE, TWIN):
            self.windbreak.set_windows(site, ALL_DAY, "Europe/London")
        self.tell("For the tour each site may be worked on all day.")
        for stage in (
            self.told_right,
            self.twin_refreshed,
            self.fatal,
            self.editor,
            self.together,
            self.core,
            self.by_hand,
            self.half_done,
            self.disk_full,
            self.killed_server,
            self.killed_database,
            self.killed_service,
        ):
            stage()
        self.windbreak.close()

    # What is looked at without the agent.

    def front(self, site: real.RealSite) -> httpx.Response:
        return httpx.get(site.address, trust_env=False, timeout=30)

    def good(self, site: real.RealSite, what: str = "its front page") -> None:
        answer = self.front(site)
        self.see(f"{what} answers 200", answer.status_code == 200 and len(answer.text) > 200)

    def option(self, site: real.RealSite, name: str) -> str:
        asked = f"USE site; SELECT option_value FROM wp_options WHERE option_name = '{name}'"
        return (site.mysql(asked) or "").strip().split("\n")[-1]

    def lists(self, site: real.RealSite, **wanted: str) -> None:
        listed = site.listed()
        for product, version in wanted.items():
            self.see(f"the system lists {product} {version}", listed.get(product) == version)

    def hold(self, product: str, range_: str, why: str) -> None:
        self.windbreak.make_hold(NewHold(product=product, range=range_, reason=why))
        self.tell(f"Held: {product} {range_}, {why}.")

    def carried_out(self, site: str, *wanted: str) -> RunStory:
        """What moves some products of a site, or all that may, carried out to its end."""
        plan = self.draft(site, *wanted)
        for n, step in enumerate(plan.plan.steps, start=1):
            moves = " with ".join(f"{m.product} {m.from_} → {m.to}" for m in step.moves)
            self.tell(f"{n}  {moves}")
        self.windbreak.approve_plan(plan.id, "the tour")
        run = self.windbreak.run_plan(plan.id, outside_window=True).id
        return self.windbreak.wait(run, timeout=300)

    def draft(self, site: str, *wanted: str) -> SitePlan:
        """A plan of a site that moves just these products: the others are held meanwhile."""
        others = set(self.windbreak.draft_plan(site).targets) - set(wanted)
        holds = [
            self.windbreak.make_hold(NewHold(product=product, site=site, reason="another stage"))
            for product in sorted(others)
        ]
        plan = self.windbreak.draft_plan(site)
        for hold in holds:
            self.windbreak.lift_hold(hold.id)
        self.see("the plan moves just that", set(plan.targets) == set(wanted))
        return plan

    def failed(self, story: RunStory) -> str:
        return next((line.text for line in story.journal if line.state == "failed"), "")

    # The stages.

    def told_right(self) -> None:
        for slug, site in ((SITE, self.live), (TWIN, self.twin)):
            listed = site.listed()
            versions = {
                c.product: c.version
                for c in self.windbreak.site(slug).components
                if not c.product.startswith("runtime/")
            }
            listed.pop("plugin/windbreak-agent")
            self.see(f"{slug}: {len(listed)} components, as the service tells", versions == listed)

    def twin_refreshed(self) -> None:
        self.head("The twin is made as its site is; then the site's backup is proved on it.")
        self.live.php(
            f"<?php $_SERVER['HTTP_HOST'] = 'x'; require '{self.live.root}/wp-load.php'; "
            "update_option( 'tide_place', array( 'at' => home_url( '/quay' ) ) );"
        )
        self.task_done("refreshed", self.windbreak.refresh_twin(TWIN).id)
        self.task_done("proved", self.windbreak.prove_backup(SITE).id)
        place = self.option(self.twin, "tide_place")
        self.see(f"its addresses are its own: {place}", f"{self.twin.address}/quay" in place)
        self.good(self.twin, "the twin's front page")

    def task_done(self, what: str, task: int) -> None:
        self.until(f"it is {what}", lambda: self.windbreak.task(task).state != "running")
        outcome = self.windbreak.task(task)
        self.see(f"{what}: {outcome.text}", outcome.state == "done")

    def fatal(self) -> None:
        self.head("A plugin with a fatal fault: every page answers 500, and it is put back.")
        story = self.carried_out(SITE, FORMS)
        self.tell(self.failed(story))
        self.see(f"the run ended {story.run.state}", story.run.state == "put back")
        self.lists(self.live, **{FORMS: "1.0"})
        self.good(self.live)
        self.hold(FORMS, ">=1.2", "every page breaks")

    def editor(self) -> None:
        self.head("A plugin that breaks the editor alone: the pages are fine, and it is put back.")
        if not self.demo.browser:
            self.tell("Not looked at: there is no Chromium on this machine.")
            return
        story = self.carried_out(SITE, PLANK)
        self.tell(self.failed(story))
        bad = re.search(r"pages (worse|answer|white)", self.failed(story))
        self.see("no page was worse", bad is None)
        self.see(f"the run ended {story.run.state}", story.run.state == "put back")
        self.lists(self.live, **{PLANK: "1.0"})
        self.hold(PLANK, ">=1.1", "paragraphs can't be edited")

    def together(self) -> None:
        self.head(
            "All the rest, in order: what a theme needs first, what goes with it, a migration."
        )
        if not self.demo.browser:
            self.hold(PLANK, ">=1.1", "it breaks the editor")
        child = self.live.root / "wp-content/themes/dune-child/style.css"
        welsh = self.live.root / "wp-content/plugins/tide-forms/languages/cy.txt"
        welsh.write_text("geiriau")
        was, seen, off, over = child.read_bytes(), set[int](), set[bool](), threading.Event()
        self.see("the system's own updater is on", not real_hands.updater_is_off(self.live))
        real_hands.offer(self.live, _FORMS_FILE, "1.0.5", self.live.folder / "gone.zip")
        self.tell("Its own record offers Tide Forms 1.0.5, which is nowhere to be had any more.")
        for kept in (self.live.root / "wp-content/cache").rglob("*.html"):
            kept.write_text("stale")

        def visit() -> None:
            while not over.is_set():
                seen.add(self.front(self.live).status_code)

        def ask() -> None:
            while not over.is_set():
                off.add(real_hands.updater_is_off(self.live))

        besides = [threading.Thread(target=site) for site in (visit, ask)]
        for site in besides:
            site.start()
        try:
            products = (DOCK, DUNE, SLIDES, ICONS, FORMS, STILL, LEDGER)
            story = self.carried_out(SITE, *products)
        finally:
            over.set()
            for site in besides:
                site.join()
        self.see(f"the run ended {story.run.state}: {story.run.text}", story.run.state == "done")
        self.see(f"a visitor met {sorted(seen)}, and never a fault", seen <= {200, 503})
        self.lists(
            self.live,
            **{DOCK: "1.1", DUNE: "1.1", SLIDES: "1.1", ICONS: "1.1", FORMS: "1.1", STILL: "1.1"},
            **{LEDGER: "2.0"},
        )
        self.see("the system's own updater was off meanwhile", True in off)
        self.see("it is on again", not real_hands.updater_is_off(self.live))
        self.see("that old record is gone", not real_hands.offers(self.live))
        self.see("the child theme is as it was", child.read_bytes() == was)
        self.see("a translation of the site's own is there", welsh.read_text() == "geiriau")
        styles = "styles of 1.1" in self.front(self.live).text
        self.see("the theme has made its styles anew", styles)
        kinds = [e.kind for e in self.windbreak.errands(site=SITE)]
        self.see("its code is an errand, since no licence has one", kinds == ["register"])
        self.see("the ledger's form is 2", self.option(self.live, "tide_ledger_form") == "2")
        self.see("nothing stale is shown", "stale" not in self.front(self.live).text)
        there = self.live.root / "wp-content/advanced-cache.php"
        self.see("the cache is on again", there.exists())
        if self.demo.browser:
            pairs = [pair for pair in story.pictures if pair.after is not None]
            widths = sorted({pair.width for pair in pairs})
            self.see(
                f"{len(pairs)} pairs of pictures, before and after, {widths} wide", bool(pairs)
            )
        self.good(self.live)

    def core(self) -> None:
        self.head("WordPress itself, through its own upgrader, where an update by hand had died.")
        was = self.live.listed()[CORE]
        self.live.mysql(
            "USE site; INSERT INTO wp_options (option_name, option_value, autoload) "
            "VALUES ('core_updater.lock', UNIX_TIMESTAMP() - 60, 'no')"
        )
        left = self.live.root / "wp-content/upgrade/wordpress-died"
        (left / "wordpress").mkdir(parents=True)
        self.tell("It left its lock, and a folder of what it had opened.")
        story = self.carried_out(SITE, CORE)
        self.see(f"the run ended {story.run.state}", story.run.state == "done")
        now = self.live.listed()[CORE]
        self.see(f"the system says that it is {now}, and it was {was}", now != was)
        self.see("no maintenance file is left", not (self.live.root / ".maintenance").exists())
        self.see("nor that lock", not self.option(self.live, "core_updater.lock"))
        self.see("nor that folder", not left.exists())
        self.good(self.live)

    def by_hand(self) -> None:
        self.head("What others do on the site: a wrong archive, two updates at once.")
        good = catalogue.archive(workshop.release(FORMS, "1.1"))
        wrong = catalogue.archive(workshop.release(DOCK, "1.1"))
        _, why = real_hands.upgraded_by_hand(self.twin, _FORMS_FILE, "1.1", wrong)
        self.see(f"WordPress's own upgrader is told: {why}", "Nothing was touched" in why)
        self.lists(self.twin, **{FORMS: "1.0"})
        self.good(self.twin)
        meanwhile = list[str]()

        def act() -> None:
            meanwhile.extend(real_hands.upgraded_by_hand(self.twin, _FORMS_FILE, "1.1", good))

        self.tell("A run moves Dune Icons, and somebody takes Tide Forms by hand meanwhile.")
        story = self._meanwhile(ICONS, "apply", act)
        self.see(f"somebody is told: {meanwhile[1]}", meanwhile[0] == "windbreak_at_work")
        self.see(f"the run ended {story.run.state}", story.run.state == "done")
        self.lists(self.twin, **{ICONS: "1.1", FORMS: "1.0"})
        self.good(self.twin)

    def half_done(self) -> None:
        self.head("On the twin a migration ends half-way: the site is restored.")
        self.twin.mysql(
            "USE site; INSERT INTO wp_options (option_name, option_value) "
            "VALUES ('tide_ledger_sticks', '5')"
        )
        story = self.carried_out(TWIN, LEDGER)
        self.tell(self.failed(story))
        self.see(f"the run ended {story.run.state}", story.run.state == "restored")
        self.lists(self.twin, **{LEDGER: "1.0"})
        self.see("no portion is moved", not self.option(self.twin, "tide_ledger_moved"))
        self.good(self.twin)
        self.twin.mysql("USE site; DELETE FROM wp_options WHERE option_name LIKE 'tide_ledger%'")

    def _meanwhile(self, product: str, at: str, act: Callable[[], object]) -> RunStory:
        """A run on the twin in which something is done once an act of it was meant."""
        plan = self.draft(TWIN, product)
        self.windbreak.approve_plan(plan.id, "the tour")
        run = self.windbreak.run_plan(plan.id, outside_window=True).id
        self.until(
            f"{at} is meant",
            lambda: any(line.kind == at for line in self.windbreak.run(run).journal),
        )
        act()
        return self.windbreak.wait(run, timeout=300)

    def disk_full(self) -> None:
        self.head("The disk fills while WordPress updates itself: the old one goes on.")
        was = self.twin.listed()[CORE]
        with ExitStack() as small:
            try:
                small.enter_context(real_hands.on_a_small_disk(self.twin, 320))
            except RuntimeError as error:
                self.tell(f"Not looked at: no small disk can be mounted here ({error}).")
                return
            story = self._meanwhile(CORE, "apply", partial(real_hands.fill_disk, self.twin))
            self.tell(self.failed(story))
            self.see(f"the run ended {story.run.state}", story.run.state == "put back")
            self.see("it says that there was no room", "no-room" in self.failed(story))
            self.lists(self.twin, **{CORE: was})
            self.good(self.twin, "with no byte of room, its front page")

    def killed_server(self) -> None:
        self.head("PHP is killed while WordPress updates itself: the old one is there again.")

        def kill() -> None:
            version = self.twin.root / "wp-includes/version.php"
            own = version.read_text()
            self.until("the upgrader copies", lambda: version.read_text() != own)
            for pid in self.twin.server_processes():
                os.kill(pid, signal.SIGKILL)
            self.twin.serve_again()

        was = self.twin.listed()[CORE]
        story = self._meanwhile(CORE, "apply", kill)
        self.tell(story.run.text)
        now = self.twin.listed()[CORE]
        good = {"done": now != was}.get(story.run.state, now == was)
        self.see(f"the run ended {story.run.state}, and the system says {now}", good)
        self.see("no maintenance file is left", not (self.twin.root / ".maintenance").exists())
        self.good(self.twin)

    def killed_database(self) -> None:
        self.head("The database is killed in mid-run: the run waits, and goes on.")

        def kill() -> None:
            self.twin.kill_database()
            time.sleep(3)
            self.twin.start_database()

        story = self._meanwhile(STILL, "step", kill)
        self.see(f"the run ended {story.run.state}", story.run.state == "done")
        self.lists(self.twin, **{STILL: "1.1"})

    def killed_service(self) -> None:
        self.head("The service is killed in mid-run, and takes it up where it was.")

        def kill() -> None:
            self.demo.kill_service()
            self.demo.start_service()

        story = self._meanwhile(DOCK, "apply", kill)
        self.see(f"the run ended {story.run.state}", story.run.state == "done")
        self.lists(self.twin, **{DOCK: "1.1"})
        applied = [
            e.act
            for e in story.journal
            if (e.kind, e.product) == ("apply", DOCK) and e.state == "done"
        ]
        self.see("it was applied once", len(applied) == 1)
        self.good(self.twin)
