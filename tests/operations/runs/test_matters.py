"""What a run leaves behind: matters and their ways out, debts, a silent site, the permit."""

from datetime import timedelta
from unittest import mock

from tests.operations.runs.within import SHOP, WithRuns
from tests.operations.within import RHONA, catch_up, look_again
from windbreak.core.values.holds import NewHold
from windbreak.core.values.matters import TakeWayOut
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.runs import Run
from windbreak.core.values.ties import NewClash
from windbreak.core.values.verdicts import PlannedStep
from windbreak.documents.runs import Fact
from windbreak.operations.administration import exports
from windbreak.operations.errors import Refused
from windbreak.operations.planning import planning, policy, ties
from windbreak.operations.runs import debts, journal, looking, matters, stepping, ways_out
from windbreak.operations.runs.runner import Runner
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites
from windbreak.operations.views import sites as site_views
from windbreak.operations.views.runs import run_story
from windbreak.standins.fleet import put
from windbreak.standins.millrace import MillraceSite


class WaysOut(WithRuns):
    def test_an_alarm_is_open_until_a_person_closes_it_and_says_what_each_way_loses(self) -> None:
        run = self.alarm()
        self.assertEqual(run.state, "alarm")
        self.assertEqual(self.status(SHOP), 503)
        (matter,) = matters.listed(self.context)
        self.assertEqual(matter.id, run.id)
        ways = {way.act: way for way in ways_out.ways(self.context, matter.id)}
        self.assertEqual(ways["restore"].loses, ("1 order",))
        self.assertEqual(ways["take-page-away"].loses, ())
        self.assertFalse(ways["take-page-away"].closes)
        self.assertFalse(ways["go-on"].possible)
        found = next(f for f in look_again(self.context) if f.id == f"run:{SHOP}")
        self.assertIn("visitors see the maintenance page", found.headline)
        self.assertEqual(found.act.act, "see-matter")

    def test_the_page_is_taken_away_and_the_matter_stays(self) -> None:
        run = self.alarm()
        told = self.take(run.id, "take-page-away")
        self.assertIn("away", told)
        self.assertNotEqual(self.status(SHOP), 503)
        self.assertEqual([m.id for m in matters.listed(self.context)], [run.id])
        self.assertEqual(debts.owed(self.context, SHOP), [])

    def test_restoring_brings_the_site_back_and_closes_the_matter(self) -> None:
        run = self.alarm()
        before = dict(self.context.store.plans.get(run.plan).start)
        told = self.take(run.id, "restore")
        self.assertIn("as before the run", told)
        self.assertEqual(self.status(SHOP), 200)
        self.assertEqual(matters.listed(self.context), [])
        there = self.context.store.inventories.get(SHOP)
        self.assertEqual({c.product: c.version for c in there.components}, before)
        catch_up(self.context)
        (row,) = [r for r in site_views.summaries(self.context) if r.id == SHOP]
        self.assertNotEqual(row.state, "failed")

    def test_accepting_sets_everything_back_and_is_written_down(self) -> None:
        run = self.alarm()
        self.take(run.id, "accept")
        self.assertEqual(debts.owed(self.context, SHOP), [])
        closed = self.context.store.matters.get(run.id)
        self.assertEqual((closed.how, closed.closed_by), ("accept", "Rhona Vale"))
        ledger = [e.what for e in self.context.store.ledger.all(subject=SHOP)]
        self.assertIn(f"matter {run.id}: accept, closed", ledger)

    def test_a_way_that_is_not_there_any_more_is_refused_with_why(self) -> None:
        run = self.alarm()
        with self.assertRaises(Refused) as caught:
            ways_out.check(self.context, run.id, "go-on")
        self.assertEqual(caught.exception.code, "not-now")
        self.take(run.id, "restore")
        for act in ("restore", "accept", "abandon"):
            with self.subTest(act=act), self.assertRaises(Refused) as late:
                ways_out.check(self.context, run.id, act)
            self.assertEqual(late.exception.code, "matter-closed")
        with self.assertRaises(Refused):
            matters.take(self.context, run.id, TakeWayOut(act="accept", why="x"), RHONA)

    def test_while_the_agent_is_away_only_giving_up_is_left_and_nothing_is_forgotten(self) -> None:
        run = self.alarm()
        self.faults(SHOP, silent=True)
        self.addCleanup(self.faults, SHOP)
        possible = [w.act for w in ways_out.ways(self.context, run.id) if w.possible]
        self.assertEqual(possible, ["abandon"])
        self.take(run.id, "abandon")
        self.assertEqual([d.kind for d in debts.owed(self.context, SHOP)][-1], "page")
        self.assertTrue(any(f.id == f"debt:{SHOP}" for f in look_again(self.context)))
        self.faults(SHOP)
        sites.refresh(self.context, SHOP)
        self.assertEqual(debts.owed(self.context, SHOP), [])
        self.assertNotEqual(self.status(SHOP), 503)


