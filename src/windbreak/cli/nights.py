"""``windbreak calendar``, ``book``, ``pin``, ``book-again``, ``take-out``, ``watch``."""

from __future__ import annotations

import argparse
from typing import Any
from zoneinfo import ZoneInfo

from windbreak.cli.output import (
    a_day,
    dump,
    instant,
    local,
    plain,
    reason_of,
    say,
    state,
    styled,
    table,
)
from windbreak.cli.profile import connect
from windbreak.cli.refusals import Refusal
from windbreak.cli.running import outside_if_meant
from windbreak.wording.words import counted

_TIME = "a time, as 2026-11-24T01:10 (local) or …Z"
_WAIT = 10  # seconds until what could be booked is as things are now
_OUTSIDE = "the time may lie outside of the windows of the site"


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    command = commands.add_parser(
        "book", parents=[common], help="book an approved plan, or --all of them, by a timetable"
    )
    command.add_argument("plan", metavar="PLAN", type=int, nargs="?")
    command.add_argument(
        "--all", action="store_true", help="every approved plan that is not booked"
    )
    command.add_argument("--at", type=instant, metavar="TIME", help=_TIME)
    command.add_argument("--outside-window", action="store_true", help=_OUTSIDE)
    command.set_defaults(do=_book)
    command = commands.add_parser(
        "calendar", parents=[common], help="the nights: what is booked, what could be, what is not"
    )
    command.add_argument("--from", dest="first", type=a_day, metavar="DAY")
    command.add_argument("--days", type=int, default=7, help="how many nights; 7")
    command.add_argument("--zone", default="UTC", help="whose times are told; UTC")
    command.add_argument("--why", action="store_true", help="with each booking’s why then")
    command.add_argument("--approved", action="store_true", help="only what is approved")
    command.set_defaults(do=_calendar)
    command = commands.add_parser(
        "pin", parents=[common], help="keep a booking where it is, or at another time"
    )
    command.add_argument("booking", metavar="BOOKING", type=int)
    command.add_argument("--at", type=instant, metavar="TIME", help=_TIME)
    command.add_argument("--outside-window", action="store_true", help=_OUTSIDE)
    command.set_defaults(do=_pin)
    command = commands.add_parser(
        "book-again", parents=[common], help="let the timetable find a place anew for a booking"
    )
    command.add_argument("booking", metavar="BOOKING", type=int)
    command.set_defaults(do=_again)
    command = commands.add_parser(
        "take-out", parents=[common], help="take a booking out; its plan stays approved"
    )
    command.add_argument("booking", metavar="BOOKING", type=int)
    command.add_argument("--why", default="", help="your reason, for the ledger")
    command.set_defaults(do=_take_out)
    _add_watch(commands, common)


def _add_watch(commands: Any, common: argparse.ArgumentParser) -> None:
    watch = commands.add_parser("watch", help="who is there to watch, and when: list, add, drop")
    verbs = watch.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="the hours that are not over").set_defaults(
        do=_watches
    )
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="say when somebody is there; from then on shops, majors and migrations wait for it",
        epilog="examples: windbreak watch add 'Rhona Vale' --days tue,thu --start 00:00 --end "
        "04:00    windbreak watch add Ives --from 2026-11-28T01:00 --to 2026-11-28T03:00",
    )
    command.add_argument("who", metavar="WHO")
    command.add_argument(
        "--people", type=int, default=1, help="how many jobs are watched at a time"
    )
    command.add_argument("--days", metavar="DAYS", help="mon,tue,…: every week")
    command.add_argument("--start", metavar="HOUR", help="00:00, in --zone")
    command.add_argument("--end", metavar="HOUR", help="at or before --start: the next day's")
    command.add_argument("--zone", default="Europe/London")
    command.add_argument(
        "--from", dest="begins", type=instant, metavar="TIME", help="once, from then"
    )
    command.add_argument("--to", dest="ends", type=instant, metavar="TIME")
    command.set_defaults(do=_add_hours)
    command = verbs.add_parser("drop", parents=[common], help="somebody is not there after all")
    command.add_argument("watch", metavar="WATCH", type=int)
    command.set_defaults(do=_drop_hours)


def _book_all(args: argparse.Namespace) -> int:
    if args.plan is not None or args.at is not None:
        raise Refusal("--all books by the timetable: it goes with no plan and no time", 2)
    with connect(args) as windbreak:
        booked = windbreak.book_all()
    if args.json:
        dump(booked)
    else:
        table(
            ["booking", "when", "site", "plan", "why then"],
            (
                (b.id, local(b.starts_at), b.site, b.plan, reason_of(b.why, b.starts_at))
                for b in booked.bookings
            ),
            "Nothing was there to be booked.",
        )
        for left in booked.left_out:
            styled(f"[red]not booked[/] {plain(left.site)}, plan {left.plan}: {plain(left.text)}")
    return 5 if booked.left_out else 0


