"""Approving, booking, and one release over a twin and its site, by a clock that can be moved."""

from datetime import UTC, datetime, timedelta
from unittest import mock

from tests.operations.within import RHONA, WithContext, catch_up, look_again
from windbreak.core.values.bookings import Book, NewRollout
from windbreak.core.values.holds import NewHold
from windbreak.core.values.plans import ApprovePlan
from windbreak.core.values.policy import NewRule
from windbreak.core.values.sites import Window
from windbreak.links.errors import Unreachable
from windbreak.operations.errors import Refused
from windbreak.operations.planning import planning, policy
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import rollouts
from windbreak.operations.sites import sites, tasks, twins
from windbreak.operations.views import sites as site_views


class Booking(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("skerry-light")

    def test_approving_a_newer_plan_replaces_the_older(self) -> None:
        first, second = self.approved("skerry-light"), self.approved("skerry-light")
        self.assertEqual(self.context.store.plans.get(first.id).state, "replaced")
        for plan, code in [(first.id, "not-a-draft"), (second.id, "not-a-draft")]:
            with self.assertRaises(Refused) as caught:
                rollouts.approve(self.context, plan, ApprovePlan(), RHONA)
            self.assertEqual(caught.exception.code, code)
        approval = self.context.store.plans.get(second.id).approval
        assert approval is not None
        self.assertEqual((approval.by, approval.why), ("Rhona Vale", "a test"))

    def test_a_booking_is_in_the_sites_window_and_says_why_then(self) -> None:
        window = (Window(days=("sat",), start="22:00", end="02:00"),)
        sites.set_windows(self.context, "skerry-light", window, "Europe/Helsinki", RHONA)
        plan = self.approved("skerry-light")
        booking = rollouts.book(self.context, plan.id, Book(), RHONA)
        # 22:00 in Helsinki is 20:00 UTC in winter, 19:00 in summer.
        self.assertEqual(booking.starts_at.weekday(), 5)
        self.assertIn(booking.starts_at.astimezone(UTC).hour, (19, 20, 21, 22, 23))
        self.assertRegex(booking.why, r"^Sat \d+ \w+ 22:00: the window opens 22:00\.$")
        with self.assertRaises(Refused) as caught:
            rollouts.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(caught.exception.code, "booked-already")

    def test_what_can_not_be_booked_says_why(self) -> None:
        plan = self.approved("skerry-light")
        past = datetime.now(UTC) - timedelta(hours=1)
        for at, code, why in [
            (past, "in-the-past", "has passed"),
            (datetime(2099, 1, 1), "no-time-zone", "say the time with its zone"),
        ]:
            with self.subTest(code=code), self.assertRaises(Refused) as caught:
                rollouts.book(self.context, plan.id, Book(at=at), RHONA)
            self.assertEqual(caught.exception.code, code)
            self.assertIn(why, str(caught.exception))
        short = (Window(start="01:00", end="01:10"),)
        sites.set_windows(self.context, "skerry-light", short, "UTC", RHONA)
        with self.assertRaises(Refused) as caught:
            rollouts.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(caught.exception.code, "no-window")
        self.assertIn("only 10 min are left of an opening, and it takes", str(caught.exception))
        self.assertIn("It would help to make the opening of", str(caught.exception))

    def test_what_is_due_is_given_and_what_is_long_past_is_missed_and_found(self) -> None:
        plan = self.approved("skerry-light")
        booking = rollouts.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(rollouts.due(self.context), [])
        self.later = booking.starts_at - datetime.now(UTC) + timedelta(minutes=1)
        self.assertEqual([b.id for b in rollouts.due(self.context)], [booking.id])
        self.later += timedelta(hours=5)
        self.assertEqual(rollouts.due(self.context), [])
        self.assertEqual(self.context.store.bookings.get(booking.id).state, "missed")
        ids = [f.id for f in look_again(self.context)]
        self.assertIn(f"missed:{booking.id}", ids)

    def test_a_booking_withdrawn_is_not_due(self) -> None:
        plan = self.approved("skerry-light")
        booking = rollouts.book(self.context, plan.id, Book(at=self.context.clock()), RHONA)
        rollouts.withdraw(self.context, booking.id, RHONA)
        self.later = timedelta(minutes=5)
        self.assertEqual(rollouts.due(self.context), [])
        with self.assertRaises(Refused):
            rollouts.move(self.context, booking.id, self.context.clock(), RHONA)

    def test_what_is_due_begins_as_far_as_its_host_bears_it(self) -> None:
        for slug in ("skerry-light-twin", "tarnsey-harbour"):
            self.site(slug)
        host = self.context.store.hosts.get("mole")
        self.context.store.hosts.put(host.model_copy(update={"at_once": 2}))
        for slug in ("skerry-light", "skerry-light-twin", "tarnsey-harbour"):
            plan = self.approved(slug)
            booking = rollouts.book(self.context, plan.id, Book(), RHONA)
            self.context.store.bookings.change(booking.id, starts_at=self.context.clock())
        begun = []
        for booking in rollouts.startable(self.context):
            runs.start(self.context, booking.plan, "Rhona Vale", booking=booking.id)
            begun.append(booking.site)
        self.assertEqual(begun, ["skerry-light", "skerry-light-twin"])
        self.assertEqual(list(rollouts.startable(self.context)), [])
        self.assertEqual([b.site for b in rollouts.due(self.context)], ["tarnsey-harbour"])

    def test_a_host_bears_so_many_at_once_and_a_site_one(self) -> None:
        plan = self.approved("skerry-light")
        host = self.context.store.hosts.get("mole")
        runs.start(self.context, plan.id, "Rhona Vale")
        with self.assertRaises(Refused) as caught:
            runs.start(self.context, plan.id, "Rhona Vale")
        self.assertEqual(caught.exception.code, "site-busy")
        self.context.store.hosts.put(host.model_copy(update={"at_once": 1}))
        with self.assertRaises(Refused) as caught:
            runs.start(self.context, plan.id, "Rhona Vale")
        self.assertEqual(caught.exception.code, "host-busy")


class Rollouts(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("skerry-light")
        self.site("skerry-light-twin")
        new = NewRollout(
            site="skerry-light", product="core/millrace", version="6.4.3", quiet_minutes=60
        )
        rollout = rollouts.start_rollout(self.context, new, RHONA)
        self.rollout = rollout.id
        assert rollout.task is not None  # the twin is refreshed first
        tasks.carry_out(self.context, rollout.task)
        rollouts.tend_rollouts(self.context)

    def state(self) -> str:
        rollouts.tend_rollouts(self.context)
        return self.context.store.rollouts.get(self.rollout).state

    def run_what_is_booked(self, site: str) -> str:
        (booking,) = self.context.store.bookings.all(site=site, state="waiting")
        run = runs.start(self.context, booking.plan, "Rhona Vale", booking=booking.id)
        return runs.carry_out(self.context, run.id).state

    def test_the_site_follows_when_the_twin_did_well_and_the_quiet_time_passed(self) -> None:
        self.assertEqual(self.state(), "rehearsing")
        self.assertEqual(self.context.store.bookings.all(site="skerry-light"), [])
        self.assertEqual(self.run_what_is_booked("skerry-light-twin"), "done")
        self.assertEqual(self.state(), "quiet")
        self.assertEqual(self.context.store.bookings.all(site="skerry-light"), [])
        quiet_until = self.context.store.rollouts.get(self.rollout).quiet_until
        assert quiet_until is not None
        self.later = timedelta(minutes=61)
        self.assertEqual(self.state(), "going")
        (booking,) = self.context.store.bookings.all(site="skerry-light")
        self.assertGreaterEqual(booking.starts_at, quiet_until)
        self.later = timedelta()
        self.assertEqual(self.run_what_is_booked("skerry-light"), "done")
        self.assertEqual(self.state(), "ended well")
        catch_up(self.context)
        rows = {row.id: row for row in site_views.summaries(self.context)}
        self.assertEqual(rows["skerry-light"].moves["core"], 0)

    def test_a_twins_run_that_does_not_end_well_stops_the_rollout(self) -> None:
        hold = NewHold(product="core/millrace", site="skerry-light-twin", reason="wait")
        policy.hold(self.context, hold, RHONA)
        self.assertEqual(self.run_what_is_booked("skerry-light-twin"), "stopped")
        self.assertEqual(self.state(), "stopped")
        self.later = timedelta(days=1)
        rollouts.tend_rollouts(self.context)
        self.assertEqual(self.context.store.bookings.all(site="skerry-light"), [])

    def test_a_rollout_stopped_by_a_person_withdraws_what_it_booked(self) -> None:
        rollouts.stop_rollout(self.context, self.rollout, RHONA)
        self.assertEqual(self.state(), "stopped")
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])
        with self.assertRaises(Refused):
            rollouts.stop_rollout(self.context, self.rollout, RHONA)

    def test_a_rollout_whose_booking_is_withdrawn_has_ended_and_says_so(self) -> None:
        (booking,) = self.context.store.bookings.all(site="skerry-light-twin", state="waiting")
        rollouts.withdraw(self.context, booking.id, RHONA)
        self.assertEqual(self.state(), "stopped")
        self.assertIn("was withdrawn", self.context.store.rollouts.get(self.rollout).text)

    def test_a_rollout_whose_booking_was_missed_has_ended_and_says_so(self) -> None:
        (booking,) = self.context.store.bookings.all(site="skerry-light-twin", state="waiting")
        self.later = booking.starts_at - datetime.now(UTC) + timedelta(hours=6)
        rollouts.due(self.context)
        self.assertEqual(self.state(), "stopped")
        self.assertIn("was missed", self.context.store.rollouts.get(self.rollout).text)

    def test_a_second_rollout_of_the_same_is_refused_until_the_first_has_ended(self) -> None:
        again = NewRollout(site="skerry-light", product="core/millrace", version="6.4.3")
        with self.assertRaises(Refused) as caught:
            rollouts.start_rollout(self.context, again, RHONA)
        self.assertEqual(caught.exception.code, "rollout-under-way")
        rollouts.stop_rollout(self.context, self.rollout, RHONA)
        self.assertEqual(rollouts.start_rollout(self.context, again, RHONA).state, "refreshing")

    def test_a_twin_that_can_not_be_refreshed_ends_the_rollout(self) -> None:
        rollouts.stop_rollout(self.context, self.rollout, RHONA)
        again = NewRollout(site="skerry-light", product="core/millrace", version="6.4.3")
        rollout = rollouts.start_rollout(self.context, again, RHONA)
        assert rollout.task is not None
        with mock.patch.object(twins, "refresh", side_effect=Unreachable("it is away")):
            tasks.carry_out(self.context, rollout.task)
        rollouts.tend_rollouts(self.context)
        ended = self.context.store.rollouts.get(rollout.id)
        self.assertEqual(ended.state, "stopped")
        self.assertIn("it is away", ended.text)
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])


