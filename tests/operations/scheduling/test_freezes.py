"""Freezes: bookings go around them, no step reaches into one, and they are lifted."""

from datetime import timedelta
from typing import Any
from unittest import mock

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA
from windbreak.core.scheduling.openings import on_grid
from windbreak.core.values.bookings import Book, Booking
from windbreak.core.values.freezes import Frozen, NewFreeze
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Host
from windbreak.operations.errors import Refused
from windbreak.operations.runs import debts, stepping
from windbreak.operations.runs.runner import Runner
from windbreak.operations.scheduling import bookings, freezes, nights, timetables

SITE = "skerry-light"


class Crash(BaseException):
    """Our process ends here."""


class WithFreezes(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.plan = self.approved(SITE)

    def freeze(self, begins: timedelta, ends: timedelta, **where: Any) -> Frozen:
        now = self.context.clock()
        new = NewFreeze(from_=now + begins, to=now + ends, reason="the season", **where)
        return bookings.freeze(self.context, new, RHONA)


class Bookings(WithFreezes):
    def around(self, booking: Booking, **where: Any) -> tuple[Any, list[Booking]]:
        since = booking.starts_at - self.context.clock()
        frozen = self.freeze(since - timedelta(hours=1), since + timedelta(days=2), **where)
        return frozen, self.context.store.bookings.all(state="waiting")

    def test_what_a_freeze_meets_is_booked_anew_and_says_so(self) -> None:
        was = bookings.book(self.context, self.plan.id, Book(), RHONA)
        frozen, (now,) = self.around(was, client="Skerry Light Trust")
        self.assertGreater(now.starts_at, frozen.freeze.to)
        self.assertIn("moved around a freeze: the season", now.why)
        self.assertIn("frozen (the season) until", now.why)
        self.assertEqual((len(frozen.moved), frozen.out), (1, ()))
        self.assertEqual(now.id, was.id)
        self.assertIn(f"booking {was.id} moved", [e.what for e in self.context.store.ledger.all()])

    def test_what_it_does_not_meet_stays(self) -> None:
        was = bookings.book(self.context, self.plan.id, Book(), RHONA)
        self.context.store.hosts.put(Host(id="jetty", name="Jetty"))
        frozen, (now,) = self.around(was, host="jetty")
        self.assertEqual((now.id, now.starts_at), (was.id, was.starts_at))
        self.assertEqual(frozen.moved, ())

    def test_a_time_that_a_person_gave_is_no_exception(self) -> None:
        at = on_grid(self.context.clock().replace(microsecond=0) + timedelta(hours=2))
        was = bookings.book(self.context, self.plan.id, Book(at=at, outside_window=True), RHONA)
        _, (now,) = self.around(was, site=SITE)
        self.assertNotEqual(now.starts_at, at)
        self.assertFalse(now.pinned)

    def test_what_has_no_other_place_is_withdrawn_with_why_and_what_would_help(self) -> None:
        was = bookings.book(self.context, self.plan.id, Book(), RHONA)
        frozen = self.freeze(timedelta(), timedelta(days=60))
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])
        (told,) = frozen.out
        self.assertIn("frozen (the season)", told)
        self.assertIn("lift the freeze (the season)", told)
        ledger = [entry.what for entry in self.context.store.ledger.all(subject=SITE)]
        self.assertIn(f"booking {was.id} withdrawn", ledger)
        freezes.lift(self.context, frozen.freeze.id, RHONA)
        self.assertEqual(freezes.listed(self.context), [])
        # It is to be booked still: it comes back by itself where there is room again.
        timetables.keep(self.context)
        (again,) = self.context.store.bookings.all(state="waiting")
        self.assertEqual((again.plan, again.starts_at), (was.plan, was.starts_at))

    def test_a_crash_in_the_middle_leaves_neither_freeze_nor_booking_half_done(self) -> None:
        was = bookings.book(self.context, self.plan.id, Book(), RHONA)
        with (
            mock.patch.object(timetables, "_move", side_effect=Crash),
            self.assertRaises(Crash),
        ):
            self.around(was)
        self.assertEqual(freezes.listed(self.context), [])
        self.assertEqual(self.context.store.bookings.get(was.id).state, "waiting")

    def test_it_stands_in_the_night_book_of_the_sites_it_holds_at(self) -> None:
        self.freeze(timedelta(hours=1), timedelta(days=2), host="mole")
        book = nights.live_book(self.context, whole=True).book
        frozen = {site.id for site in book.sites if site.freezes}
        on_mole = {s.id for s in self.context.store.sites.live() if s.host == "mole"}
        self.assertEqual(frozen, on_mole)


class Runs(WithFreezes):
    def test_no_step_begins_that_would_reach_into_a_freeze(self) -> None:
        real = stepping.carry_out

        def then_frozen(run: Runner, number: int, step: Any) -> None:
            real(run, number, step)
            self.freeze(timedelta(minutes=2), timedelta(days=1), site=SITE)

        with mock.patch.object(stepping, "carry_out", then_frozen):
            run: Run = self.carried_out(self.plan)
        self.assertEqual(run.state, "stopped", run.text)
        self.assertIn("Stopped before step 2", run.text)
        self.assertIn("is to be left alone: the season", run.text)
        self.assertEqual(debts.owed(self.context, SITE), [])
        self.assertTrue(self.context.store.inventories.get(SITE).automatic_updates)


class Refusals(WithFreezes):
    def test_a_freeze_of_nobody_or_of_the_past_is_refused(self) -> None:
        with self.assertRaises(Refused) as caught:
            self.freeze(timedelta(), timedelta(days=1), client="Nobody")
        self.assertIn("Skerry Light Trust", str(caught.exception))
        with self.assertRaises(Refused):
            self.freeze(timedelta(days=-2), timedelta(days=-1))
        with self.assertRaises(ValueError):
            self.freeze(timedelta(days=2), timedelta(days=1))
        with self.assertRaises(ValueError):
            self.freeze(timedelta(), timedelta(days=1), site=SITE, host="mole")