def _book(args: argparse.Namespace) -> int | None:
    if args.all:
        return _book_all(args)
    if args.plan is None:
        raise Refusal("say which plan, or --all", 2)
    with connect(args) as windbreak:
        booking = outside_if_meant(
            args, lambda outside: windbreak.book_plan(args.plan, args.at, outside)
        )
    _tell(args, booking)
    return None


def _tell(args: argparse.Namespace, booking: Any) -> None:
    if args.json:
        return dump(booking)
    say(f"Plan {booking.plan} runs on **{booking.site}** at {local(booking.starts_at)}.")
    return say(booking.why)


def _pin(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        booking = outside_if_meant(
            args, lambda outside: windbreak.move_booking(args.booking, args.at, outside)
        )
    _tell(args, booking)


def _again(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        booking = windbreak.book_again(args.booking)
    _tell(args, booking)


def _take_out(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        booking = windbreak.withdraw_booking(args.booking, args.why)
    dump(booking) if args.json else say(
        f"Booking {booking.id} is taken out. Plan {booking.plan} stays approved: "
        f"windbreak book {booking.plan} books it again."
    )


def _calendar(args: argparse.Namespace) -> None:
    from windbreak.cli.picture import LEGEND, night_lines
    from windbreak.cli.rollouts import tell_out

    zone = ZoneInfo(args.zone)
    with connect(args) as windbreak:
        wait = 0 if args.approved else _WAIT
        calendar = windbreak.nights(args.first, args.days, args.zone, not args.approved, wait)
        errands = windbreak.errands()
    if args.json:
        return dump(calendar)
    if args.quiet:
        return print("\n".join(str(b.booking) for b in calendar.bookings if b.booking))
    start, end = calendar.start.astimezone(zone), calendar.end.astimezone(zone)
    say(
        f"**Nights of {start:%a} {start.day} {start:%b} to {end:%a} {end.day} {end:%b}**: "
        f"{counted(calendar.booked, 'site')} in them"
        f"{f', {calendar.unbooked} not booked' if calendar.unbooked else ''}"
        f"{f', {calendar.clear} with nothing to do' if calendar.clear else ''}; times in "
        f"{args.zone}."
    )
    if not calendar.final:
        at = calendar.proposed_at
        since = f"; below it is as of {local(at)}" if at is not None else ""
        say(f"What could be booked is still being worked out{since}.")
    styled(LEGEND)
    print()
    for line in night_lines(calendar, zone):
        styled(line)
    if args.why:
        for booking in calendar.bookings:
            why = reason_of(booking.why, booking.starts_at)
            head = f"[bold]{plain(booking.label)}[/], {local(booking.starts_at)}"
            styled(f"{head}: {plain(why)}.")
            due = f" It has a date: {booking.due_for}." if booking.due_for else ""
            watched = f" Watched: {booking.watched}." if booking.watched else ""
            say(f"  {booking.reckoned}{due}{watched}")
        print()
    if calendar.left_out or calendar.stays_out:
        say("**Not booked, and why**")
        for left in calendar.left_out:
            styled(f"{state('waiting')}  {plain(', '.join(left.labels))}")
            say(f"  {left.text}")
        tell_out(calendar.stays_out)
    dated = [errand for errand in errands if errand.due is not None]
    if dated:
        print()
        table(
            ["errand", "due", "site", "what"],
            ((e.id, f"{e.due:%a %d %b}", e.site, e.text) for e in dated),
            "",
        )
    return None


def _watches(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        every = windbreak.watch()
    if args.json:
        return dump(every)
    table(
        ["watch", "who", "when", "jobs at a time"],
        ((w.id, w.who, _when(w), w.people) for w in every),
        "Nobody’s hours are entered, so that nothing waits for somebody to watch it.",
    )
    return None


def _when(hours: Any) -> str:
    if hours.from_ is not None:
        return f"{local(hours.from_)} to {local(hours.to)}"
    return f"{', '.join(hours.days)} {hours.start} to {hours.end}, {hours.zone}"


def _add_hours(args: argparse.Namespace) -> None:
    from windbreak.core.values.watching import NewWatch

    new = NewWatch.model_validate(
        {
            "who": args.who,
            "people": args.people,
            "from": args.begins,
            "to": args.ends,
            "days": tuple(day.strip() for day in args.days.split(",")) if args.days else (),
            "start": args.start,
            "end": args.end,
            "zone": args.zone,
        }
    )
    with connect(args) as windbreak:
        hours = windbreak.add_watch(new)
    dump(hours) if args.json else say(
        f"**{hours.who}** watches: {_when(hours)} (watch {hours.id})."
    )


def _drop_hours(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.drop_watch(args.watch)
    say(f"Watch {args.watch} is dropped.")
