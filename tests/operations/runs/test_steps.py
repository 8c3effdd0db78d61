"""What a step brings: migrations, files made anew, codes, errands; and the rest planned anew."""

import json
import time
from datetime import timedelta
from unittest import mock

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA, look_again
from windbreak.core.values.errands import NewErrand
from windbreak.core.values.inventories import Limits
from windbreak.core.values.journal import AFTER_PUTTING_BACK, AT_THE_END, RunAct, probe
from windbreak.core.values.licences import NewLicence, NewSeat
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.releases import AnnouncedTask
from windbreak.core.values.runs import Probe, Run
from windbreak.core.values.verdicts import PlannedStep
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licensing
from windbreak.operations.planning import planning
from windbreak.operations.runs import debts, errands, looking, replanning, runs, stepping
from windbreak.operations.runs.acting import Acting
from windbreak.operations.runs.runner import Runner
from windbreak.operations.scheduling import approving
from windbreak.standins.fleet import put

SITE = "skerry-light"


class Guards(WithRuns):
    def shop_run(self, **faults: object) -> Run:
        self.with_shop()
        self.site(SITE)
        plan = self.approved(SITE)
        self.assertEqual(plan.targets["plugin/tollhouse"], "8.4")
        self.faults(SITE, **faults)
        self.addCleanup(self.faults, SITE)
        return self.carried_out(plan)

    def test_a_migration_is_followed_to_its_end(self) -> None:
        run = self.shop_run(slow={"portion": 0.8})
        self.assertEqual(run.state, "done", run.text)
        (line,) = [e for e in self.lines(run) if e.kind == "migrate" and e.state == "done"]
        self.assertEqual(line.detail.of, 8)
        self.assertGreater(len(run.signs), 2)  # its signs of life, portion by portion
        (component,) = [c for c in self.place(SITE).components() if c.folder == "tollhouse"]
        self.assertFalse(self.place(SITE).waits_for_migration(component))

    def test_once_a_migration_has_begun_the_step_is_restored_and_not_put_back(self) -> None:
        run = self.shop_run(white=["plugin/tollhouse"], left=["order_totals"])
        self.assertEqual(run.state, "restored", run.text)
        self.assertIn("had begun to move its data", run.text)
        self.assertIn("Its database did not make anew: order_totals", run.text)
        self.assertFalse([a for a, _ in self.acts(run) if a.startswith("put-back")])
        self.assertEqual(self.place(SITE).setting("form:plugin/tollhouse", "1"), "1")
        self.assertEqual(self.status(SITE), 200)

    def test_what_a_move_brings_stands_in_the_plan_and_what_is_for_a_person_gets_a_day(
        self,
    ) -> None:
        run = self.shop_run()
        plan = self.context.store.plans.get(run.plan)
        kinds = {(b.kind, b.by) for b in plan.brings if b.product == "plugin/tollhouse"}
        self.assertEqual(kinds, {("migrate", "run"), ("review", "person")})
        (errand,) = errands.listed(self.context)
        self.assertEqual((errand.kind, errand.run), ("review", run.id))
        self.assertIsNotNone(errand.due)
        self.assertTrue(any(f.id == f"errand:{errand.id}" for f in look_again(self.context)))
        errands.close(self.context, errand.id, RHONA.name, "they fit")
        self.assertEqual(errands.listed(self.context), [])
        self.assertFalse(any(f.id == f"errand:{errand.id}" for f in look_again(self.context)))
        with self.assertRaises(Refused):
            errands.close(self.context, errand.id, RHONA.name, "again")

    def test_what_a_component_makes_from_itself_is_made_anew_and_from_the_old_after_going_back(
        self,
    ) -> None:
        self.site("tarnsey-harbour")
        plan = self.approved("tarnsey-harbour")
        theme = [b for b in plan.brings if b.product == "theme/breakwater"]
        self.assertIn("regenerate", {b.kind for b in theme})
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        made = self.place("tarnsey-harbour").root / "generated" / "breakwater"
        self.assertEqual(made.read_text(), plan.targets["theme/breakwater"])

    def test_without_its_files_made_anew_the_step_would_be_put_back(self) -> None:
        self.site("tarnsey-harbour")
        plan = self.approved("tarnsey-harbour")
        with mock.patch.object(stepping, "_guards"):
            run = self.carried_out(plan)
        self.assertEqual(run.state, "put back")
        self.assertIn("styles", run.text)

    def test_what_nothing_on_the_site_makes_anew_is_no_reason_to_go_further_back(self) -> None:
        self.site("tarnsey-harbour")
        plan = self.approved("tarnsey-harbour")
        self.faults("tarnsey-harbour", nobody="regenerate")
        run = self.carried_out(plan)
        self.assertEqual(run.state, "put back", run.text)  # its styles are of the old
        self.assertFalse([e for e in self.lines(run) if (e.kind, e.name) == ("regenerate", "back")])

    def test_a_code_that_nothing_on_the_site_takes_becomes_an_errand(self) -> None:
        self.site(SITE)
        release = self.context.store.releases.id_of("plugin/oarlock", "7.2")
        task = AnnouncedTask(kind="register", by="person", text="Enter the code")
        self.context.store.releases.change(release, tasks=(task,))
        new = NewLicence(
            id="oars",
            label="Oarlock",
            form="per-site code",
            products=("plugin/oarlock",),
            seats=1,
            bought_by="the agency",
        )
        licensing.add(self.context, new, RHONA)
        licensing.seat(self.context, "oars", NewSeat(site=SITE, code="OAR-1234-5678"), RHONA)
        plan = self.approved(SITE)
        self.assertEqual([b.by for b in plan.brings if b.kind == "register"], ["run"])
        self.faults(SITE, nobody="register")
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        (errand,) = errands.listed(self.context)
        self.assertEqual((errand.kind, errand.run), ("register", run.id))
        self.assertIsNotNone(errand.due)

    def test_more_memory_than_the_site_has_is_told_at_the_approval(self) -> None:
        self.place(SITE).set_setting("limits", json.dumps({"memory_mb": 64}))
        self.with_shop()
        self.site(SITE)
        self.assertEqual(self.context.store.inventories.get(SITE).limits, Limits(memory_mb=64))
        with self.assertRaises(Refused) as caught:
            self.approved(SITE)
        self.assertEqual(caught.exception.code, "limit")
        self.assertIn("192 MB of memory; the site has 64", str(caught.exception))

    def test_what_the_agent_does_not_report_is_not_held_against_it(self) -> None:
        self.place(SITE).set_setting("limits", "{}")
        self.with_shop()
        self.site(SITE)
        self.assertEqual(self.approved(SITE).state, "approved")


