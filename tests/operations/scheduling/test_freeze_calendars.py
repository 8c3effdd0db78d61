"""Freezes out of calendars: read, read again, lifted, and what can't be read."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock

from icalendar import Calendar

from tests.operations.within import RHONA, WithContext, look_again
from windbreak.core.values.bookings import Book
from windbreak.core.values.freezes import NewFreezeCalendar
from windbreak.operations.errors import Refused
from windbreak.operations.scheduling import bookings, freeze_calendars, freezes, occurrences

SITE = "skerry-light"
HEAD = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n"


def event(uid: str, lines: str) -> str:
    return f"BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20260101T000000Z\r\n{lines}\r\nEND:VEVENT\r\n"


def calendar(*events: str) -> str:
    return f"{HEAD}{''.join(events)}END:VCALENDAR\r\n"


def day(after: int) -> str:
    return f"{datetime.now(UTC) + timedelta(days=after):%Y%m%d}"


def days(uid: str, first: int, after: int, summary: str, more: str = "") -> str:
    lines = f"DTSTART;VALUE=DATE:{day(first)}\r\nDTEND;VALUE=DATE:{day(after)}\r\nSUMMARY:{summary}"
    return event(uid, f"{lines}{more}")


@contextmanager
def served(bodies: list[str]) -> Iterator[str]:
    """An address that answers with the first body, then with the next ones; "" is an error."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            body = bodies.pop(0) if len(bodies) > 1 else bodies[0]
            self.send_response(200 if body else 500)
            self.end_headers()
            self.wfile.write(body.encode())

        def log_message(self, *args: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/season.ics"
    finally:
        server.shutdown()
        server.server_close()


class Calendars(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)

    def add(self, text: str, **how: object) -> int:
        new = NewFreezeCalendar.model_validate({"id": "season", "text": text, **how})
        return freeze_calendars.add(self.context, new, RHONA).freezes

    def test_days_are_those_of_its_zone_and_what_is_cancelled_or_free_is_none(self) -> None:
        text = calendar(
            days("a", 10, 12, "The season"),
            days("b", 20, 21, "Off", "\r\nSTATUS:CANCELLED"),
            days("c", 20, 21, "Free", "\r\nTRANSP:TRANSPARENT"),
        )
        self.assertEqual(self.add(text, zone="Europe/Helsinki"), 1)
        (freeze,) = freezes.listed(self.context)
        self.assertIn(freeze.from_.astimezone(UTC).hour, (21, 22))  # midnight in Helsinki
        self.assertEqual((freeze.reason, freeze.calendar), ("The season", "season"))
        self.assertAlmostEqual(
            freeze.to - freeze.from_, timedelta(days=2), delta=timedelta(hours=1)
        )

    def test_what_recurs_is_a_freeze_each_time(self) -> None:
        start = f"DTSTART:{day(3)}T200000Z\r\nDTEND:{day(3)}T220000Z\r\nSUMMARY:Sale"
        rule = "\r\nRRULE:FREQ=WEEKLY;COUNT=4"
        self.assertEqual(self.add(calendar(event("a", f"{start}{rule}"))), 4)
        first, second, *_ = freezes.listed(self.context)
        self.assertEqual(second.from_ - first.from_, timedelta(days=7))

    def test_what_recurs_keeps_its_hour_over_a_change_of_clocks_its_exceptions_and_its_end(
        self,
    ) -> None:
        lines = (
            "DTSTART;TZID=Europe/London:20260315T200000\r\nDTEND;TZID=Europe/London:20260315T220000"
            "\r\nSUMMARY:Sale\r\nRRULE:FREQ=WEEKLY;UNTIL=20260412T235959Z"
            "\r\nEXDATE;TZID=Europe/London:20260322T200000"
        )
        anew = (
            "RECURRENCE-ID;TZID=Europe/London:20260405T200000\r\nDTSTART:20260406T100000Z"
            "\r\nDTEND:20260406T110000Z\r\nSUMMARY:Sale, moved"
        )
        self.context.clock = lambda: datetime(2026, 3, 1, tzinfo=UTC)
        self.assertEqual(self.add(calendar(event("a", lines), event("a", anew))), 4)
        begin = [f.from_.astimezone(UTC) for f in freezes.listed(self.context)]
        self.assertEqual(
            [f"{at:%d %b %H:%M}" for at in begin],
            ["15 Mar 20:00", "29 Mar 19:00", "06 Apr 10:00", "12 Apr 19:00"],
        )

    def test_it_is_read_again_and_only_what_changed_changes(self) -> None:
        self.feeds()
        plan = self.approved(SITE)
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        one, two = days("a", 40, 42, "Fair"), days("b", -1, 20, "The season")
        with served([calendar(one), calendar(one, two), "", calendar(one)]) as url:
            new = NewFreezeCalendar(id="season", url=url, client="Skerry Light Trust")
            self.assertEqual(freeze_calendars.add(self.context, new, RHONA).moved, ())
            (fair,) = freezes.listed(self.context)
            freeze_calendars.read_due(self.context)
            self.assertEqual(len(freezes.listed(self.context)), 1)  # it is not due yet
            with mock.patch.object(freeze_calendars, "EVERY", timedelta()):
                freeze_calendars.read_due(self.context)
            self.assertEqual(
                {f.reason for f in freezes.listed(self.context)}, {"Fair", "The season"}
            )
            self.assertIn(fair.id, [f.id for f in freezes.listed(self.context)])
            moved = self.context.store.bookings.get(booking.id)
            self.assertGreater(moved.starts_at, self.context.clock() + timedelta(days=18))
            self.assertIn("frozen (The season)", moved.why)
            with self.assertRaises(Refused):  # it answers 500: what stood stands, and that is found
                freeze_calendars.read(self.context, "season")
            self.assertEqual(len(freezes.listed(self.context)), 2)
            found = {f.id: f for f in look_again(self.context)}
            self.assertIn("can’t be read", found["calendar:season"].headline)
            freeze_calendars.read(self.context, "season")
            self.assertEqual([f.reason for f in freezes.listed(self.context)], ["Fair"])
            self.assertNotIn("calendar:season", {f.id for f in look_again(self.context)})
        freeze_calendars.drop(self.context, "season", RHONA)
        self.assertEqual(freezes.listed(self.context), [])

    def test_a_rule_that_comes_to_no_end_is_given_up_and_changes_nothing(self) -> None:
        for often in ("SECONDLY", "HOURLY"):
            rule = f"RRULE:FREQ={often};BYMONTH=2;BYMONTHDAY=30"  # no year has such a day
            endless = event("a", f"DTSTART:{day(1)}T200000Z\r\nDURATION:PT1H\r\n{rule}")
            shorter = mock.patch.object(occurrences, "SECONDS", 2)
            with shorter, self.assertRaises(Refused) as caught:
                self.add(calendar(endless))
            self.assertEqual(caught.exception.code, "bad-calendar")
            self.assertIn("could not be counted within 2 s", str(caught.exception))
        self.assertEqual(freeze_calendars.listed(self.context), [])

    def test_what_is_no_calendar_is_refused_and_nothing_is_half_done(self) -> None:
        late = event("a", f"DTSTART:{day(3)}T2000\r\nDTEND:nonsense\r\nSUMMARY:x")
        for text in ("", "hello", HEAD, calendar(late)):
            with self.subTest(text=text[-40:]), self.assertRaises(Refused) as caught:
                self.add(text)
            self.assertEqual(caught.exception.code, "bad-calendar")
        self.assertEqual(freeze_calendars.listed(self.context), [])
        many = event(
            "a",
            f"DTSTART:{day(1)}T200000Z\r\nDTEND:{day(1)}T200100Z\r\nRRULE:FREQ=MINUTELY;INTERVAL=5",
        )
        with self.assertRaises(Refused) as caught:
            self.add(calendar(many))
        self.assertIn("1000 are the most", str(caught.exception))
        with self.assertRaises(ValueError):
            NewFreezeCalendar(id="x", url="http://a.example/x", text="y")

    def test_what_is_frozen_goes_out_as_it_came_in(self) -> None:
        self.add(calendar(days("a", 10, 12, "The season")), site=SITE)
        text = freeze_calendars.calendar_of_freezes(self.context).decode()
        (event_,) = Calendar.from_ical(text).walk("VEVENT")
        (freeze,) = freezes.listed(self.context)
        self.assertEqual((event_.start, event_.end), (freeze.from_, freeze.to))
        self.assertEqual(event_["summary"], "The season")
