"""The world moves between two acts: windows close, gateways stumble, pages hang, others switch."""

import json
import sqlite3
import time
from collections.abc import Callable
from contextlib import closing, suppress
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import httpx

from tests.operations.runs.within import SHOP, WithRuns
from tests.operations.within import RHONA, projected
from windbreak.core.values import journal as acts
from windbreak.core.values.bookings import Book
from windbreak.core.values.findings import Finding
from windbreak.core.values.freezes import NewFreeze
from windbreak.core.values.holds import NewHold
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.journal import RunAct
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.rollouts import FailedMove
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Window
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.links.errors import CallFailed
from windbreak.links.signed_agent import SignedAgent
from windbreak.operations.administration import instance
from windbreak.operations.errors import Refused
from windbreak.operations.planning import planning, policy
from windbreak.operations.runs import (
    debts,
    errands,
    going_back,
    journal,
    looking,
    replanning,
    runs,
    stepping,
)
from windbreak.operations.runs.acting import Acting
from windbreak.operations.runs.runner import Runner
from windbreak.operations.scheduling import approving, bookings
from windbreak.operations.sites import inventories, sites
from windbreak.operations.views import reports
from windbreak.operations.views import sites as sites_view

SITE = "skerry-light"


class Crash(BaseException):
    """Our process ends here."""


class TakenUp(WithRuns):
    """A run is taken up when its time is over: what was begun is made whole first."""

    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.plan = self.approved(SITE)

    def interrupted(self, act: str, state: str) -> Run:
        """A run that ended with our process, right before a line of its journal was written."""
        real = journal.Journal.write

        def write(own: journal.Journal, name: RunAct[Any], at: Any, **more: Any) -> Any:
            if (str(name), at) == (act, state):
                raise Crash
            return real(own, name, at, **more)

        run = runs.start(self.context, self.plan.id, RHONA.name)
        with mock.patch.object(journal.Journal, "write", write), suppress(Crash):
            runs.carry_out(self.context, run.id)
        return self.now(run)

    def frozen(self) -> None:
        now = self.context.clock()
        new = NewFreeze(from_=now, to=now + timedelta(days=1), site=SITE, reason="a sale")
        bookings.freeze(self.context, new, RHONA)

    def versions(self) -> dict[str, str]:
        """What lies on the site's disk, past its agent."""
        return {c.product: c.version for c in self.place(SITE).components() if c.product}

    def test_a_step_that_was_begun_is_made_whole_whatever_freeze_came(self) -> None:
        (move,) = self.plan.plan.steps[0].moves
        run = self.interrupted(f"apply 1 {move.product}", "done")
        self.assertEqual(run.state, "running")
        self.frozen()
        ended = runs.carry_out(self.context, run.id)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertNotIn("Nothing was changed", ended.text)
        self.assertIn("left alone: a sale", ended.text)
        self.assertIn(("step 1", "done"), self.acts(run))
        self.assertNotIn(("step 2", "meant"), self.acts(run))
        there = self.context.store.inventories.get(SITE)
        self.assertEqual(there.version_of(move.product), move.to)
        self.assertTrue(there.automatic_updates)
        self.assertEqual(debts.owed(self.context, SITE), [])
        self.assertEqual(self.status(SITE), 200)
        self.assertTrue(any("past its time" in e.text for e in self.lines(run)))
        self.assertIn("was begun, so it was made whole past its time", ended.text)

    def test_what_was_only_prepared_is_set_back(self) -> None:
        run = self.interrupted("step 1", "meant")
        self.frozen()
        self.assertTrue(debts.owed(self.context, SITE))
        ended = runs.carry_out(self.context, run.id)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertEqual(debts.owed(self.context, SITE), [])
        self.assertTrue(self.context.store.inventories.get(SITE).automatic_updates)

    def test_a_patch_release_that_appears_meanwhile_renumbers_nothing(self) -> None:
        plan = planning.draft(self.context, SITE)
        until = self.context.clock().date()
        plan = self.plan = approving.approve(
            self.context, plan.id, ApprovePlan(why="x", patches_until=until), RHONA
        )
        run = self.interrupted("step 2", "meant")
        self.assertIn(("step 1", "done"), self.acts(run))
        with mock.patch.object(replanning, "newer_patches", return_value=["plugin/oarlock 7.2.1"]):
            ended = runs.carry_out(self.context, run.id)
        self.assertEqual(ended.state, "done", ended.text)
        for product, version in plan.targets.items():
            self.assertEqual(self.context.store.inventories.get(SITE).version_of(product), version)

    def test_done_is_told_only_when_every_approved_target_was_read_back(self) -> None:
        last = self.plan.plan.steps[-1].moves[0]
        real = stepping.carry_out

        def lies(runner: Runner, number: int, step: PlannedStep) -> None:
            if number == len(self.plan.plan.steps):
                runner.journal.write(acts.step(number), "done")
            else:
                real(runner, number, step)

        with (
            mock.patch.object(stepping, "carry_out", lies),
            mock.patch.object(Runner, "_hold_to_plan", lambda run, number: None),
        ):
            ended = self.carried_out(self.plan)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertIn(last.to or "", ended.text)


