"""The nights on which the clocks change, in three zones: bookings lie in windows that are there."""

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

from tests.operations.within import RHONA, WithContext
from windbreak.core.values.bookings import Book
from windbreak.core.values.sites import Window
from windbreak.operations.scheduling import bookings
from windbreak.operations.sites import sites

# By zone: the day before its clocks go forward, and back; all change at another instant.
NIGHTS = {
    "Europe/London": (datetime(2027, 3, 27, 12), datetime(2027, 10, 30, 12)),
    "America/Halifax": (datetime(2027, 3, 13, 12), datetime(2027, 11, 6, 12)),
    "Australia/Adelaide": (datetime(2027, 10, 2, 12), datetime(2027, 4, 3, 12)),
}
SITES = ("skerry-light", "seapink-florists")


class ClockChanges(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for site in SITES:
            self.site(site)
        mole = self.context.store.hosts.get("mole")
        self.context.store.hosts.put(mole.model_copy(update={"at_once": 1}))
        self.plans = [self.approved(site).id for site in SITES]

    def booked(self, zone: str, eve: datetime, window: Window) -> list[tuple[datetime, datetime]]:
        """What is booked on an eve for sites of a zone with a window: from when to when, each with
        its way back.
        """
        now = eve.replace(tzinfo=ZoneInfo(zone)).astimezone(UTC)
        self.context.clock = lambda: now
        for site in SITES:
            sites.set_windows(self.context, site, (window,), zone, RHONA)
        found = []
        for plan in self.plans:
            booking = bookings.book(self.context, plan, Book(), RHONA)
            length = timedelta(minutes=booking.minutes + booking.back)
            found.append((booking.starts_at, booking.starts_at + length))
        for booking in self.context.store.bookings.all(state="waiting"):
            bookings.withdraw(self.context, booking.id, RHONA)
        return sorted(found)

    def test_a_window_is_as_long_as_it_really_is(self) -> None:
        for zone, (forward, back) in NIGHTS.items():
            tz = ZoneInfo(zone)
            for eve, hours in ((forward, 2), (back, 4)):
                with self.subTest(zone=zone, eve=eve):
                    spans = self.booked(zone, eve, Window(start="01:00", end="04:00"))
                    day = (eve + timedelta(days=1)).date()
                    for start, end in spans:
                        self.assertEqual(start.astimezone(tz).date(), day)
                        self.assertLessEqual(
                            end, datetime(day.year, day.month, day.day, 4, tzinfo=tz)
                        )
                    opens = spans[0][0]
                    closes = datetime(day.year, day.month, day.day, 4, tzinfo=tz).astimezone(UTC)
                    self.assertEqual(closes - opens, timedelta(hours=hours))
                    self.assertTrue(all(a[0] < b[0] for a, b in pairwise(spans)))

    def test_in_the_hour_that_is_skipped_nothing_is_booked(self) -> None:
        for zone, (forward, _) in NIGHTS.items():
            tz = ZoneInfo(zone)
            skipped = (
                Window(start="01:00", end="02:00")
                if zone == "Europe/London"
                else Window(start="02:00", end="03:00")
            )
            with self.subTest(zone=zone):
                spans = self.booked(zone, forward, skipped)
                after = (forward + timedelta(days=2)).date()
                self.assertTrue(all(s.astimezone(tz).date() >= after for s, _ in spans), spans)
