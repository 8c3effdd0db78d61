"""``windbreak freeze``: stretches of time in which sites are left alone."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from windbreak.cli.output import age, dump, instant, local, plain, say, styled, table
from windbreak.cli.profile import connect, pick_site
from windbreak.wording.words import counted

if TYPE_CHECKING:
    from windbreak.core.values.bookings import Kept
    from windbreak.core.values.freezes import CalendarRead


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    group = commands.add_parser(
        "freeze", help="when sites are left alone: list, add, lift, import, read, export, …"
    )
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="those that are not over").set_defaults(
        do=_list
    )
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="leave sites alone for a while; bookings go around it",
        epilog="example: windbreak freeze add 2026-12-18T18:00 2027-01-04T08:00 "
        "--client 'Ness Ferries' --why 'the season'",
    )
    command.add_argument(
        "start", metavar="FROM", type=instant, help="2026-12-18T18:00 (local) or …Z"
    )
    command.add_argument("end", metavar="TO", type=instant)
    place = command.add_mutually_exclusive_group()
    place.add_argument("--site", metavar="SITE", help="for one site; the fleet where nothing is")
    place.add_argument("--host", metavar="HOST", help="for all sites on a host")
    place.add_argument("--client", metavar="CLIENT", help="for all sites of a client")
    command.add_argument("--why", required=True, help="the reason")
    command.set_defaults(do=_add)
    command = verbs.add_parser(
        "import",
        parents=[common],
        help="take the events of a calendar (iCalendar) for freezes: a file, or an address that is "
        "read again every six hours",
        epilog="example: windbreak freeze import ness-season https://ness.example/season.ics "
        "--client 'Ness Ferries'",
    )
    command.add_argument("name", metavar="NAME", help="what it is to be called")
    command.add_argument("source", metavar="FILE|ADDRESS")
    place = command.add_mutually_exclusive_group()
    place.add_argument("--site", metavar="SITE", help="for one site; the fleet where nothing is")
    place.add_argument("--host", metavar="HOST", help="for all sites on a host")
    place.add_argument("--client", metavar="CLIENT", help="for all sites of a client")
    command.add_argument(
        "--zone", default="Europe/London", help="of days and of times without a zone of their own"
    )
    command.set_defaults(do=_import)
    command = verbs.add_parser("calendars", parents=[common], help="the calendars of freezes")
    command.set_defaults(do=_calendars)
    for verb, act, words in (
        ("read", _read, "read a subscribed calendar again now"),
        ("forget", _forget, "forget a calendar, and lift what it froze"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("name", metavar="NAME")
        command.set_defaults(do=act)
    command = verbs.add_parser("export", parents=[common], help="the freezes as iCalendar")
    command.add_argument("--to", metavar="FILE", help="written there; else printed")
    command.set_defaults(do=_export)
    command = verbs.add_parser("lift", parents=[common], help="let sites be worked on again")
    command.add_argument("freeze", metavar="FREEZE", type=int)
    command.set_defaults(do=_lift)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        freezes = windbreak.freezes()
    if args.json:
        return dump(freezes)
    table(
        ["freeze", "from", "to", "for", "why"],
        ((f.id, local(f.from_), local(f.to), f.where, f.reason) for f in freezes),
        "Nothing is frozen.",
    )
    return None


def _add(args: argparse.Namespace) -> int:
    from windbreak.core.values.freezes import NewFreeze

    with connect(args) as windbreak:
        new = NewFreeze(
            from_=args.start,
            to=args.end,
            site=pick_site(windbreak, args.site) if args.site else None,
            host=args.host,
            client=args.client,
            reason=args.why,
        )
        frozen = windbreak.add_freeze(new)
    if args.json:
        dump(frozen)
    else:
        say(
            f"Freeze {frozen.freeze.id}: **{frozen.freeze.where}** is left alone from "
            f"{local(frozen.freeze.from_)} to {local(frozen.freeze.to)}."
        )
        _tell_kept(frozen)
    return 5 if frozen.out else 0


def _tell_kept(kept: Kept) -> None:
    """What came of the bookings."""
    for text in kept.moved:
        say(f"  moved: {text}")
    for text in kept.placed:
        say(f"  booked: {text}")
    for text in kept.out:
        styled(f"  [red]withdrawn[/]: {plain(text)}")


def _import(args: argparse.Namespace) -> int:
    from windbreak.core.values.freezes import NewFreezeCalendar

    subscribed = args.source.startswith(("http://", "https://"))
    text = None if subscribed else Path(args.source).read_text()
    with connect(args) as windbreak:
        new = NewFreezeCalendar(
            id=args.name,
            url=args.source if subscribed else None,
            text=text,
            site=pick_site(windbreak, args.site) if args.site else None,
            host=args.host,
            client=args.client,
            zone=args.zone,
        )
        read = windbreak.add_freeze_calendar(new)
    return _tell_read(args, read)


def _read(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        read = windbreak.read_freeze_calendar(args.name)
    return _tell_read(args, read)


def _tell_read(args: argparse.Namespace, read: CalendarRead) -> int:
    if args.json:
        dump(read)
    else:
        say(f"**{read.calendar.id}** is read: it tells of {counted(read.freezes, 'freeze')}.")
        _tell_kept(read)
    return 5 if read.out else 0


def _calendars(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        every = windbreak.freeze_calendars()
    if args.json:
        return dump(every)
    table(
        ["calendar", "for", "where it comes from", "read", "fault"],
        (
            (
                c.id,
                c.site or c.host or c.client or "the fleet",
                c.url or "a file",
                age(c.read_at),
                c.fault,
            )
            for c in every
        ),
        "No calendar tells of freezes.",
    )
    return None


def _forget(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.drop_freeze_calendar(args.name)
    say(f"{args.name} is forgotten, and what it froze is lifted.")


def _export(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        text = windbreak.freezes_ics()
    if args.to is None:
        return print(text, end="")
    Path(args.to).write_text(text, newline="")
    return say(f"Written to {args.to}.")


def _lift(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.lift_freeze(args.freeze)
    say(f"Freeze {args.freeze} is lifted.")