class Told(WithRuns):
    def facts(self, run: Run) -> dict[str, Fact]:
        return {fact.name: fact for fact in ways_out.story(self.context, run.id).facts}

    def test_a_matter_says_what_a_visitor_meets_what_lies_behind_and_what_came_in(self) -> None:
        run = self.alarm()
        story, facts = ways_out.story(self.context, run.id), self.facts(run)
        self.assertEqual(story.head, "visitors see the maintenance page")
        self.assertIn("the maintenance page stays up", story.unless)
        self.assertEqual(facts["a visitor sees now"].text, "503, the maintenance page")
        behind = facts["behind it, past the page"]
        self.assertTrue(behind.bad)
        self.assertRegex(behind.text, r"^(\d+) of \1 pages (worse|answer 500)$")
        self.assertEqual(self.status(SHOP), 503)  # they were looked at behind the page
        self.assertEqual(
            (facts["came in"].text, facts["came in"].aside), ("1 order", "the last at")
        )
        self.assertEqual(facts["link"].text, "its agent answers")
        self.faults(SHOP, silent=True)
        silent = self.facts(run)
        self.assertEqual(silent["came in"].text, "not known")
        self.assertEqual(silent["behind it, past the page"].text, "not looked")
        self.assertTrue(silent["link"].bad)
        self.faults(SHOP)
        self.take(run.id, "take-page-away")
        self.assertEqual(ways_out.story(self.context, run.id).head, "a run needs you")
        self.assertEqual(self.facts(run)["a visitor sees now"].text, "500, fatal fault")
        self.assertIn("answer 500", self.facts(run)["the pages now"].text)
        self.take(run.id, "accept")
        self.assertEqual(ways_out.story(self.context, run.id).ways, ())

    def test_pages_that_are_fine_behind_the_page_are_seen_to_be(self) -> None:
        run = self.alarm()
        self.place(SHOP).set_setting("form:plugin/netloft", "1")  # somebody mended it by hand
        facts = self.facts(run)
        self.assertEqual(facts["a visitor sees now"].text, "503, the maintenance page")
        self.assertEqual(facts["behind it, past the page"].text, "all 4 as before the run")

    def test_what_followed_the_failed_step_is_told_line_by_line(self) -> None:
        run = self.alarm()
        (step,) = [s for s in run_story(self.context, run.id).steps if s.state == "failed"]
        kinds = [line.kind for line in step.happened]
        self.assertEqual(kinds, ["broken", "back", "broken", "page"])
        self.assertRegex(
            step.happened[0].text,
            r"^(\d) of \1 pages white; Editor: does not open; ",
        )
        self.assertEqual(step.happened[1].text, "Netloft back to 1.6")
        self.assertEqual(sorted(step.happened, key=lambda line: line.at), list(step.happened))

    def test_what_a_restore_loses_is_listed_and_written_down_for_the_owner(self) -> None:
        run = self.alarm()
        ways = {way.act: way for way in ways_out.ways(self.context, run.id)}
        restore = ways["restore"]
        self.assertEqual(restore.label, "Restore and lose 1")
        self.assertEqual([item.kind for item in restore.lost], ["orders"])
        self.assertEqual(ways["accept"].lost, ())
        self.assertGreater(restore.seconds, 0)
        self.assertEqual(run_story(self.context, run.id).lost, ())
        self.take(run.id, "restore")
        self.assertEqual(run_story(self.context, run.id).lost, restore.lost)
        head, row = exports.lost_csv(self.context, run.id).splitlines()
        self.assertEqual(head, "at,kind,name,text,amount")
        self.assertIn(f"orders,{restore.lost[0].name},", row)

    def test_the_page_stays_up_while_it_is_looked_behind_it(self) -> None:
        run = self.alarm()
        seen: list[int] = []
        real = looking.look

        def look(*args: object) -> object:
            seen.append(self.status(SHOP))
            return real(*args)  # type: ignore[arg-type]

        with mock.patch.object(looking, "look", look):
            told = self.take(run.id, "restore")
        self.assertIn("as before the run", told)
        self.assertEqual((seen, self.status(SHOP)), ([503], 200))


