"""The kept timetable after any acts in any order: what is booked may stand where it stands."""

import random
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from itertools import pairwise

from tests.operations.within import RHONA, WithContext
from windbreak.core.scheduling.openings import on_grid
from windbreak.core.values.bookings import Book, Booking
from windbreak.core.values.freezes import NewFreeze
from windbreak.operations.errors import Refused
from windbreak.operations.scheduling import bookings, freezes, timetables

SITES = ("skerry-light", "tarnsey-harbour", "whinchat-radio", "seapink-florists")
SEEDS, ACTS = 6, 40


class AnyOrder(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for site in SITES:
            self.site(site)
        mole = self.context.store.hosts.get("mole")
        self.context.store.hosts.put(mole.model_copy(update={"at_once": 1}))

    def test_each_booking_lies_in_a_window_outside_of_freezes_and_on_a_host_that_bears_it(
        self,
    ) -> None:
        for seed in range(SEEDS):
            self.later = timedelta()
            dice = random.Random(seed)
            for number in range(ACTS):
                act = dice.choice(self.acts())
                with self.subTest(seed=seed, number=number, act=act.__name__):
                    try:
                        act(dice)
                    except Refused as error:
                        self.assertTrue(str(error))
                    bookings.due(self.context)
                    timetables.keep(self.context)
                    self.stands()
                    again = self.waiting()
                    timetables.keep(self.context)
                    self.assertEqual(self.waiting(), again)  # nothing moves that need not
            for freeze in freezes.listed(self.context):
                freezes.lift(self.context, freeze.id, RHONA)

    def acts(self) -> list[Callable[[random.Random], object]]:
        return [
            self.book,
            self.book,
            self.freeze,
            self.lift,
            self.pin,
            self.again,
            self.out,
            self.pass_,
        ]

    def waiting(self) -> list[Booking]:
        return self.context.store.bookings.all(state="waiting")

    def book(self, dice: random.Random) -> None:
        booked = {booking.site for booking in self.waiting()}
        left = [site for site in SITES if site not in booked]
        if left:
            bookings.book(self.context, self.approved(dice.choice(left)).id, Book(), RHONA)

    def freeze(self, dice: random.Random) -> None:
        start = self.context.clock() + timedelta(hours=dice.randint(0, 60))
        where = dice.choice([{"site": dice.choice(SITES)}, {"host": "mole"}, {}])
        end = start + timedelta(hours=dice.randint(1, 40))
        new = NewFreeze(from_=start, to=end, reason="dice", **where)
        bookings.freeze(self.context, new, RHONA)

    def lift(self, dice: random.Random) -> None:
        some = freezes.listed(self.context)
        if some:
            freezes.lift(self.context, dice.choice(some).id, RHONA)

    def pin(self, dice: random.Random) -> None:
        if self.waiting():
            booking = dice.choice(self.waiting())
            at = on_grid(self.context.clock().replace(microsecond=0))
            at += timedelta(minutes=5 * dice.randint(1, 500))
            how = Book(at=at, outside_window=dice.random() < 0.5)
            bookings.move(self.context, booking.id, how, RHONA)

    def again(self, dice: random.Random) -> None:
        if self.waiting():
            bookings.again(self.context, dice.choice(self.waiting()).id, RHONA)

    def out(self, dice: random.Random) -> None:
        if self.waiting():
            bookings.withdraw(self.context, dice.choice(self.waiting()).id, RHONA)

    def pass_(self, dice: random.Random) -> None:
        self.later += timedelta(hours=dice.randint(1, 9))

    def stands(self) -> None:
        """Raise AssertionError where a booking may not stand where it does."""
        now = datetime.now(UTC) + self.later
        plans = [booking.plan for booking in self.waiting()]
        self.assertEqual(len(plans), len(set(plans)))
        spans = []
        for booking in self.waiting():
            plan = self.context.store.plans.get(booking.plan)
            self.assertEqual((plan.state, plan.to_book), ("approved", True))
            site = self.context.store.sites.get(booking.site)
            ends = booking.starts_at + timedelta(minutes=booking.minutes)
            back = ends + timedelta(minutes=booking.back)
            if booking.starts_at >= now:
                held = freezes.between(self.context, site, booking.starts_at, back)
                self.assertIsNone(held)
            if not booking.pinned:
                self.assertTrue(bookings.fits(site, booking.starts_at, back), booking)
                spans.append((booking.starts_at, ends))
        for (_, ends), (begins, _) in pairwise(sorted(spans)):
            self.assertLessEqual(ends, begins)
        for left in timetables.left_out(self.context):
            self.assertTrue(left["text"])