class Soaking(WithContext):
    def test_the_day_of_most_sites_is_told_and_the_others_beside_it(self) -> None:
        self.feeds()
        for slug in ("skerry-light", "skerry-light-twin", "whinchat-radio"):
            self.site(slug)
        (before,) = [f for f in look_again(self.context) if f.id == "soak:core/millrace@6.5"]
        self.assertNotIn("By rules of their own", before.text)
        rule = NewRule(site="whinchat-radio", soak={"major": 20}, reason="the shop asked")
        policy.set_rule(self.context, rule, RHONA)
        (finding,) = [f for f in look_again(self.context) if f.id == "soak:core/millrace@6.5"]
        self.assertEqual(finding.headline, before.headline)
        self.assertRegex(finding.text, r"By rules of their own 1 site until \w{3} \d+ \w{3}")
        self.assertEqual(finding.deadline, before.deadline)


class Findings(WithContext):
    def test_a_finding_opens_once_and_closes_with_its_cause(self) -> None:
        self.feeds()
        self.site("whinchat-radio")
        first = {f.id: f for f in look_again(self.context)}
        self.assertIn("ready:whinchat-radio", first)
        self.assertIn("soak:core/millrace@6.5", first)
        self.later = timedelta(minutes=10)
        again = {f.id: f for f in look_again(self.context)}
        self.assertEqual(first, again)
        self.later = timedelta()
        run = self.carried_out(self.approved("whinchat-radio"))
        self.assertEqual(run.state, "put back")
        ids = [f.id for f in look_again(self.context)]
        self.assertEqual(ids[0], "run:whinchat-radio")
        self.assertNotIn("ready:whinchat-radio", ids)

    def test_a_site_that_is_lost_is_found_by_two_looks(self) -> None:
        self.site("seapink-florists")
        for address, state, word in [
            (self.where["feeds"], "silent", "is silent"),
            ("http://127.0.0.1:9", "down", "is down"),
        ]:
            with self.subTest(state=state):
                self.context.store.sites.change("seapink-florists", address=address)
                self.assertEqual(sites.refresh(self.context, "seapink-florists").link.state, state)
                (finding,) = look_again(self.context)
                self.assertIn(word, finding.headline)

    def test_reasoning_without_feeds_finds_nothing_and_says_so(self) -> None:
        self.site("seapink-florists")
        self.assertEqual(look_again(self.context), [])
        plan = planning.draft(self.context, "seapink-florists")
        with self.assertRaises(Refused) as caught:
            rollouts.approve(self.context, plan.id, ApprovePlan(), RHONA)
        self.assertEqual(caught.exception.code, "nothing-to-do")
