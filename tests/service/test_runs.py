"""Runs on real sites: done, put back, restored, left for a person, taken up after kill -9."""

import random
import time

import httpx

from tests.running import PATIENCE, WithDemo
from windbreak.client import Problem
from windbreak.core.values.holds import NewHold


class Runs(WithDemo):
    def until(self, run: int, step: int) -> None:
        end = time.monotonic() + PATIENCE
        while self.windbreak.run(run).run.step < step:
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)

    def test_a_plan_with_a_combined_step_and_waypoints_reaches_the_folders(self) -> None:
        site = "tarnsey-harbour"
        story = self.ended(self.begin(site))
        self.assertEqual(story.run.state, "done", story.run.text)
        for path, version in [
            ("core/millrace", "6.4.3"),
            ("themes/breakwater", "5.2"),
            ("plugins/trestle", "5.1"),
            ("plugins/breakwater-keel", "2.6"),
        ]:
            self.assertEqual(self.version(site, path), version)
        page = httpx.get(self.where[site], trust_env=False)
        self.assertEqual(page.status_code, 200)
        self.assertIn("Breakwater 5.2", page.text)
        self.assertEqual(self.setting(site, "automatic_updates"), "on")
        self.assertEqual(self.setting(site, "caches"), "on")
        self.assertEqual(self.setting(site, "on:plugin/slate-editor"), "off")
        self.assertEqual({s.state for s in story.steps}, {"done"})
        with self.assertRaises(Problem) as caught:
            self.windbreak.run_plan(story.run.plan, outside_window=True)
        self.assertEqual(caught.exception.code, "not-approved")

    def test_an_update_that_breaks_the_editor_only_is_put_back_whole(self) -> None:
        site = "whinchat-radio"
        story = self.ended(self.begin(site))
        self.assertEqual(story.run.state, "put back", story.run.text)
        self.assertIn("opens empty", story.run.text)
        self.assertEqual(self.version(site, "plugins/trestle"), "5.0")
        self.assertEqual(self.version(site, "themes/breakwater"), "5.1")
        self.assertEqual(self.version(site, "plugins/lee"), "5.5")  # the step before stays done
        self.assertEqual([s.state for s in story.steps], ["done", "put back", "to come"])
        self.assertEqual((story.run.step, story.run.steps), (2, 3))
        self.assertEqual(self.setting(site, "on:plugin/trestle"), "on")
        self.assertFalse((self.folder(site) / "maintenance").exists())
        self.assertEqual(httpx.get(self.where[site], trust_env=False).status_code, 200)

    def test_what_was_written_since_the_snapshot_is_not_lost_without_a_word(self) -> None:
        site = "seapink-florists"
        plan = self.windbreak.draft_plan(site)
        self.windbreak.approve_plan(plan.id, "a test")
        self.slow(site, apply=1.5)
        run = self.windbreak.run_plan(plan.id, outside_window=True).id
        self.until(run, 1)
        httpx.post(f"{self.where[site]}/order", trust_env=False).raise_for_status()
        story = self.ended(run)
        self.assertEqual(story.run.state, "alarm")
        self.assertIn("Something was written since the snapshot", story.run.text)
        self.assertEqual(httpx.get(self.where[site], trust_env=False).status_code, 503)
        self.assertEqual(self.setting(site, "automatic_updates"), "on")
        # With the person's word the same plan may restore.
        (self.folder(site) / "maintenance").unlink()

    def test_a_run_taken_up_after_kill_9_goes_on_and_applies_nothing_twice(self) -> None:
        site = "skerry-light-twin"
        self.slow(site, apply=1.2)
        run = self.begin(site)
        self.until(run, 2)
        time.sleep(0.4)  # in the midst of the second apply
        self.demo.kill_service()
        self.demo.start_service()
        story = self.ended(run)
        self.assertEqual(story.run.state, "done", story.run.text)
        meant = {e.change for e in story.journal if e.kind == "apply"}
        done = self.applied(site)
        self.assertEqual(sorted(done), sorted(set(done)))
        self.assertEqual(set(done), meant)
        self.assertEqual(len(done), len(story.steps))
        self.assertEqual(self.version(site, "plugins/oarlock"), "7.2")
        self.assertEqual(self.setting(site, "automatic_updates"), "on")

    def test_a_run_stops_where_it_is_asked_to_or_a_hold_was_made(self) -> None:
        site = "skerry-light"
        self.slow(site, apply=1.0)
        run = self.begin(site)
        self.until(run, 1)
        with self.assertRaises(Problem) as caught:
            plan = self.windbreak.draft_plan(site)
            self.windbreak.approve_plan(plan.id)
            self.windbreak.run_plan(plan.id, outside_window=True)
        self.assertIn(caught.exception.code, ("site-busy", "start-has-changed"))
        with self.assertRaises(Problem) as caught:
            self.windbreak.unlink_site(site)
        self.assertEqual(caught.exception.code, "site-busy")
        self.windbreak.make_hold(NewHold(product="core/millrace", site=site, reason="the client"))
        story = self.ended(run)
        self.assertEqual(self.windbreak.site(site).link_state, "linked")
        self.assertEqual(story.run.state, "stopped")
        self.assertEqual(self.version(site, "core/millrace"), "6.3.6")
        self.assertEqual(self.setting(site, "automatic_updates"), "on")


