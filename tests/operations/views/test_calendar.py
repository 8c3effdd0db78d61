"""The nights as they are read: windows, freezes, bookings, what could be and what is not."""

from datetime import timedelta

from tests.operations.within import RHONA, WithContext
from windbreak.cli.picture import night_lines
from windbreak.core.values.bookings import Book
from windbreak.core.values.freezes import NewFreeze
from windbreak.core.values.rollouts import NewRollout
from windbreak.operations.scheduling import bookings, drafts, rollouts
from windbreak.operations.views import sheets
from windbreak.operations.views.calendar import calendar

SITES = ("skerry-light", "skerry-light-twin", "seapink-florists")


class Nights(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for site in SITES:
            self.site(site)

    def test_what_is_not_approved_is_placed_where_it_would_go(self) -> None:
        unknown = calendar(self.context, None, 7, "UTC")
        self.assertEqual((unknown.proposed, unknown.final, unknown.bookings), (False, False, ()))
        drafts.catch_up(self.context)
        told = calendar(self.context, None, 7, "UTC")
        self.assertEqual({b.state for b in told.bookings}, {"not yet"})
        self.assertEqual({b.site for b in told.bookings}, set(SITES))
        self.assertEqual((told.booked, told.unbooked, told.clear), (len(SITES), 0, 0))
        rollouts.approve(self.context, NewRollout(), RHONA)
        self.assertTrue(told.final)
        self.assertFalse(calendar(self.context, None, 7, "UTC").final)
        drafts.catch_up(self.context)
        after = calendar(self.context, None, 7, "UTC")
        self.assertEqual({b.state for b in after.bookings}, {"approved"})
        self.assertEqual(
            {b.site: b.starts_at for b in after.bookings},
            {b.site: b.starts_at for b in told.bookings},
        )
        (gate,) = [gate for gate in after.gates if gate.label == "Twin of Skerry Light Trust"]
        twin = next(b for b in after.bookings if b.twin)
        self.assertEqual((gate.start, gate.end), (twin.ends_at, twin.ends_at + timedelta(hours=20)))
        self.assertIn("left in the window to go back in", twin.reckoned)

    def test_windows_freezes_and_what_has_no_night_are_told(self) -> None:
        plan = self.approved("seapink-florists")
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        now = self.context.clock()
        freeze = NewFreeze(
            from_=now, to=now + timedelta(days=60), site="seapink-florists", reason="a sale"
        )
        bookings.freeze(self.context, freeze, RHONA)
        told = calendar(self.context, None, 7, "UTC", proposed=False)
        self.assertEqual((told.bookings, told.proposed), ((), False))
        (left,) = told.left_out
        self.assertEqual(left.plans, (booking.plan,))
        self.assertIn("lift the freeze (a sale)", left.text)
        (frozen,) = told.frozen
        self.assertEqual((frozen.where, frozen.hosts), ("Seapink Florists", ("mole",)))
        self.assertEqual({o.host for o in told.opened}, {"mole"})
        self.assertEqual(told.unbooked, len(SITES))

    def test_what_ran_stands_in_its_night_with_how_it_ended(self) -> None:
        self.carried_out(self.approved("skerry-light-twin"))
        told = calendar(self.context, None, 2, "UTC", proposed=False)
        (ran,) = told.bookings
        self.assertEqual((ran.site, ran.state, ran.twin), ("skerry-light-twin", "done", True))

    def test_a_terminal_draws_each_booking_in_its_window(self) -> None:
        rollouts.approve(self.context, NewRollout(), RHONA)
        told = calendar(self.context, None, 7, "UTC")
        lines = list(night_lines(told, told.at.tzinfo))
        for booking in told.bookings:
            (line,) = [x for x in lines if f"{booking.label} " in x.replace("*", " ")]
            self.assertIn(f"{booking.starts_at:%H:%M}–{booking.ends_at:%H:%M}", line)
            self.assertIn("█", line)
            self.assertIn("·", line)
        self.assertTrue(any("Mole" in line for line in lines))

    def test_a_sheet_holds_what_somebody_needs_who_does_it_by_hand(self) -> None:
        rollout = rollouts.approve(self.context, NewRollout(why="a test"), RHONA)
        plan = next(m.plan for m in rollout.members if m.site == "skerry-light")
        assert plan is not None
        sheet = sheets.sheet(self.context, plan)
        (booking,) = self.context.store.bookings.all(site="skerry-light", state="waiting")
        self.assertEqual(sheet.starts_at, booking.starts_at)
        self.assertEqual((sheet.approved_by, sheet.caches), ("Rhona Vale", ("Lee",)))
        self.assertIn("the gate of Skerry Light Trust’s twin waits for", sheet.gate)
        self.assertEqual(
            [move.end for step in sheet.steps for move in step.moves],
            [m.to for s in self.context.store.plans.get(plan).plan.steps for m in s.moves],
        )
        assert sheet.last_step_at is not None
        self.assertGreater(sheet.last_step_at, booking.starts_at)