class OneLook(WithRuns):
    """One bad answer is not a broken page."""

    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.plan = self.approved(SITE)

    def disturbed(self, **faults: object) -> Run:
        """A run whose pages have a fault from its first step on."""
        real = stepping._read_back

        def read_back(runner: Runner, number: int, step: PlannedStep) -> None:
            if number == 1:
                self.faults(SITE, **faults)
            real(runner, number, step)

        with mock.patch.object(stepping, "_read_back", read_back):
            return self.carried_out(self.plan)

    def test_a_gateway_that_stumbles_changes_nothing(self) -> None:
        for status in (429, 502, 503, 504):
            with self.subTest(status=status):
                self.tearDownRun()
                ended = self.disturbed(gateway={str(status): 3})
                self.assertEqual(ended.state, "done", ended.text)
                self.assertFalse([a for a, _ in self.acts(ended) if a.startswith("put-back")])

    def tearDownRun(self) -> None:
        """The site as it was before, with a plan of its own: each status has a run of its own."""
        if self.context.store.runs.all():
            self.doCleanups()
            self.setUp()

    def test_a_gateway_that_stays_beside_an_agent_that_answers_counts(self) -> None:
        ended = self.disturbed(gateway={"502": 10_000})
        self.assertNotEqual(ended.state, "done", ended.text)
        self.assertIn("502", ended.text)

    def test_one_look_that_shows_a_fault_is_no_proof_and_is_kept(self) -> None:
        ended = self.disturbed(gateway={"500": 1})
        self.assertEqual(ended.state, "done", ended.text)
        (kept,) = [e for e in self.lines(ended) if e.kind == "first-look"]
        self.assertIn("500", kept.text)

    def test_a_fault_that_two_looks_show_is_one_and_both_are_kept(self) -> None:
        ended = self.disturbed(broken=True)
        self.assertIn(ended.state, ("alarm", "restored"), ended.text)
        self.assertTrue([e for e in self.lines(ended) if e.kind == "first-look"])

    def test_pages_that_hang_are_told_soon_and_put_back(self) -> None:
        with (
            mock.patch.object(looking, "_TOGETHER", 2.0),
            mock.patch.object(looking, "_LEAST_TOGETHER", 1.0),
        ):
            began = time.monotonic()
            ended = self.disturbed(hang=20)
        self.assertLess(time.monotonic() - began, 60)
        self.assertNotIn(ended.state, ("done", "running"), ended.text)


