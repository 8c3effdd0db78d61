"""What else a run minds on a real site: caches, migrations, what a theme carries, its child, the
editor as a browser shows it.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from datetime import date, timedelta
from pathlib import Path
from typing import ClassVar
from unittest import skipUnless

import httpx

from tests.agent.test_real import SITE, WithReal
from tests.console.test_console import CHROMIUM
from tests.operations.within import RHONA
from windbreak.core.values.holds import NewHold
from windbreak.core.values.licences import NewLicence, NewSeat
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.runs import Run
from windbreak.links import editor
from windbreak.links.browser import NoBrowser
from windbreak.links.errors import CallFailed
from windbreak.operations.licensing import licensing
from windbreak.operations.planning import planning, policy
from windbreak.operations.runs import errands, runs
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites, visits
from windbreak.operations.tracking import feeds, polling
from windbreak.standins import catalogue, workshop
from windbreak.standins.demo import Demo
from windbreak.standins.workshop import DOCK, DUNE, ICONS, LEDGER, PLANK, SLIDES, STILL

_FATAL_WITH_2 = """<?php
$ledger = WP_PLUGIN_DIR . '/tide-ledger/tide-ledger.php';
if ( strpos( (string) @file_get_contents( $ledger ), 'Version: 2' ) ) {
	no_such_function();
}
"""


class Workshop(WithReal):
    """A site with everything of the workshop as it was released first."""

    feeds: ClassVar[str]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        made = [*(workshop.release(*which) for which in workshop.INSTALLED), workshop.OWN]
        cls.real.put([catalogue.archive(one) for one in made])
        demo = Demo(cls.folder / "demo", few=True)
        cls.addClassCleanup(demo.stop)
        cls.feeds = demo.start_standins()["feeds"]

    def setUp(self) -> None:
        super().setUp()
        self.linked()
        for feed in workshop.feeds(self.feeds):
            feeds.register(self.context, feed, RHONA)
            polling.poll(self.context, feed.id)
        licensing.add(self.context, workshop.LICENCE, RHONA)
        licensing.seat(self.context, workshop.LICENCE.id, NewSeat(site=SITE), RHONA)
        sites.refresh(self.context, SITE)

    def plan(self, *wanted: str) -> SitePlan:
        """A plan that moves just these products, approved."""
        for product in {product for product, _ in workshop.INSTALLED} - set(wanted):
            if self.there(product) == "1.0":
                hold = NewHold(product=product, range=">1.0", reason="a test")
                policy.hold(self.context, hold, RHONA)
        plan = planning.draft(self.context, SITE)
        self.assertEqual(set(plan.targets), set(wanted))
        return approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)

    def carried_out(self, *wanted: str) -> Run:
        plan = self.plan(*wanted)
        return runs.carry_out(self.context, runs.start(self.context, plan.id, RHONA.name).id)

    def there(self, product: str) -> str | None:
        return self.context.store.inventories.get(SITE).version_of(product)

    def page(self, **headers: str) -> httpx.Response:
        return httpx.get(f"{self.real.address}/?p=1", trust_env=False, timeout=30, headers=headers)

    def option(self, name: str) -> str:
        return self.sql(f"SELECT option_value FROM wp_options WHERE option_name = '{name}'")

    def acts(self, run: int) -> list[tuple[str, str]]:
        return [(str(line.act), line.state) for line in self.context.store.journal.all(run=run)]

    def test_1_a_theme_goes_with_what_it_carries_behind_the_page_and_its_child_is_left(
        self,
    ) -> None:
        child = self.real.root / "wp-content/themes/dune-child/style.css"
        was = child.read_bytes()
        plan = self.plan(DOCK, DUNE, SLIDES, ICONS)
        steps = [{move.product for move in step.moves} for step in plan.plan.steps]
        self.assertEqual(steps[0], {DOCK})
        self.assertIn({DUNE, SLIDES}, steps)
        number = steps.index({DUNE, SLIDES}) + 1
        seen = set[int]()
        done = threading.Event()

        def visit() -> None:
            while not done.is_set():
                seen.add(self.page().status_code)

        visitor = threading.Thread(target=visit)
        visitor.start()
        run = runs.carry_out(self.context, runs.start(self.context, plan.id, RHONA.name).id)
        done.set()
        visitor.join()
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(seen, {200, 503})  # never a broken page
        acts = self.acts(run.id)
        self.assertIn((f"regenerate {number} {DUNE}", "done"), acts)  # behind the page
        self.assertIn("styles of 1.1", self.page().text)
        self.assertLess(
            acts.index((f"page-up {number}", "done")),
            acts.index((f"apply {number} {DUNE}", "done")),
        )
        self.assertIn("Slides · slides 1.1", self.page().text)
        self.assertEqual(child.read_bytes(), was)
        self.assertIn("dune-child", self.option("stylesheet"))

    def test_2_caches_are_off_in_a_run_purged_and_on_again_by_name(self) -> None:
        there = self.context.store.inventories.get(SITE)
        self.assertEqual((there.caches, there.caches_off), (("page-cache",), ()))
        self.page()
        self.assertEqual(self.page().headers.get("x-still-water"), "kept")
        for kept in (self.real.root / "wp-content/cache/still-water").iterdir():
            kept.write_text("stale")
        run = self.carried_out(STILL)
        self.assertEqual(run.state, "done", run.text)
        acts = [act for act, state in self.acts(run.id) if state == "done"]
        purged = acts.index("caches-purged")
        self.assertLess(acts.index("cache-off page-cache"), purged)
        self.assertEqual(self.context.store.debts.all(site=SITE, paid=False), [])
        self.assertTrue((self.real.root / "wp-content/advanced-cache.php").exists())
        self.assertIn("icons", self.page().text)  # and nothing that was kept before
        self.assertEqual(self.page().headers.get("x-still-water"), "kept")

    def test_3_a_migration_is_followed_to_its_end_and_a_code_is_left_to_a_person(self) -> None:
        run = self.carried_out(LEDGER)
        self.assertEqual(run.state, "done", run.text)
        (errand,) = errands.listed(self.context, site=SITE)
        self.assertEqual((errand.kind, errand.run), ("register", run.id))
        self.assertIn("2", self.option("tide_ledger_form"))
        self.assertIn((f"migrate 1 {LEDGER}", "done"), self.acts(run.id))
        moved = self.option("tide_ledger_moved").split()[-1]
        self.assertEqual(moved, str(workshop.PORTIONS))

    def test_4_one_that_ends_half_way_is_restored_and_one_that_dies_is_gone_on_with(self) -> None:
        self.real.put([catalogue.archive(workshop.release(LEDGER, "1.0"))])
        sites.refresh(self.context, SITE)
        self.ledger("tide_ledger_sticks", 5)
        run = self.carried_out(LEDGER)
        self.assertEqual(run.state, "restored", run.text)
        self.assertIn("portion 5 can’t be read", run.text)
        self.assertEqual((self.moved(), self.page().status_code), (0, 200))
        sites.refresh(self.context, SITE)
        self.assertEqual(self.there(LEDGER), "1.0")

        self.ledger("tide_ledger_slow", 800_000)
        plan = self.plan(LEDGER)
        run = runs.start(self.context, plan.id, RHONA.name)

        def go() -> None:
            runs.carry_out(self.context, run.id)
            self.context.store.close()

        thread = threading.Thread(target=go)
        thread.start()
        end = time.monotonic() + 90
        while self.moved() < 2:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)
        for pid in self.real.server_processes():
            os.kill(pid, signal.SIGKILL)
        self.real.serve_again()
        thread.join(180)
        run = self.context.store.runs.get(run.id)
        self.assertEqual(run.state, "done", run.text)
        self.assertIn((f"migrate 1 {LEDGER} turn 2", "done"), self.acts(run.id))
        self.assertEqual(self.moved(), workshop.PORTIONS)

    def test_4_one_whose_site_cannot_be_loaded_was_not_begun_and_is_put_back(self) -> None:
        self.real.put([catalogue.archive(workshop.release(LEDGER, "1.0"))])
        self.ledger("tide_ledger_slow", 0)
        sites.refresh(self.context, SITE)
        breaks = self.real.root / "wp-content/mu-plugins/zz.php"
        breaks.write_text(_FATAL_WITH_2)
        self.addCleanup(breaks.unlink)
        self.assertEqual(self.page().status_code, 200)
        run = self.carried_out(LEDGER)
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn("nothing was begun: Uncaught Error: Call to undefined", run.text)
        self.assertEqual((self.moved(), self.page().status_code), (0, 200))
        sites.refresh(self.context, SITE)
        self.assertEqual(self.there(LEDGER), "1.0")

    def test_4_a_code_is_entered_by_the_run_and_read_back(self) -> None:
        self.real.put([catalogue.archive(workshop.release(LEDGER, "1.0"))])
        self.ledger("tide_ledger_slow", 0)
        sites.refresh(self.context, SITE)
        new = NewLicence(
            id="ledger",
            label="Tide Ledger",
            form="per-site code",
            products=(LEDGER,),
            seats=1,
            covers_until=date.today() + timedelta(days=90),
            bought_by="saltgrass-studio",
        )
        licensing.add(self.context, new, RHONA)
        licensing.seat(self.context, "ledger", NewSeat(site=SITE, code="TIDE-7Q2X-99ZK"), RHONA)
        run = self.carried_out(LEDGER)
        self.assertEqual(run.state, "done", run.text)
        self.assertIn((f"register 1 {LEDGER}", "done"), self.acts(run.id))
        self.assertIn("TIDE-7Q2X-99ZK", self.option("tide_ledger_code"))
        for _ in ("as the run left it", "asked anew"):
            there = self.context.store.inventories.get(SITE).registration_of(LEDGER)
            assert there is not None
            self.assertEqual((there.state, there.last4), ("registered", "99ZK"))
            site = sites.refresh(self.context, SITE)
        self.assertEqual(errands.listed(self.context, site=SITE), [])
        self.assertIn("regenerate", site.link.agent_can)

        agent = sites.agent_for(self.context, SITE)
        agent.do("register", "c-50-new", product=LEDGER, code="TIDE-0000-NEWS")
        told = agent.inventory(SITE, self.context.clock()).registration_of(LEDGER)
        assert told is not None
        self.assertEqual(told.last4, "NEWS")
        for product, code, failure, why in (
            (LEDGER, "ROSE-1111", "unknown", "The workshop knows no such code."),
            (DOCK, "TIDE-1111", "not-permitted", "nothing here takes a code for plugin/dune-dock"),
        ):
            with self.assertRaises(CallFailed) as caught:
                agent.do("register", f"c-50-{code}", product=product, code=code)
            self.assertEqual((caught.exception.failure, caught.exception.detail), (failure, why))

    def ledger(self, name: str, value: int) -> None:
        """Begin the ledger anew, with one setting."""
        self.sql("DELETE FROM wp_options WHERE option_name LIKE 'tide_ledger%'")
        self.sql(f"INSERT INTO wp_options (option_name, option_value) VALUES ('{name}', '{value}')")

    def moved(self) -> int:
        told = self.option("tide_ledger_moved").split()
        return int(told[-1]) if told else 0

    @skipUnless(Path(CHROMIUM).exists(), "there is no browser here")
    def test_5_what_breaks_the_editor_alone_is_seen_in_a_browser_and_put_back(self) -> None:
        self.context.browser = CHROMIUM
        run = self.carried_out(PLANK)
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn("Editor: opens empty", run.text)
        self.assertNotRegex(run.text, "pages (worse|answer)")
        self.assertEqual(self.page().status_code, 200)

    @skipUnless(Path(CHROMIUM).exists(), "there is no browser here")
    def test_6_whoever_holds_the_looking_pass_can_read_the_editor_and_change_nothing(self) -> None:
        look = sites.agent_for(self.context, SITE).look()
        site = visits.visiting(self.context, self.context.store.sites.get(SITE))
        shown, blocks = editor.opened(CHROMIUM, site.past_page(look.pass_), look.opens)
        self.assertEqual(blocks, 5, shown)
        self.assertTrue(any("example page" in mark for mark in shown.marks))
        with self.assertRaises(NoBrowser):
            editor.opened("/nowhere", site, look.opens)
        closed, nothing = editor.opened(CHROMIUM, site, look.opens)  # without the pass
        self.assertIsNone(nothing, closed)
        held = {"windbreak-pass": look.pass_}
        before = self.sql("CHECKSUM TABLE wp_posts, wp_postmeta, wp_users, wp_usermeta")
        for where in (look.opens, "/wp-admin/users.php", "/?rest_route=/wp/v2/users&context=edit"):
            answer = httpx.get(self.real.address + where, headers=held, trust_env=False, timeout=30)
            self.assertNotIn("keeper@example.org", answer.text, where)
        posted = httpx.post(
            f"{self.real.address}/?rest_route=/wp/v2/posts/1",
            json={"title": "ruined"},
            headers=held,
            trust_env=False,
            timeout=30,
        )
        self.assertEqual(posted.status_code, 401)
        self.assertEqual(
            self.sql("CHECKSUM TABLE wp_posts, wp_postmeta, wp_users, wp_usermeta"), before
        )
