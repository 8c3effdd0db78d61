"""Approving and booking, by a clock that can be moved; what is found of both."""

from datetime import UTC, datetime, timedelta
from typing import get_args

from tests.operations.within import RHONA, WithContext, look_again
from windbreak.core.values.bookings import Book
from windbreak.core.values.plans import ApprovePlan
from windbreak.core.values.policy import NewRule
from windbreak.core.values.sites import Weekday, Window
from windbreak.operations.errors import Refused
from windbreak.operations.planning import planning, policy
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving, bookings, timetables
from windbreak.operations.sites import sites


class Booking(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("skerry-light")
        hour = (datetime.now(UTC).hour + 6) % 24  # none is open now, whatever the time of the day
        window = (Window(start=f"{hour:02}:00", end=f"{(hour + 4) % 24:02}:00"),)
        sites.set_windows(self.context, "skerry-light", window, "UTC", RHONA)

    def test_approving_a_newer_plan_replaces_the_older(self) -> None:
        first, second = self.approved("skerry-light"), self.approved("skerry-light")
        self.assertEqual(self.context.store.plans.get(first.id).state, "replaced")
        for plan, code in [(first.id, "not-a-draft"), (second.id, "not-a-draft")]:
            with self.assertRaises(Refused) as caught:
                approving.approve(self.context, plan, ApprovePlan(), RHONA)
            self.assertEqual(caught.exception.code, code)
        approval = self.context.store.plans.get(second.id).approval
        assert approval is not None
        self.assertEqual((approval.by, approval.why), ("Rhona Vale", "a test"))

    def test_a_booking_is_in_the_sites_window_and_says_why_then(self) -> None:
        night = self.context.clock() + timedelta(days=2)  # none of it is now
        day = get_args(Weekday)[night.weekday()]
        window = (Window(days=(day,), start="22:00", end="02:00"),)
        sites.set_windows(self.context, "skerry-light", window, "Europe/Helsinki", RHONA)
        plan = self.approved("skerry-light")
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        # 22:00 in Helsinki is 20:00 UTC in winter, 19:00 in summer.
        self.assertEqual(booking.starts_at.weekday(), night.weekday())
        self.assertIn(booking.starts_at.astimezone(UTC).hour, (19, 20, 21, 22, 23))
        self.assertRegex(booking.why, rf"^{day.title()} \d+ \w+ 22:00: the window opens 22:00\.$")
        with self.assertRaises(Refused) as caught:
            bookings.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(caught.exception.code, "booked-already")

    def test_what_can_not_be_booked_says_why(self) -> None:
        plan = self.approved("skerry-light")
        past = datetime.now(UTC) - timedelta(hours=1)
        for at, code, why in [
            (past, "in-the-past", "has passed"),
            (datetime(2099, 1, 1), "no-time-zone", "say the time with its zone"),
        ]:
            with self.subTest(code=code), self.assertRaises(Refused) as caught:
                bookings.book(self.context, plan.id, Book(at=at), RHONA)
            self.assertEqual(caught.exception.code, code)
            self.assertIn(why, str(caught.exception))
        short = (Window(start="01:00", end="01:10"),)
        sites.set_windows(self.context, "skerry-light", short, "UTC", RHONA)
        with self.assertRaises(Refused) as caught:
            bookings.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(caught.exception.code, "no-window")
        self.assertIn("only 10 min are left of an opening, and it takes", str(caught.exception))
        self.assertIn("It would help to make the opening of", str(caught.exception))

    def test_what_is_due_is_given_and_what_is_long_past_is_missed_and_found(self) -> None:
        plan = self.approved("skerry-light")
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(bookings.due(self.context), [])
        self.later = booking.starts_at - datetime.now(UTC) + timedelta(minutes=1)
        self.assertEqual([b.id for b in bookings.due(self.context)], [booking.id])
        self.later += timedelta(hours=5)
        self.assertEqual(bookings.due(self.context), [])
        missed = self.context.store.bookings.get(booking.id)
        self.assertEqual(missed.state, "missed")
        self.assertIn("only 0 min are left of its window", missed.why)
        found = {f.id: f for f in look_again(self.context)}
        self.assertIn("Only 0 min are left", found[f"missed:{booking.id}"].text)
        timetables.keep(self.context)
        (again,) = self.context.store.bookings.all(state="waiting")
        self.assertEqual(again.plan, plan.id)
        self.assertGreater(again.starts_at, self.context.clock())
        self.assertNotIn(f"missed:{booking.id}", [f.id for f in look_again(self.context)])

    def test_a_booking_whose_opening_grew_too_short_is_booked_again(self) -> None:
        plan = self.approved("skerry-light")
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        needed = timedelta(minutes=booking.minutes + booking.back)
        closes = booking.starts_at + timedelta(hours=4)
        self.later = closes - needed - datetime.now(UTC)
        self.assertEqual([b.id for b in bookings.due(self.context)], [booking.id])
        self.later += timedelta(minutes=2)
        self.assertEqual(bookings.due(self.context), [])
        self.assertIn("min with the way back", self.context.store.bookings.get(booking.id).why)

    def test_a_time_outside_of_the_windows_must_be_meant(self) -> None:
        plan = self.approved("skerry-light")
        hour = (datetime.now(UTC).hour + 6) % 24
        window = (Window(start=f"{hour:02}:00", end=f"{(hour + 2) % 24:02}:00"),)
        sites.set_windows(self.context, "skerry-light", window, "UTC", RHONA)
        at = self.context.clock() + timedelta(hours=1)
        for begin in (
            lambda: bookings.book(self.context, plan.id, Book(at=at), RHONA),
            lambda: runs.begin(self.context, plan.id, "Rhona Vale"),
        ):
            with self.assertRaises(Refused) as caught:
                begin()
            self.assertEqual(caught.exception.code, "outside-window")
            self.assertIn("--outside-window", str(caught.exception))
        run = runs.begin(self.context, plan.id, "Rhona Vale", outside_window=True)
        self.assertTrue(run.outside)

    def test_a_booking_withdrawn_is_not_due(self) -> None:
        plan = self.approved("skerry-light")
        now = Book(at=self.context.clock(), outside_window=True)
        booking = bookings.book(self.context, plan.id, now, RHONA)
        bookings.withdraw(self.context, booking.id, RHONA)
        self.later = timedelta(minutes=5)
        self.assertEqual(bookings.due(self.context), [])
        with self.assertRaises(Refused):
            bookings.move(self.context, booking.id, Book(at=self.context.clock()), RHONA)

    def test_what_is_due_begins_as_far_as_its_host_bears_it(self) -> None:
        for slug in ("skerry-light-twin", "tarnsey-harbour"):
            self.site(slug)
        host = self.context.store.hosts.get("mole")
        self.context.store.hosts.put(host.model_copy(update={"at_once": 2}))
        hour = datetime.now(UTC).hour
        window = (Window(start=f"{(hour - 1) % 24:02}:00", end=f"{(hour + 2) % 24:02}:00"),)
        for slug in ("skerry-light", "skerry-light-twin", "tarnsey-harbour"):
            sites.set_windows(self.context, slug, window, "UTC", RHONA)
            plan = self.approved(slug)
            booking = bookings.book(self.context, plan.id, Book(), RHONA)
            self.context.store.bookings.change(booking.id, starts_at=self.context.clock())
        begun = []
        for booking in bookings.startable(self.context):
            runs.start(self.context, booking.plan, "Rhona Vale", booking=booking.id)
            begun.append(booking.site)
        self.assertEqual(begun, ["skerry-light", "skerry-light-twin"])
        self.assertEqual(list(bookings.startable(self.context)), [])
        self.assertEqual([b.site for b in bookings.due(self.context)], ["tarnsey-harbour"])

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
            approving.approve(self.context, plan.id, ApprovePlan(), RHONA)
        self.assertEqual(caught.exception.code, "nothing-to-do")