class Restoring(WithDemo):
    def test_white_pages_that_putting_back_does_not_mend_are_restored(self) -> None:
        site = "seapink-florists"
        story = self.ended(self.begin(site))
        self.assertEqual(story.run.state, "restored", story.run.text)
        self.assertEqual(self.version(site, "plugins/netloft"), "1.6")
        page = httpx.get(self.where[site], trust_env=False)
        self.assertEqual(page.status_code, 200)
        self.assertIn("Seapink", page.text)
        self.assertEqual(self.setting(site, "automatic_updates"), "on")

    def test_a_plan_whose_start_has_changed_is_not_run(self) -> None:
        site = "skerry-light"
        plan = self.windbreak.draft_plan(site)
        self.windbreak.approve_plan(plan.id)
        header = self.folder(site) / "plugins/oarlock/component.toml"
        header.write_text(header.read_text().replace("7.1.2", "7.1.3"))
        story = self.ended(self.windbreak.run_plan(plan.id, outside_window=True).id)
        self.assertEqual(story.run.state, "stopped")
        self.assertIn("Oarlock is 7.1.3 and should be 7.1.2", story.run.text)
        self.assertEqual(self.applied(site), [])
        with self.assertRaises(Problem) as caught:
            self.windbreak.approve_plan(plan.id)
        self.assertEqual(caught.exception.code, "not-a-draft")


class KilledAgainAndAgain(WithDemo):
    def test_at_any_instant_nothing_is_applied_twice_and_all_is_as_it_was(self) -> None:
        """Kills at instants of chance, through applying, putting back and the end."""
        chance = random.Random(7)
        for site, state, kept in [
            ("whinchat-radio", "put back", ("plugins/trestle", "5.0")),
            ("seapink-florists", "restored", ("plugins/netloft", "1.6")),
        ]:
            with self.subTest(site=site):
                waits = {"apply": 0.4, "put-back": 0.4, "restore": 0.4, "switch": 0.2}
                self.slow(site, **waits, snapshot=0.3, updates=0.2)
                run = self.begin(site)
                for _ in range(5):
                    time.sleep(chance.uniform(0.1, 1.2))
                    self.demo.kill_service()
                    self.demo.start_service()
                story = self.ended(run)
                self.assertEqual(story.run.state, state, story.run.text)
                self.assertEqual(self.version(site, kept[0]), kept[1])
                meant = {e.change for e in story.journal if e.kind == "apply"}
                self.assertEqual(set(self.applied(site)), meant)
                for setting in ("automatic_updates", "caches"):
                    self.assertEqual(self.setting(site, setting), "on")
                self.assertFalse((self.folder(site) / "maintenance").exists())
                self.assertEqual(httpx.get(self.where[site], trust_env=False).status_code, 200)