class Broken(WithRuns):
    def test_a_way_out_that_stopped_on_a_fault_of_ours_can_be_taken_again(self) -> None:
        run = self.alarm()
        with (
            mock.patch.object(ways_out.debts, "pay", side_effect=RuntimeError("disk full")),
            self.assertRaises(RuntimeError),
        ):
            self.take(run.id, "accept")
        self.assertIsNotNone(self.context.store.matters.get(run.id).doing)
        ways_out.broke(self.context, run.id, "disk full")
        matter = self.context.store.matters.get(run.id)
        self.assertIsNone(matter.doing)
        self.assertIn("disk full", matter.told)
        self.take(run.id, "accept")
        self.assertIsNotNone(self.context.store.matters.get(run.id).closed_at)


class Silence(WithRuns):
    def test_a_silent_site_is_waited_for_and_nothing_is_put_back(self) -> None:
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        self.addCleanup(self.faults, "skerry-light")
        with (
            mock.patch.object(journal, "_PATIENCE", 0.3),
            mock.patch.object(journal, "_LONGEST", 0.2),
        ):
            self.faults("skerry-light", slow={"apply": 0.5})
            run, thread = self.run_aside(plan)
            store = self.context.store
            self.until(lambda: ("step 1", "meant") in acts(store.journal.all(run=run.id)))
            self.faults("skerry-light", silent=True)
            self.until(lambda: store.runs.get(run.id).waiting_since is not None)
            waiting = store.runs.get(run.id)
            self.assertEqual(waiting.state, "running")
            self.assertIn("pages are as before the run", waiting.waiting)
            self.assertGreater(len(waiting.asked), 1)
            self.assertEqual([m.fine for m in waiting.meanwhile], [waiting.meanwhile[0].of])
            told_at = run_story(self.context, run.id).told_at
            assert waiting.waiting_since is not None
            self.assertEqual(told_at, waiting.waiting_since + timedelta(minutes=30))
            self.later = timedelta(minutes=31)
            self.assertTrue(any(f.id == "waiting:skerry-light" for f in look_again(self.context)))
            self.later = timedelta(0)
            self.faults("skerry-light")
            thread.join(60)
        ended = store.runs.get(run.id)
        self.assertEqual(ended.state, "done", ended.text)
        self.assertEqual((ended.waiting_since, ended.asked, ended.meanwhile), (None, (), ()))
        texts = acts(store.journal.all(run=run.id))
        self.assertTrue([act for act, _ in texts if act.startswith("waited")])
        self.assertFalse([act for act, _ in texts if act.startswith(("put-back", "restore"))])
        self.assertEqual(debts.owed(self.context, "skerry-light"), [])

    def test_a_site_that_is_silent_before_anything_was_changed_ends_the_run(self) -> None:
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        self.faults("skerry-light", silent=True)
        self.addCleanup(self.faults, "skerry-light")
        with mock.patch.object(journal, "_PATIENCE", 0.3):
            run = self.carried_out(plan)
        self.assertEqual(run.state, "stopped")
        self.assertIn("Nothing was changed", run.text)
        self.assertEqual(matters.listed(self.context), [])


def acts(entries: object) -> list[tuple[str, str]]:
    return [(str(e.act), e.state) for e in entries]  # type: ignore[attr-defined]