class Errands(WithRuns):
    def blocked(self) -> Run:
        """A run that waits for a person: a release on the way wants something done by hand."""
        self.site(SITE)
        release = next(
            r
            for r in self.context.store.releases.all(product="plugin/oarlock")
            if r.version == "7.2"
        )
        task = AnnouncedTask(kind="migrate", by="person", text="Move the forms over by hand")
        self.context.store.releases.change(release.id, tasks=(task,))
        return self.carried_out(self.approved(SITE))

    def test_a_blocking_errand_ends_what_was_prepared_and_going_on_looks_afresh(self) -> None:
        run = self.blocked()
        self.assertEqual(run.state, "waiting", run.text)
        (errand,) = errands.listed(self.context)
        self.assertTrue(errand.blocking)
        self.assertIn(f"errand {errand.id}", run.text)
        self.assertEqual(debts.owed(self.context, SITE), [])
        self.assertTrue(self.context.store.inventories.get(SITE).automatic_updates)
        found = next(f for f in look_again(self.context) if f.id == f"errand:{errand.id}")
        self.assertEqual((found.weight, found.act.act), ("high", "see-errand"))
        with self.assertRaises(Refused) as early:
            runs.go_on(self.context, run.id, RHONA.name)
        self.assertEqual(early.exception.code, "errand-open")
        errands.close(self.context, errand.id, RHONA.name, "moved")
        runs.go_on(self.context, run.id, RHONA.name)
        ended = runs.carry_out(self.context, run.id)
        self.assertEqual(ended.state, "done", ended.text)
        acts = self.acts(ended)
        self.assertEqual(sum(a.startswith("snapshot") for a, s in acts if s == "done"), 2)
        self.assertEqual(sum(a.startswith("baseline") for a, s in acts), 2)
        steps = [a for a, s in acts if s == "done" and a.startswith("apply")]
        self.assertEqual(len(steps), len(set(steps)))  # nothing was applied twice

    def test_what_was_changed_while_it_waited_keeps_it_from_going_on(self) -> None:
        run = self.blocked()
        (errand,) = errands.listed(self.context)
        errands.close(self.context, errand.id, RHONA.name, "moved")
        put(self.place(SITE), "plugin/gangway", "2.8" if self.at("gangway") == "2.7" else "2.7")
        runs.go_on(self.context, run.id, RHONA.name)
        ended = runs.carry_out(self.context, run.id)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertIn("Gangway", ended.text)

    def at(self, folder: str) -> str:
        return next(c.version for c in self.place(SITE).components() if c.folder == folder)

    def test_an_errand_is_written_down_by_hand(self) -> None:
        self.site(SITE)
        new = NewErrand(site=SITE, text="tell them about the new editor")
        errand = errands.add(self.context, new, RHONA)
        self.assertEqual([e.id for e in errands.listed(self.context, site=SITE)], [errand.id])