class Compared(WithRuns):
    """What is compared is all that was there: what is on, too."""

    def test_a_plugin_that_others_switched_off_is_no_as_it_was(self) -> None:
        self.site(SITE)
        whole = planning.draft(self.context, SITE)
        moved, *_ = (m.product for s in whole.plan.steps for m in s.moves if "plugin" in m.product)
        plan = planning.draft(self.context, SITE, only=frozenset({moved}))
        plan = approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)
        other = next(
            c.product
            for c in self.context.store.inventories.get(SITE).components
            if c.active and c.product.startswith("plugin/") and c.product not in plan.targets
        )
        real = stepping._read_back

        def read_back(runner: Runner, number: int, step: PlannedStep) -> None:
            if number == 1:
                self.place(SITE).switch(other, on=False)
            real(runner, number, step)

        with mock.patch.object(stepping, "_read_back", read_back):
            ended = self.carried_out(plan)
        name = self.context.store.products.get(other).name
        self.assertTrue([s for s in ended.surprises if name in s and "off" in s], ended.surprises)
        (line,) = [e for e in self.lines(ended) if e.kind == "as-it-was"]
        self.assertIn(name, line.text)
        self.assertNotIn("no difference", line.text)

    def test_a_release_that_switches_itself_off_did_not_go_well(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        moved = next(m.product for m in plan.plan.steps[0].moves if m.product.startswith("plugin/"))
        real = Acting.inventory

        def inventory(run: Acting) -> Inventory:
            there = {c.product: c.version for c in self.place(SITE).components()}
            if there.get(moved) != plan.start[moved]:
                self.place(SITE).switch(moved, on=False)  # as soon as it was loaded
            return real(run)

        with mock.patch.object(Acting, "inventory", inventory):
            ended = self.carried_out(plan)
        self.assertNotEqual(ended.state, "done", ended.text)
        self.assertIn("switched", ended.text)


class Learnt(WithRuns):
    def test_a_silent_site_teaches_nothing_of_how_long_a_run_takes(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        self.faults(SITE, gone={"apply": 2})
        with mock.patch.object(journal, "_PATIENCE", 0.5):
            ended = self.carried_out(plan)
        self.assertEqual(ended.state, "done", ended.text)
        self.assertTrue([e for e in self.lines(ended) if e.kind == "waited"])
        self.assertEqual(list(self.context.store.took.all()), [])


class GivenUp(WithRuns):
    """A call that got no answer is on its way until its agent says what became of it."""

    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.enterContext(mock.patch.object(journal, "_BETWEEN", 0.01))
        self.plan = self.approved(SITE)

    def versions(self) -> dict[str, str]:
        """What lies on the site's disk, past its agent."""
        return {c.product: c.version for c in self.place(SITE).components() if c.product}

    def test_a_call_that_arrives_after_its_run_ended_does_nothing(self) -> None:
        before = self.versions()
        self.faults(SITE, late={"apply": 4})
        ended = self.carried_out(self.plan)
        self.assertEqual(ended.state, "put back", ended.text)
        time.sleep(6)  # all of them have arrived
        self.assertEqual(self.versions(), before)
        meant = [e.change for e in self.lines(ended) if e.kind == "apply" and e.change]
        agent = sites.agent_for(self.context, SITE)
        self.assertEqual({agent.change(change).state for change in meant}, {"void"})

    def test_an_agent_that_makes_nothing_void_is_waited_for_until_it_takes_no_more(self) -> None:
        (move,) = self.plan.plan.steps[0].moves
        self.faults(SITE, late={"apply": 2})
        too_old = mock.patch.object(
            SignedAgent, "void", side_effect=CallFailed("not-permitted", "it has no call 'void'")
        )
        with too_old, mock.patch.object(journal, "_SIGNED", 3):
            ended = self.carried_out(self.plan)
        self.assertEqual(ended.state, "done", ended.text)
        self.assertEqual(self.versions()[move.product], move.to)
        self.assertTrue([e for e in self.lines(ended) if e.kind == "given-up"])


class OtherHands(WithRuns):
    """Others write into a component, or move it, between the look at it and its swap."""

    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.plan = self.approved(SITE)
        self.move = next(
            move
            for step in self.plan.plan.steps
            for move in step.moves
            if len(step.moves) == 1 and move.product.startswith("plugin/")
        )
        self.approve_one()

    def approve_one(self) -> None:
        draft = planning.draft(self.context, SITE, only=frozenset({self.move.product}))
        new = ApprovePlan(why="a test")
        self.plan = approving.approve(self.context, draft.id, new, RHONA)

    @property
    def folder(self) -> Path:
        return self.place(SITE).root / "plugins" / self.move.product.partition("/")[2]

    def right_before_the_apply(self, do: Callable[[], object]) -> Run:
        real = stepping._send

        def send(*args: Any) -> dict[str, Any]:
            do()
            return real(*args)

        with mock.patch.object(stepping, "_send", send):
            return self.carried_out(self.plan)

    def version(self) -> str:
        """What lies on the site's disk, past its agent."""
        there = {c.product: c.version for c in self.place(SITE).components()}
        return there[self.move.product]

    def test_what_another_updater_put_there_stays_and_is_told(self) -> None:
        def update() -> None:
            (header,) = self.folder.glob("*.toml")
            header.write_text(header.read_text().replace(str(self.move.from_), "97.1"))

        ended = self.right_before_the_apply(update)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertIn("97.1 here, and was to be", ended.text)
        self.assertEqual(self.version(), "97.1")
        self.assertTrue([s for s in ended.surprises if "97.1" in s], ended.surprises)
        self.assertEqual(debts.owed(self.context, SITE), [])
        self.assertEqual(list(self.context.store.failed_moves.all()), [])

    def test_a_file_written_after_the_look_goes_along(self) -> None:
        ended = self.right_before_the_apply(lambda: (self.folder / "gl.txt").write_text("galego"))
        self.assertEqual(ended.state, "done", ended.text)
        self.assertEqual((self.folder / "gl.txt").read_text(), "galego")

    def test_a_file_written_in_the_instant_of_the_swap_goes_along(self) -> None:
        self.faults(SITE, writes=["late.txt"])
        ended = self.carried_out(self.plan)
        self.assertEqual(ended.state, "done", ended.text)
        self.assertEqual((self.folder / "late.txt").read_text(), "written meanwhile")

    def test_an_edit_that_nobody_decided_on_is_not_lost(self) -> None:
        file = next(f for f in sorted(self.folder.iterdir()) if f.suffix != ".toml")
        text = file.read_text()
        for how in ("before the swap", "in its instant"):
            with self.subTest(how=how):
                if how == "before the swap":
                    ended = self.right_before_the_apply(lambda: file.write_text("ours" + text))
                else:
                    self.faults(SITE, writes=[file.name])
                    ended = self.carried_out(self.plan)
                self.assertEqual(ended.state, "stopped", ended.text)
                self.assertIn(file.name, ended.text)
                self.assertNotEqual(file.read_text(), text)
                self.assertEqual(self.version(), self.move.from_)
                file.write_text(text)
                self.approve_one()


class Shop(WithRuns):
    """What visitors write while a run is at work is never lost unasked."""

    def setUp(self) -> None:
        super().setUp()
        self.site(SHOP)
        self.plan = self.approved(SHOP)

    def orders(self) -> int:
        """What lies in the site's database, past its agent."""
        with closing(sqlite3.connect(self.place(SHOP).root / "site.db")) as db:
            return int(db.execute("SELECT count(*) FROM orders").fetchone()[0])

    def order(self) -> int:
        return httpx.post(f"{self.where[SHOP]}/order", trust_env=False).status_code

    def test_an_order_during_the_packing_of_the_snapshot_is_written_since(self) -> None:
        before = self.orders()
        self.faults(SHOP, order="packing", white=["plugin/netloft"])
        ended = self.carried_out(self.plan)
        self.assertEqual(ended.state, "alarm", ended.text)
        self.assertIn("1 in orders", ended.text)
        self.assertEqual(self.orders(), before + 1)

    def test_no_order_is_taken_while_the_snapshot_is_restored(self) -> None:
        answers, real = list[int](), going_back.bring_back

        def ordered(*args: Any) -> str:
            answers.append(self.order())
            return real(*args)

        before = self.orders()
        with mock.patch.object(going_back, "bring_back", ordered):
            ended = self.carried_out(self.plan)
        self.assertEqual((ended.state, answers), ("restored", [503]), ended.text)
        self.assertEqual(self.orders(), before)
        self.assertEqual(self.order(), 200)  # it is open again
        self.assertEqual(debts.owed(self.context, SHOP), [])

    def test_what_comes_in_until_the_swap_stops_the_restore(self) -> None:
        before = self.orders()
        self.faults(SHOP, **{"late-order": True})
        ended = self.carried_out(self.plan)
        self.assertEqual(ended.state, "alarm", ended.text)
        self.assertIn("during the restore", ended.text)
        self.assertEqual(self.orders(), before + 1)
        self.assertEqual(self.status(SHOP), 503)
        told = self.take(ended.id, "restore")  # another order comes in while that unpacks
        self.assertIn("during the restore, so the restore stopped", told)
        self.assertEqual((self.orders(), self.status(SHOP)), (before + 2, 503))
        self.faults(SHOP)
        self.assertIn("The snapshot was restored.", self.take(ended.id, "restore"))
        self.assertEqual((self.orders(), self.status(SHOP)), (before, 200))


class AllAtOnce(WithRuns):
    def test_what_stands_against_the_last_step_keeps_the_first_from_being_done(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        self.assertGreater(len(plan.plan.steps), 2)
        last = plan.plan.steps[-1].moves[0]
        before = {c.product: c.version for c in self.place(SITE).components()}
        new = NewHold(product=last.product, reason="the maker asks for it")
        policy.hold(self.context, new, RHONA)
        ended = self.carried_out(plan)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertIn("Nothing was changed: step ", ended.text)
        self.assertIn("the maker asks for it", ended.text)
        self.assertEqual({c.product: c.version for c in self.place(SITE).components()}, before)
        self.assertNotIn(("step 1", "meant"), self.acts(ended))

    def test_what_arrived_since_the_draft_is_asked_when_it_is_approved(self) -> None:
        self.site(SITE)
        plan = planning.draft(self.context, SITE)
        last = plan.plan.steps[-1].moves[0]
        new = NewHold(product=last.product, reason="the maker asks for it")
        policy.hold(self.context, new, RHONA)
        with self.assertRaises(Refused) as caught:
            approving.approve(self.context, plan.id, ApprovePlan(), RHONA)
        self.assertEqual(caught.exception.code, "not-allowed")
        self.assertIn("the maker asks for it. Draft a new plan", str(caught.exception))
        self.assertEqual(self.context.store.plans.get(plan.id).state, "draft")

    def test_what_arrives_in_mid_run_stops_before_the_step_that_it_meets(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        (met,) = plan.plan.steps[1].moves
        real = stepping.carry_out

        def held(runner: Runner, number: int, step: PlannedStep) -> None:
            real(runner, number, step)
            if number == 1:
                new = NewHold(product=met.product, reason="the maker asks for it")
                policy.hold(self.context, new, RHONA)

        with mock.patch.object(stepping, "carry_out", held):
            ended = self.carried_out(plan)
        self.assertEqual(ended.state, "stopped", ended.text)
        self.assertIn("Stopped before step 2", ended.text)
        self.assertIn(("step 1", "done"), self.acts(ended))
        self.assertNotIn(("step 2", "meant"), self.acts(ended))

    def test_what_arrives_is_told_of_what_is_booked(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        at = self.context.clock() + timedelta(days=1)
        bookings.book(self.context, plan.id, Book(at=at, outside_window=True), RHONA)
        projected(self.context)
        self.assertEqual(self.refused(plan), [])
        last = plan.plan.steps[-1].moves[0]
        new = NewHold(product=last.product, reason="the maker asks for it")
        held = policy.hold(self.context, new, RHONA)
        projected(self.context)
        (told,) = self.refused(plan)
        self.assertIn("Skerry Light Trust", told.headline)
        self.assertIn("would be refused", told.headline)
        self.assertIn(f"Step {len(plan.plan.steps)} of", told.text)
        self.assertIn("the maker asks for it", told.text)
        policy.lift(self.context, held.id, RHONA)
        projected(self.context)
        self.assertEqual(self.refused(plan), [])

    def refused(self, plan: SitePlan) -> list[Finding]:
        every = self.context.store.findings.all()
        return [told for told in every if told.id == f"refused:{plan.id}"]

    def test_a_move_that_failed_elsewhere_is_not_made_by_hand_without_a_word(self) -> None:
        self.site(SITE)
        self.site("tarnsey-harbour")
        plan = self.approved(SITE)
        (move,) = plan.plan.steps[0].moves
        failed = FailedMove(
            id=f"{move.product} {move.to}",
            product=move.product,
            version=str(move.to),
            run=1,
            site="tarnsey-harbour",
            text="it was put back",
            at=self.context.clock(),
        )
        self.context.store.failed_moves.put(failed)
        with self.assertRaises(Refused) as caught:
            runs.begin(self.context, plan.id, RHONA.name, outside_window=True)
        self.assertEqual(caught.exception.code, "failed-elsewhere")
        self.assertIn("failed on Tarnsey Harbour", str(caught.exception))
        self.assertIn("--although-it-failed", str(caught.exception))
        how = {"outside_window": True, "although_it_failed": True}
        run = runs.begin(self.context, plan.id, RHONA.name, **how)
        self.assertEqual(runs.carry_out(self.context, run.id).state, "done")


class ByTheHost(WithRuns):
    """A runtime is changed by the host: that is the step which its errand asked for."""

    def test_what_an_errand_asked_for_is_its_step_done_and_no_change_by_others(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        now = self.context.store.inventories.get(SITE).version_of("runtime/loom")
        newer = "8.3"
        self.assertNotEqual(now, newer)
        move = PlannedMove(product="runtime/loom", from_=now, to=newer, by="host")
        first = PlannedStep(moves=(move,), why="something needs it")
        steps = plan.plan.model_copy(update={"steps": (first, *plan.plan.steps)})
        targets = {**plan.targets, "runtime/loom": newer}
        self.context.store.plans.change(plan.id, plan=steps, targets=targets)
        can = [call for call in self.can() if call != "runtime"]
        link = self.context.store.sites.get(SITE).link.model_copy(update={"agent_can": tuple(can)})
        self.context.store.sites.change(SITE, link=link)
        run = self.carried_out(self.context.store.plans.get(plan.id))
        self.assertEqual(run.state, "waiting", run.text)
        (errand,) = errands.listed(self.context)
        self.assertIn("Ask the host to switch", errand.text)
        self.place(SITE).set_setting("runtime", json.dumps({"runtime/loom": newer}))
        sites.refresh(self.context, SITE)
        self.assertIsNotNone(self.context.store.errands.get(errand.id).closed_at)
        self.assertEqual(inventories.moved_by_others(self.context, SITE), [])
        runs.go_on(self.context, run.id, RHONA.name)
        ended = runs.carry_out(self.context, run.id)
        self.assertEqual((ended.state, ended.surprises), ("done", ()), ended.text)
        self.assertEqual(self.versions_of(plan), dict(plan.targets))

    def can(self) -> tuple[str, ...]:
        return self.context.store.sites.get(SITE).link.agent_can

    def versions_of(self, plan: SitePlan) -> dict[str, str | None]:
        there = {c.product: c.version for c in self.place(SITE).components()}
        return {product: there.get(product) for product in plan.targets}


class Told(WithRuns):
    def test_no_move_is_ready_beside_the_open_matter_of_that_very_move(self) -> None:
        ended = self.alarm()
        projected(self.context)
        lines = sites_view.site_view(self.context, SHOP).components
        plan = self.context.store.plans.get(ended.plan)
        again = [x for x in lines if (x.product, x.target) in plan.targets.items()]
        self.assertTrue(again, [(line.product, line.target) for line in lines])
        for line in again:
            self.assertEqual(line.state, "failed", line)
            self.assertIn(f"Run {ended.id} ended badly at this move", line.text)
            self.assertNotIn("nothing stands in the way", line.text)

    def test_a_client_is_told_of_an_alarm_of_its_page_and_of_what_was_lost(self) -> None:
        ended = self.alarm()
        self.take(ended.id, "restore")
        site = self.context.store.sites.get(SHOP)
        month = f"{self.context.clock():%Y-%m}"
        (told,) = [
            part
            for part in reports.report(self.context, str(site.client), month).sites
            if part.site == SHOP
        ]
        self.assertIn("One update went wrong, and a person had to look after it.", told.head)
        self.assertIn("The site was brought back from its backup once.", told.head)
        self.assertIn("1 thing that came in meanwhile was lost by that", told.head)
        self.assertIn("behind a notice for 1 minute", told.head)


class TakenOver(WithRuns):
    """Whoever takes a site over learns from it what was switched, whatever the books say."""

    def test_what_a_lost_run_switched_is_set_back(self) -> None:
        self.site(SITE)
        before = self.context.store.inventories.get(SITE)
        plugin = next(
            c.product
            for c in before.components
            if c.active and c.product.startswith("plugin/") and c.product != "plugin/lee"
        )
        agent = sites.agent_for(self.context, SITE)
        agent.do("updates", "c-9-a", on=False)
        agent.do("caches", "c-9-b", name="plugin/lee", on=False)
        agent.do("switch", "c-9-c", product=plugin, on=False)
        agent.do("maintenance", "c-9-d", on=True)
        self.assertEqual(self.status(SITE), 503)
        sites.refresh(self.context, SITE)  # of none of that there is a word in these books
        after = self.context.store.inventories.get(SITE)
        self.assertEqual(self.status(SITE), 200)
        self.assertEqual((after.automatic_updates, after.caches), (True, before.caches))
        self.assertFalse(after.maintenance)
        self.assertTrue(next(c.active for c in after.components if c.product == plugin))
        self.assertEqual(debts.owed(self.context, SITE), [])
        told = [e.what for e in self.context.store.ledger.all() if "not in these books" in e.what]
        self.assertEqual(len(told), 1)
        # What its owner switches off is theirs.
        self.place(SITE).switch(plugin, on=False)
        sites.refresh(self.context, SITE)
        sites.refresh(self.context, SITE)
        there = self.context.store.inventories.get(SITE)
        self.assertFalse(next(c.active for c in there.components if c.product == plugin))

    def test_a_run_in_the_books_of_a_copy_is_a_matter_once_it_took_over(self) -> None:
        self.site(SITE)
        run = runs.start(self.context, self.approved(SITE).id, RHONA.name)
        self.context.store.facts.set("drives", "no")
        self.context.store.facts.set("aside", "copied")
        instance.take_over(self.context, RHONA, "the other one is gone")
        runs.not_known(self.context)
        self.assertEqual(self.now(run).state, "alarm")
        self.assertIn("another service may have driven", self.now(run).text)
        self.assertTrue(self.context.store.matters.count(site=SITE, open=True))


class WaysOut(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.plan = self.approved(SITE)
        self.first = self.plan.plan.steps[0].moves[0].product
        self.faults(SITE, white=[self.first])
        self.run_ = self.carried_out(self.plan)
        self.assertEqual(self.run_.state, "put back", self.run_.text)

    def test_the_rest_leaves_out_what_had_just_failed(self) -> None:
        told = self.take(self.run_.id, "go-on")
        rest = self.context.store.plans.all(site=SITE, newest_first=True)[0]
        moved = {move.product for step in rest.plan.steps for move in step.moves}
        self.assertTrue(moved)
        self.assertNotIn(self.first, moved)
        self.assertIn(f"without {self.context.store.products.get(self.first).name}", told)

    def test_a_matter_closes_when_what_was_tried_again_ended_well_and_not_before(self) -> None:
        self.take(self.run_.id, "try-again")
        again = self.context.store.runs.all(site=SITE, newest_first=True)[0]
        self.assertEqual((again.plan, again.state), (self.plan.id, "put back"))
        self.assertIsNone(self.context.store.matters.get(self.run_.id).closed_at)
        self.faults(SITE)
        self.take(self.run_.id, "try-again")
        self.assertEqual(self.context.store.runs.all(site=SITE)[-1].state, "done")
        self.assertEqual(self.context.store.matters.all(site=SITE, open=True), [])

    def test_what_is_tried_again_outside_of_the_window_wants_a_word(self) -> None:
        site = self.context.store.sites.get(SITE)
        day = (self.context.clock() + timedelta(days=2)).strftime("%a").lower()
        windows = (Window.model_validate({"days": [day], "start": "01:00", "end": "05:00"}),)
        self.context.store.sites.change(site.id, windows=windows)
        self.context.store.runs.change(self.run_.id, outside=False)  # it was begun in a window
        told = self.take(self.run_.id, "try-again")
        self.assertIn(f"windbreak run start {self.plan.id} --outside-window", told)
        self.assertEqual(len(self.context.store.runs.all(site=SITE)), 1)