class Debts(WithRuns):
    def test_every_cache_and_setting_is_as_it_was_on_every_site(self) -> None:
        for slug in ("skerry-light", "tarnsey-harbour", "whinchat-radio"):
            self.site(slug)
            before = self.context.store.inventories.get(slug)
            self.carried_out(self.approved(slug))
            after = self.context.store.inventories.get(slug)
            with self.subTest(site=slug):
                for name in ("automatic_updates", "caches", "caches_off", "maintenance"):
                    self.assertEqual(getattr(after, name), getattr(before, name), name)
                self.assertEqual(debts.owed(self.context, slug), [])

    def test_what_is_owed_is_not_taken_for_as_it_was_by_the_next_run(self) -> None:
        self.site("skerry-light")
        agent = sites.agent_for(self.context, "skerry-light")
        run = Run.model_validate(
            {
                "id": 77,
                "plan": 1,
                "site": "skerry-light",
                "state": "stopped",
                "phase": "ended",
                "step": 1,
                "steps": 1,
                "text": "",
                "started_at": self.context.clock(),
                "last_sign_at": self.context.clock(),
            }
        )
        debts.owe(self.context, run, "updates", was=True)
        agent.do("updates", "as-a-run-left-it", on=False)
        plan = self.approved("skerry-light")
        ended = self.carried_out(plan)
        self.assertEqual(ended.state, "done")
        self.assertTrue(self.context.store.inventories.get("skerry-light").automatic_updates)
        journal = self.context.store.journal.all(run=ended.id)
        (recorded,) = [e.detail for e in journal if e.kind == "inventory"]
        self.assertTrue(recorded.automatic_updates)  # it was set back before it was looked at

    def test_what_is_owed_already_stays_as_it_was_first_written(self) -> None:
        self.site("skerry-light")
        run = self.carried_out(self.approved("skerry-light"))
        first = debts.owe(self.context, run, "cache", was=True, name="plugin/lee")
        again = debts.owe(self.context, run, "cache", was=False, name="plugin/lee")
        self.assertEqual(again, first)
        self.assertEqual(len(debts.owed(self.context, "skerry-light")), 1)

    def test_a_debt_is_paid_only_when_it_was_read_back(self) -> None:
        self.site("skerry-light")
        run = self.carried_out(self.approved("skerry-light"))
        debts.owe(self.context, run, "updates", was=True)
        agent = sites.agent_for(self.context, "skerry-light")
        agent.do("updates", "off-again", on=False)

        class Liar:
            """Says yes to everything, and does nothing."""

            def do(self, call: str, change: str, **args: object) -> dict[str, object]:
                return {"was": False}

        def read() -> object:
            return agent.inventory("skerry-light", self.context.clock())

        left = debts.pay(self.context, Liar(), "skerry-light", read)  # type: ignore[arg-type]
        self.assertEqual([d.kind for d in left], ["updates"])
        left = debts.pay(self.context, agent, "skerry-light", read)  # type: ignore[arg-type]
        self.assertEqual(left, [])


class Permits(WithRuns):
    def stopped_by(self, meanwhile: object) -> str:
        """How a run ends when something comes between its approval and its first step."""
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        meanwhile()  # type: ignore[operator]
        run = self.carried_out(plan)
        there = self.context.store.inventories.get("skerry-light")
        if run.state == "stopped":
            self.assertEqual({c.product: c.version for c in there.components}, dict(plan.start))
            self.assertEqual(debts.owed(self.context, "skerry-light"), [])
        return f"{run.state}: {run.text}"

    def test_a_hold_outside_the_targets_range_stops_nothing(self) -> None:
        def hold() -> None:
            new = NewHold(product="core/millrace", range=">=9", reason="not yet")
            policy.hold(self.context, new, RHONA)

        self.assertTrue(self.stopped_by(hold).startswith("done"))

    def test_a_hold_on_the_target_stops_before_anything_is_changed(self) -> None:
        def hold() -> None:
            (plan,) = self.context.store.plans.all(site="skerry-light", state="approved")
            for product in plan.targets:
                policy.hold(self.context, NewHold(product=product, reason="wait"), RHONA)

        told = self.stopped_by(hold)
        self.assertTrue(told.startswith("stopped: Nothing was changed: step 1 of"), told)
        self.assertIn("is held", told)

    def test_a_clash_that_came_after_the_approval_stops_the_step_that_brings_it(self) -> None:
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        (move,) = plan.plan.steps[0].moves
        other = "core/millrace" if move.product != "core/millrace" else "theme/plainsail"
        new = NewClash.model_validate(
            {
                "a": {"product": move.product, "range": f">={move.to}"},
                "b": {"product": other, "range": "*"},
                "reason": "seen elsewhere",
            }
        )
        ties.add_clash(self.context, new, RHONA)
        run = self.carried_out(plan)
        self.assertEqual(run.state, "stopped", run.text)
        self.assertIn("clash", run.text)


