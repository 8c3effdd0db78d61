"""Twins refreshed from their site, backups proved, keys turned, many refreshed as a task."""

from datetime import timedelta
from unittest import mock

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA, look_again
from windbreak.core.scheduling.openings import openings
from windbreak.core.values.rollouts import NewRollout
from windbreak.core.values.tasks import Task
from windbreak.links.adapter import Agent
from windbreak.links.signed_agent import SignedAgent
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import rollouts
from windbreak.operations.sites import inventories, keys, sites, tasks, twins
from windbreak.standins.fleet import put
from windbreak.wording.acts import command

SITE, TWIN = "skerry-light", "skerry-light-twin"


class Crash(BaseException):
    """Our process ends here."""


class WithTwin(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.site(TWIN)

    def task(self, kind: str, *found: str) -> Task:
        task = tasks.start(self.context, kind, found, RHONA.name)  # type: ignore[arg-type]
        return tasks.carry_out(self.context, task.id)


class Twins(WithTwin):
    def test_a_refreshed_twin_is_as_its_site_and_its_link_and_seats_stay_its_own(self) -> None:
        put(self.place(SITE), "plugin/lee", "5.5")
        self.place(SITE).order()
        self.place(SITE).set_setting("code:theme/breakwater", "THE-SITES-OWN")
        self.place(TWIN).set_setting("code:theme/breakwater", "THE-TWINS-OWN")
        task = self.task("refresh twin", TWIN)
        self.assertEqual(task.state, "done", task.text)
        twin, site = self.place(TWIN), self.place(SITE)
        self.assertEqual(
            [(c.product, c.version) for c in twin.components()],
            [(c.product, c.version) for c in site.components()],
        )
        self.assertEqual(twin.counts(), site.counts())
        self.assertEqual(twin.setting("code:theme/breakwater"), "THE-TWINS-OWN")
        _, page = twin.page("/visit", past_caches=True)
        self.assertIn(self.where[TWIN], page)  # addresses are the twin's own
        self.assertNotIn(f"{self.where[SITE]}/", page)
        self.assertEqual(sites.refresh(self.context, TWIN).link.state, "linked")
        self.assertIsNotNone(self.context.store.sites.get(TWIN).refreshed_at)
        for slug in (SITE, TWIN):
            left = list((self.place(slug).root.parent / "agent" / "snapshots").iterdir())
            self.assertEqual(left, [])

    def test_a_site_that_is_no_twin_is_never_copied_over(self) -> None:
        with self.assertRaises(Refused) as caught:
            tasks.start(self.context, "refresh twin", [SITE], RHONA.name)
        self.assertEqual(caught.exception.code, "no-twin")

    def test_a_backup_is_proved_on_the_twin_and_the_twin_is_as_it_was(self) -> None:
        put(self.place(SITE), "plugin/lee", "5.5")
        before = [(c.product, c.version) for c in self.place(TWIN).components()]
        task = self.task("prove backup", TWIN)
        self.assertEqual(task.state, "done", task.text)
        self.assertEqual([(c.product, c.version) for c in self.place(TWIN).components()], before)
        site = self.context.store.sites.get(SITE)
        self.assertEqual(site.proved, True)
        self.assertIn("components", site.proof)

    def test_a_backup_that_is_not_whole_is_told_and_the_twin_is_as_it_was(self) -> None:
        before = [(c.product, c.version) for c in self.place(TWIN).components()]
        real = twins._copied

        def then_moves(*args: object) -> None:
            put(self.place(SITE), "plugin/lee", "5.5")  # what is copied is not what was there
            real(*args)  # type: ignore[arg-type]

        with mock.patch.object(twins, "_copied", then_moves):
            task = self.task("prove backup", TWIN)
        self.assertEqual(task.state, "failed", task.text)
        self.assertIn("plugin/lee", task.text)
        self.assertEqual(self.context.store.sites.get(SITE).proved, False)
        self.assertEqual([(c.product, c.version) for c in self.place(TWIN).components()], before)

    def test_a_backup_that_leaves_something_of_the_database_out_is_not_proved(self) -> None:
        self.faults(TWIN, left=["order_totals"])
        task = self.task("prove backup", TWIN)
        self.assertEqual(task.state, "failed", task.text)
        self.assertIn("is not whole: order_totals", task.text)

    def test_a_shop_that_sells_while_it_is_copied_has_a_whole_backup(self) -> None:
        self.place(SITE).order()
        real = twins._copied

        def then_sells(*args: object) -> None:
            real(*args)  # type: ignore[arg-type]
            self.place(SITE).order()

        with mock.patch.object(twins, "_copied", then_sells):
            task = self.task("prove backup", TWIN)
        self.assertEqual(task.state, "done", task.text)

    def test_a_proof_that_is_cut_off_leaves_the_twin_to_be_what_it_was(self) -> None:
        put(self.place(SITE), "plugin/lee", "5.5")
        before = [(c.product, c.version) for c in self.place(TWIN).components()]
        task = tasks.start(self.context, "prove backup", [TWIN], RHONA.name)
        kept = mock.patch.object(SignedAgent, "fetch", side_effect=Crash)
        for where in (kept, mock.patch.object(twins, "_compared", side_effect=Crash)):
            with where, self.assertRaises(Crash):
                tasks.carry_out(self.context, task.id)
        there = [(c.product, c.version) for c in self.place(TWIN).components()]
        self.assertNotEqual(there, before)  # it is as its site still
        (told,) = [f for f in look_again(self.context) if f.id == f"proof:{TWIN}"]
        self.assertEqual(command(told.act), f"windbreak site prove {TWIN}")
        tasks.carry_out(self.context, task.id)
        self.assertEqual([(c.product, c.version) for c in self.place(TWIN).components()], before)
        self.assertFalse([f for f in look_again(self.context) if f.id == f"proof:{TWIN}"])
        for slug in (SITE, TWIN):
            left = list((self.place(slug).root.parent / "agent" / "snapshots").iterdir())
            self.assertEqual(left, [])

    def test_a_proof_on_a_twin_that_is_ahead_is_no_change_by_other_hands(self) -> None:
        put(self.place(TWIN), "plugin/lee", "5.5")
        there = sites.agent_for(self.context, TWIN).inventory(TWIN, self.context.clock())
        inventories.take_in(self.context, there, ours=True)
        self.assertNotEqual(there.version_of("plugin/lee"), self.version(SITE))
        task = self.task("prove backup", TWIN)
        self.assertEqual(task.state, "done", task.text)
        sites.refresh(self.context, TWIN)
        self.assertEqual(inventories.moved_by_others(self.context, TWIN), [])
        self.assertEqual(self.version(TWIN), "5.5")

    def version(self, site: str) -> str | None:
        return self.context.store.inventories.get(site).version_of("plugin/lee")

    def test_no_run_begins_while_a_task_has_the_site(self) -> None:
        plan = self.approved(SITE)
        tasks.start(self.context, "refresh twin", [TWIN], RHONA.name)
        with self.assertRaises(Refused) as caught:
            runs.start(self.context, plan.id, RHONA.name)
        self.assertEqual(caught.exception.code, "site-busy")

    def test_a_rehearsal_begins_on_a_twin_that_is_as_its_site(self) -> None:
        put(self.place(TWIN), "plugin/lee", "5.5")
        sites.refresh(self.context, TWIN)
        new = NewRollout(product="plugin/oarlock", version="7.2", sites=(SITE,), refresh_twins=True)
        rollout = rollouts.approve(self.context, new, RHONA)
        self.assertEqual(rollout.state, "refreshing")
        self.assertEqual(self.context.store.bookings.all(rollout=rollout.id), [])
        tasks.carry_out(self.context, rollout.task or 0)
        rollouts.tend(self.context)
        rollout = self.context.store.rollouts.get(rollout.id)
        self.assertEqual(rollout.state, "going", rollout.text)
        booking, after = sorted(
            self.context.store.bookings.all(rollout=rollout.id), key=lambda b: b.starts_at
        )
        self.assertGreater(after.starts_at, booking.starts_at)
        plan = self.context.store.plans.get(booking.plan)
        self.assertEqual(plan.start["plugin/lee"], "5.4")  # as on the site


class Proofs(WithTwin):
    def setUp(self) -> None:
        super().setUp()
        site = self.context.store.sites.get(SITE)
        now = self.context.clock()
        week = openings(site.windows, site.timezone, now, now + timedelta(days=7))
        opens, closes = next((a, b) for a, b in week if a > now)
        self.later = opens - self.context.clock() + (closes - opens) / 4

    def prove(self) -> None:
        """By the clock of the stand-ins: a signature of another day is taken by none."""
        later, self.later = self.later, timedelta()
        task = self.task("prove backup", TWIN)
        self.later = later
        self.assertEqual(task.state, "done", task.text)

    def test_a_backup_is_to_be_proved_in_its_window_and_again_after_so_many_days(self) -> None:
        self.assertEqual(twins.unproved(self.context), TWIN)
        self.prove()
        self.assertIsNone(twins.unproved(self.context))
        self.later += timedelta(days=31)
        self.assertEqual(twins.unproved(self.context), TWIN)
        self.context.prove_days = 0
        self.assertIsNone(twins.unproved(self.context))

    def test_none_is_to_be_proved_outside_the_sites_window(self) -> None:
        self.later += timedelta(hours=12)
        self.assertIsNone(twins.unproved(self.context))

    def test_a_proof_that_failed_is_a_finding_until_one_succeeds(self) -> None:
        now = self.context.clock()
        self.context.store.sites.change(SITE, proved=False, proved_at=now, proof="no orders")
        (told,) = [f for f in look_again(self.context) if f.id == f"proof:{SITE}"]
        self.assertIn("no orders", told.text)
        self.assertEqual(command(told.act), f"windbreak site prove {TWIN}")
        self.prove()
        self.assertFalse([f for f in look_again(self.context) if f.id == f"proof:{SITE}"])


class Keys(WithTwin):
    def test_keys_turn_on_both_sides_without_a_gap(self) -> None:
        old = instance.key(self.context).private_bytes_raw()
        agents = {slug: self.context.store.agents.key(slug) for slug in (SITE, TWIN)}
        self.faults(TWIN, silent=True)
        task = self.task("rotate keys")
        self.assertEqual({s.site: s.well for s in task.ended}, {SITE: True, TWIN: False})
        self.assertTrue(keys.pending(self.context))
        for slug in (SITE, SITE):  # both keys are in use now: the new one here
            self.assertEqual(sites.refresh(self.context, slug).link.state, "linked")
        self.assertEqual(instance.key(self.context).private_bytes_raw(), old)
        self.faults(TWIN)
        self.assertEqual(sites.refresh(self.context, TWIN).link.state, "linked")  # under the old
        self.assertTrue(keys.turn(self.context, TWIN).well)
        self.assertFalse(keys.pending(self.context))
        self.assertNotEqual(instance.key(self.context).private_bytes_raw(), old)
        for slug in (SITE, TWIN):
            self.assertEqual(sites.refresh(self.context, slug).link.state, "linked")
            self.assertNotEqual(self.context.store.agents.key(slug), agents[slug])

    def test_two_threads_that_turn_the_last_site_leave_no_trace_of_the_coming_key(self) -> None:
        keys.begin(self.context)
        keys.turn(self.context, TWIN)
        real = sites.agent_for

        def slow(context: Context, site: str) -> Agent:
            agent = real(context, site)
            with mock.patch.object(sites, "agent_for", real):
                keys.turn(context, site)  # the other thread is done first
            return agent

        with mock.patch.object(sites, "agent_for", slow):
            self.assertTrue(keys.turn(self.context, SITE).well)
        self.assertEqual(instance.turned(self.context), frozenset())
        for slug in (SITE, TWIN):
            self.assertEqual(sites.refresh(self.context, slug).link.state, "linked")

    def test_an_answer_that_was_lost_leaves_both_sides_able_to_speak(self) -> None:
        keys.begin(self.context)
        agent = sites.agent_for(self.context, SITE)
        from windbreak.links import signing

        coming = instance.coming_key(self.context)
        assert coming is not None
        agent.rotate(signing.public_text(coming))  # and nobody notes it
        self.assertEqual(sites.refresh(self.context, SITE).link.state, "linked")
        self.assertTrue(keys.turn(self.context, SITE).well)
        self.assertEqual(sites.refresh(self.context, SITE).link.state, "linked")


class Many(WithTwin):
    def test_many_are_refreshed_as_a_task_and_one_that_is_silent_is_told(self) -> None:
        self.faults(TWIN, silent=True)
        task = self.task("refresh")
        self.assertEqual((task.state, len(task.ended)), ("done", 2))
        self.assertEqual({s.site: s.well for s in task.ended}, {SITE: True, TWIN: False})

    def test_a_task_is_taken_up_with_the_sites_it_had_not_come_to(self) -> None:
        task = tasks.start(self.context, "refresh", [SITE, TWIN], RHONA.name)
        from windbreak.core.values.tasks import Subject

        done = (Subject(site=SITE, text="asked before the crash"),)
        self.context.store.tasks.change(task.id, ended=done)
        ended = tasks.carry_out(self.context, task.id)
        self.assertEqual([s.site for s in ended.ended], [SITE, TWIN])
        self.assertEqual(ended.ended[0].text, "asked before the crash")
