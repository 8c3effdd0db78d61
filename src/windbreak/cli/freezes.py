"""``windbreak freeze``: stretches of time in which sites are left alone."""

from __future__ import annotations

import argparse
from typing import Any

from windbreak.cli.output import dump, instant, local, plain, say, styled, table
from windbreak.cli.profile import connect, pick_site


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    group = commands.add_parser("freeze", help="when sites are left alone: list, add, lift")
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="those that are not over").set_defaults(
        do=_list
    )
    one = verbs.add_parser(
        "add",
        parents=[common],
        help="leave sites alone for a while; bookings go around it",
        epilog="example: windbreak freeze add 2026-12-18T18:00 2027-01-04T08:00 "
        "--client 'Ness Ferries' --why 'the season'",
    )
    one.add_argument("start", metavar="FROM", type=instant, help="2026-12-18T18:00 (local) or …Z")
    one.add_argument("end", metavar="TO", type=instant)
    place = one.add_mutually_exclusive_group()
    place.add_argument("--site", metavar="SITE", help="for one site; the fleet where nothing is")
    place.add_argument("--host", metavar="HOST", help="for all sites on a host")
    place.add_argument("--client", metavar="CLIENT", help="for all sites of a client")
    one.add_argument("--why", required=True, help="the reason")
    one.set_defaults(do=_add)
    one = verbs.add_parser("lift", parents=[common], help="let sites be worked on again")
    one.add_argument("freeze", metavar="FREEZE", type=int)
    one.set_defaults(do=_lift)


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
        for text in frozen.moved:
            say(f"  moved: {text}")
        for text in frozen.out:
            styled(f"  [red]withdrawn[/]: {plain(text)}")
    return 5 if frozen.out else 0


def _lift(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.lift_freeze(args.freeze)
    say(f"Freeze {args.freeze} is lifted.")