class PlannedAnew(WithRuns):
    def meddled(self, meddle: object, *, at: int = 1) -> tuple[Run, SitePlan]:
        """A run in the middle of which other hands do something, in step ``at``."""
        self.site(SITE)
        plan = self.approved(SITE)
        real = stepping._read_back

        def by_hand(runner: Runner, number: int, step: PlannedStep) -> None:
            if number == at:
                meddle(plan)  # type: ignore[operator]
            real(runner, number, step)

        with mock.patch.object(stepping, "_read_back", by_hand):
            return self.carried_out(plan), plan

    def test_what_other_hands_moved_forward_is_not_moved_again(self) -> None:
        def quicker(plan: SitePlan) -> None:
            last = plan.plan.steps[-1].moves[0]
            put(self.place(SITE), last.product, last.to)

        run, plan = self.meddled(quicker)
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(run.steps, len(plan.plan.steps) - 1)
        self.assertEqual(len(run.surprises), 1)
        found = next(f for f in look_again(self.context) if f.id == f"hands:{SITE}")
        self.assertIn(run.surprises[0], found.text)
        last = plan.plan.steps[-1].moves[0].product
        self.assertFalse([a for a, _ in self.acts(run) if a.startswith("apply") and last in a])

    def test_a_folder_that_was_deleted_meanwhile_is_told_and_the_rest_goes_on(self) -> None:
        def delete(plan: SitePlan) -> None:
            import shutil

            shutil.rmtree(self.place(SITE).root / "plugins" / "tidetable")

        run, _ = self.meddled(delete)
        self.assertTrue(any("Tidetable" in s and "gone" in s for s in run.surprises))
        self.assertEqual(run.state, "done", run.text)

    def test_turns_are_bounded_and_what_is_left_never_grows(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        run = runs.start(self.context, plan.id, RHONA.name)
        runner = Runner(self.context, run)
        most = len(plan.plan.steps)
        turned = sum(replanning.replan(runner, 0, "a test") for _ in range(most + 3))
        self.assertEqual(turned, most)
        self.assertLessEqual(len(runner.steps), most)

    def test_patch_releases_are_taken_only_where_the_approval_says_so(self) -> None:
        self.site(SITE)
        today = self.context.clock().date()
        plans = {}
        for until in (None, today - timedelta(days=1), today):
            plan = planning.draft(self.context, SITE)
            said = ApprovePlan(why="x", patches_until=until)
            plans[until] = approving.approve(self.context, plan.id, said, RHONA)
        for days, reached in ((0, "7.2"), (90, "7.2.1")):  # the one of today has not soaked
            self.newer("plugin/oarlock", "7.2", "7.2.1", days)
            for until, plan in plans.items():
                with self.subTest(until=until, days=days):
                    wanted = reached if until == today else "7.2"
                    self.assertEqual(self.moves(plan)["plugin/oarlock"], wanted)

    def test_a_patch_release_that_asks_for_more_is_left_to_a_person(self) -> None:
        self.site(SITE)
        plan = planning.draft(self.context, SITE)
        said = ApprovePlan(why="x", patches_until=self.context.clock().date())
        plan = approving.approve(self.context, plan.id, said, RHONA)
        task = AnnouncedTask(kind="migrate", by="agent", text="The table of oars changes.")
        self.newer("plugin/oarlock", "7.2", "7.2.1", 90, tasks=(task,))
        self.assertEqual(self.moves(plan)["plugin/oarlock"], "7.2")
        inventory = self.context.store.inventories.get(SITE)
        self.assertEqual(replanning.newer_patches(self.context, plan, inventory), [])

    def moves(self, plan: SitePlan) -> dict[str, str]:
        inventory = self.context.store.inventories.get(SITE)
        steps = replanning.rest(self.context, plan, inventory)
        assert steps is not None
        return {m.product: m.to for s in steps for m in s.moves}

    def newer(
        self,
        product: str,
        version: str,
        patch: str,
        days: int,
        tasks: tuple[AnnouncedTask, ...] = (),
    ) -> None:
        """A patch of a release appeared so many days ago."""
        store = self.context.store.releases
        known = next(r for r in store.all(product=product) if r.version == version)
        told = known.model_dump(by_alias=True) | {"version": patch}
        day = self.context.clock().date() - timedelta(days=days)
        told |= {"published": day, "title": f"Oarlock {patch}", "id": store.id_of(product, patch)}
        told |= {"tasks": tasks}
        store.put(type(known).model_validate(told))


class Pace(WithRuns):
    def paced(self, **faults: object) -> tuple[Run, set[str]]:
        self.with_shop()
        self.site(SITE)
        plan = self.approved(SITE)
        self.faults(SITE, **faults)
        self.addCleanup(self.faults, SITE)
        with mock.patch("windbreak.operations.runs.lengths.of_act", lambda lengths, act: 0.5):
            run, thread = self.run_aside(plan)
            paces = set()
            while thread.is_alive():
                paces.add(self.now(run).pace)
                time.sleep(0.1)
            thread.join()
        return self.now(run), paces

    def test_a_change_with_signs_of_life_is_slow_and_not_stuck(self) -> None:
        run, paces = self.paced(slow={"migrate": 7})
        self.assertIn("slow", paces)
        self.assertNotIn("stuck", paces)
        self.assertEqual(run.state, "done", run.text)

    def test_a_change_without_any_is_stuck_and_nothing_is_put_back_for_it(self) -> None:
        run, paces = self.paced(stuck={"migrate": 7})
        self.assertIn("stuck", paces)
        self.assertEqual(run.state, "done", run.text)


class Combined(WithRuns):
    """A step of several moves goes behind the maintenance page."""

    SITE = "whinchat-radio"  # its combined step leaves the editor empty

    def pages_seen(self) -> tuple[Run, list[int]]:
        """The run, and what a visitor meets at each look of its combined step and after."""
        self.site(self.SITE)
        plan, seen, real = self.approved(self.SITE), [], looking.look

        def look(run: Acting, act: RunAct[Probe]) -> object:
            if act in (probe(2), probe(2, AFTER_PUTTING_BACK), probe(when=AT_THE_END)):
                seen.append(self.status(self.SITE))
            return real(run, act)

        with mock.patch.object(looking, "look", look):
            return self.carried_out(plan), seen

    def test_visitors_meet_the_page_until_all_behind_it_was_looked_at(self) -> None:
        run, seen = self.pages_seen()
        self.assertEqual((run.state, seen), ("put back", [503, 503, 200]), run.text)

    def test_where_its_agent_shows_nothing_behind_it_the_page_comes_down_for_the_look(self) -> None:
        with mock.patch.object(Acting, "sees_behind", False):
            run, seen = self.pages_seen()
        self.assertEqual((run.state, seen), ("put back", [200, 200, 200]), run.text)