class OwnFiles(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        self.site("skerry-light")
        plan = self.planned()
        self.product = next(p for p in plan.targets if p.startswith("plugin/"))
        place = self.demo.standins_folder / "skerry-light" / "site" / "plugins"
        self.folder = place / self.product.partition("/")[2]

    def planned(self) -> SitePlan:
        return planning.draft(self.context, "skerry-light")

    def approve(self, **more: object) -> SitePlan:
        said = ApprovePlan.model_validate({"why": "a test", **more})
        return approving.approve(self.context, self.planned().id, said, RHONA)

    def test_a_translation_of_the_sites_own_is_carried_over_through_every_hop(self) -> None:
        lang = self.folder / "lang" / "gd.po"
        lang.parent.mkdir()
        lang.write_text("Fàilte")
        run = self.carried_out(self.approve())
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(lang.read_text(), "Fàilte")
        (line,) = [e for e in self.context.store.journal.all(run=run.id) if e.kind == "own-files"]
        self.assertIn("1 file carried over", line.text)

    def test_what_was_changed_in_place_is_decided_with_the_approval(self) -> None:
        header = self.folder / "readme.txt"
        before = header.read_text() if header.exists() else None
        name = header.name
        if before is None:
            header = next(f for f in sorted(self.folder.iterdir()) if f.name != "component.toml")
            name = header.name
        header.write_text("changed by hand")
        with self.assertRaises(Refused) as caught:
            self.approve()
        self.assertEqual(caught.exception.code, "changed-files")
        self.assertIn(name, str(caught.exception))
        plan = self.approve(changed_files="carry-over")
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(header.read_text(), "changed by hand")

    def test_what_is_set_aside_stays_with_the_old_folder(self) -> None:
        changed = next(f for f in sorted(self.folder.iterdir()) if f.name != "component.toml")
        changed.write_text("changed by hand")
        run = self.carried_out(self.approve(changed_files="set-aside"))
        self.assertEqual(run.state, "done", run.text)
        self.assertNotEqual(changed.read_text() if changed.exists() else "", "changed by hand")
        kept = self.demo.standins_folder / "skerry-light" / "agent" / "kept"
        words = [f.read_text() for f in kept.rglob(changed.name)]
        self.assertIn("changed by hand", words)


class Remedies(WithRuns):
    def run_with(self, **faults: object) -> tuple[Run, list[tuple[str, str]]]:
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        product = next(p for p in plan.targets if p.startswith("plugin/"))
        told = {k: [product] if v == "it" else v for k, v in faults.items()}
        self.faults("skerry-light", **told)
        self.addCleanup(self.faults, "skerry-light")
        run = self.carried_out(plan)
        return run, acts(self.context.store.journal.all(run=run.id))

    def mended(self, kind: str) -> None:
        run, seen = self.run_with(**{kind: "it"})
        self.assertEqual(run.state, "done", run.text)
        self.assertEqual(sum(a.startswith("clear ") for a, s in seen if s == "done"), 1)
        self.assertEqual(sum(a.endswith(" turn 2") for a, s in seen if s == "done"), 1)

    def test_a_leftover_folder_is_cleared_once_and_tried_again(self) -> None:
        self.mended("leftover")

    def test_a_stale_record_is_cleared_once_and_tried_again(self) -> None:
        self.mended("stale")

    def test_a_site_that_says_newest_and_is_not_is_not_believed(self) -> None:
        run, _ = self.run_with(newest="it")
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn("should be", run.text)
        self.assertEqual(debts.owed(self.context, "skerry-light"), [])

    def test_what_is_there_already_is_judged_by_reading_back(self) -> None:
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        product, version = next((p, v) for p, v in plan.targets.items() if p == "plugin/gangway")
        place = self.demo.standins_folder / "skerry-light" / "site"
        real = stepping.carry_out

        def put_by_hand(runner: Runner, number: int, step: PlannedStep) -> None:
            if any(m.product == product for m in step.moves):
                put(MillraceSite(place), product, version)  # somebody else was quicker
            real(runner, number, step)

        with mock.patch.object(stepping, "carry_out", put_by_hand):
            run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        seen = acts(self.context.store.journal.all(run=run.id))
        self.assertTrue([a for a, s in seen if s == "noted" and "mended" in a])
