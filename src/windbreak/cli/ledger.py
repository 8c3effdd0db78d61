"""``windbreak ledger`` and ``report``: the record, and what a client is told of a month."""

from __future__ import annotations

import argparse
from datetime import date, datetime, time
from typing import Any

from windbreak.cli.output import a_day, dump, local, table
from windbreak.cli.profile import connect


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    command = commands.add_parser("ledger", parents=[common], help="what was decided and done")
    command.add_argument("subject", nargs="?", help="a site, product, feed or licence, by id")
    command.add_argument("--client", metavar="CLIENT", help="a client's sites")
    command.add_argument("--by", metavar="NAME", help="who decided or did it")
    command.add_argument(
        "--part", choices=("decisions", "acts"), help="what people did, or the service by itself"
    )
    command.add_argument("--since", type=a_day, metavar="DAY", help="from this day on")
    command.add_argument("--until", type=a_day, metavar="DAY", help="up to this day, it included")
    command.add_argument("--words", default="", metavar="TEXT", help="in the line, or in a name")
    command.add_argument("--wrong", action="store_true", help="runs that did not end well")
    command.add_argument("--limit", type=int, default=30, help="how many, the newest first")
    command.set_defaults(do=_ledger)
    command = commands.add_parser(
        "report", parents=[common], help="what a client is told of a month, as Markdown"
    )
    command.add_argument("client", metavar="CLIENT", help="by name")
    command.add_argument("month", metavar="MONTH", help="as 2026-11")
    command.add_argument("--looks", action="store_true", help="also what was seen after each step")
    command.set_defaults(do=_report)


def _ledger(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        lines = windbreak.ledger(
            args.subject,
            args.limit,
            client=args.client,
            person=args.by,
            part=args.part,
            since=_begin(args.since),
            until=_begin(args.until, days=1),
            words=args.words,
            wrong=args.wrong,
        )
    if args.json:
        return dump(lines)
    if args.quiet:
        return print("\n".join(str(line.id) for line in lines))
    narrowed = args.subject or args.client or args.by or args.part or args.since or args.words
    table(
        ["when", "who", "what", "why", "result"],
        ((local(line.at), line.who, line.what, line.why, line.result) for line in lines),
        "Nothing of that is in the ledger."
        if narrowed or args.wrong or args.until
        else "Nothing has been decided or done yet.",
    )
    return None


def _begin(day: date | None, days: int = 0) -> datetime | None:
    """When a day begins here, or one some days after it."""
    if day is None:
        return None
    return datetime.combine(date.fromordinal(day.toordinal() + days), time()).astimezone()


def _report(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        report = windbreak.report(args.client, args.month, args.looks)
    if args.json:
        return dump(report)
    if args.quiet:
        return print("\n".join(site.site for site in report.sites))
    return print(report.text, end="")
