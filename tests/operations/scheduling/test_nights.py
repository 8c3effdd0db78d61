"""The live night book, and bookings by its timetable."""

import json
from datetime import UTC, datetime, timedelta

from tests.operations.within import RHONA, WithContext
from windbreak.core.scheduling.openings import on_grid
from windbreak.core.scheduling.reading import read_book
from windbreak.core.values.bookings import Book
from windbreak.core.values.sites import Window
from windbreak.operations.scheduling import bookings, nights
from windbreak.operations.sites import sites

SITES = ("skerry-light", "seapink-florists")


class Nights(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        hour = (datetime.now(UTC).hour + 6) % 24
        self.opens = f"{hour:02}:00"
        window = (Window(start=self.opens, end=f"{(hour + 3) % 24:02}:00"),)
        for site in SITES:
            self.site(site)
            self.context.store.sites.change(site, host="mole")
            sites.set_windows(self.context, site, window, "UTC", RHONA)
        mole = self.context.store.hosts.get("mole")
        self.context.store.hosts.put(mole.model_copy(update={"at_once": 1}))
        self.plans = [self.approved(site) for site in SITES]

    def test_all_are_booked_at_once_and_a_host_bears_no_more_than_it_may(self) -> None:
        booked = bookings.book_all(self.context, RHONA)
        self.assertEqual(booked.left_out, ())
        first, second = booked.bookings
        self.assertEqual(f"{first.starts_at:%H:%M}", self.opens)
        plan = self.context.store.plans.get(first.plan)
        ends = first.starts_at + timedelta(minutes=nights.reckon_plan(self.context, plan).minutes)
        self.assertEqual(second.starts_at, on_grid(ends))
        label = self.context.store.sites.get(first.site).label
        self.assertIn(f"Mole bears 1 at once, and {label} is done {ends:%H:%M}", second.why)
        self.assertEqual(bookings.book_all(self.context, RHONA).bookings, ())

    def test_what_is_booked_already_stays_and_the_next_one_goes_around_it(self) -> None:
        first = bookings.book(self.context, self.plans[0].id, Book(), RHONA)
        second = bookings.book(self.context, self.plans[1].id, Book(), RHONA)
        self.assertEqual(self.context.store.bookings.get(first.id).starts_at, first.starts_at)
        self.assertGreater(second.starts_at, first.starts_at)
        self.assertIn("bears 1 at once", second.why)

    def test_a_time_that_a_person_gave_is_kept_free_though_no_window_is_open(self) -> None:
        at = on_grid(self.context.clock().replace(microsecond=0) + timedelta(hours=2))
        by_hand = bookings.book(
            self.context, self.plans[0].id, Book(at=at, outside_window=True), RHONA
        )
        self.assertTrue(by_hand.pinned)
        book = nights.live_book(self.context).book
        (job,) = book.jobs
        self.assertEqual((job.was, job.pinned), (at, True))
        read_book(book.model_dump_json())  # it stands where it may

    def test_what_is_booked_by_hand_beyond_the_book_is_left_alone(self) -> None:
        at = on_grid(self.context.clock().replace(microsecond=0) + timedelta(days=60))
        far = Book(at=at, outside_window=True)
        booking = bookings.book(self.context, self.plans[0].id, far, RHONA)
        bookings.book_all(self.context, RHONA)
        kept = self.context.store.bookings.get(booking.id)
        self.assertEqual((kept.state, kept.starts_at), ("waiting", at))

    def test_what_has_no_place_says_why_and_what_would_help(self) -> None:
        short = (Window(start=self.opens, end=f"{self.opens[:2]}:05"),)
        sites.set_windows(self.context, SITES[1], short, "UTC", RHONA)
        booked = bookings.book_all(self.context, RHONA)
        self.assertEqual([b.site for b in booked.bookings], [SITES[0]])
        (left,) = booked.left_out
        self.assertEqual((left.plan, left.site), (self.plans[1].id, SITES[1]))
        self.assertIn("only 5 min are left of an opening", left.text)
        self.assertIn("It would help to make the opening of", left.text)

    def test_the_live_book_is_written_as_it_is_read(self) -> None:
        bookings.book_all(self.context, RHONA)
        book = nights.live_book(self.context).book
        again = read_book(json.dumps(json.loads(book.model_dump_json())))
        self.assertEqual(again, book)
        self.assertEqual({job.site for job in book.jobs}, set(SITES))
        self.assertTrue(all(job.was is not None for job in book.jobs))
