"""``windbreak lockstep`` and ``windbreak clash``: what must match, what does not go together."""

from __future__ import annotations

import argparse
from typing import Any

from windbreak.cli.output import dump, say, table
from windbreak.cli.profile import connect, pick_product


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    group = commands.add_parser(
        "lockstep", help="products whose versions must match: list, set, drop"
    )
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="every group")
    command.set_defaults(do=_list_locksteps)
    command = verbs.add_parser(
        "set",
        parents=[common],
        help="say that products must match",
        epilog="example: windbreak lockstep set capstan capstan-blocks --why 'one draws the other'",
    )
    command.add_argument("products", metavar="PRODUCT", nargs="+", help="two or more")
    command.add_argument(
        "--match",
        choices=("exact", "minor", "major"),
        default="exact",
        help="exactly (as usual), in the first two numbers, in the first",
    )
    command.add_argument("--why", required=True, help="the reason")
    command.set_defaults(do=_set_lockstep)
    command = verbs.add_parser("drop", parents=[common], help="they need match no longer")
    command.add_argument("lockstep", metavar="LOCKSTEP")
    command.set_defaults(do=_drop_lockstep)

    group = commands.add_parser(
        "clash", help="products known not to work together: list, add, drop"
    )
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="every pair")
    command.set_defaults(do=_list_clashes)
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="say that two products don't work together",
        epilog="example: windbreak clash add lee '>=3' sextant '<2.3' --why 'stale searches'",
    )
    command.add_argument("a", metavar="PRODUCT")
    command.add_argument("a_range", metavar="RANGE", help="its versions; * for all of them")
    command.add_argument("b", metavar="PRODUCT")
    command.add_argument("b_range", metavar="RANGE")
    command.add_argument("--why", required=True, help="what happens")
    command.set_defaults(do=_add_clash)
    command = verbs.add_parser("drop", parents=[common], help="they clash no longer")
    command.add_argument("clash", metavar="CLASH")
    command.set_defaults(do=_drop_clash)


def _list_locksteps(args: argparse.Namespace) -> None:
    from windbreak.wording.words import match_in_words

    with connect(args) as windbreak:
        locksteps = windbreak.locksteps()
    if args.json:
        return dump(locksteps)
    table(
        ["lockstep", "products", "must", "by", "why"],
        [
            [g.id, ", ".join(g.products), match_in_words(g.match), g.author, g.reason]
            for g in locksteps
        ],
        "nothing has to match but what releases say",
    )
    return None


def _set_lockstep(args: argparse.Namespace) -> None:
    from windbreak.core.values.ties import NewLockstep
    from windbreak.wording.words import match_in_words

    with connect(args) as windbreak:
        products = tuple(pick_product(windbreak, p) for p in args.products)
        made = windbreak.set_lockstep(
            NewLockstep(products=products, match=args.match, reason=args.why)
        )
    names = ", ".join(made.products)
    line = f"**{names}** must {match_in_words(made.match)}: lockstep {made.id}."
    dump(made) if args.json else say(line)


def _drop_lockstep(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.drop_lockstep(args.lockstep)
    say("They need match no longer.")


def _list_clashes(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        clashes = windbreak.clashes()
    if args.json:
        return dump(clashes)
    table(
        ["clash", "one", "other", "by", "what happens"],
        [
            [c.id, f"{c.a.product} {c.a.range}", f"{c.b.product} {c.b.range}", c.author, c.reason]
            for c in clashes
        ],
        "no clash is known",
    )
    return None


def _add_clash(args: argparse.Namespace) -> None:
    from windbreak.core.values.ties import ClashSide, NewClash
    from windbreak.wording.words import versions_in_words

    with connect(args) as windbreak:
        a, b = pick_product(windbreak, args.a), pick_product(windbreak, args.b)
        made = windbreak.add_clash(
            NewClash(
                a=ClashSide(product=a, range=args.a_range),
                b=ClashSide(product=b, range=args.b_range),
                reason=args.why,
            )
        )
    here, there = versions_in_words(args.a_range), versions_in_words(args.b_range)
    line = f"**{a}** ({here}) and **{b}** ({there}) clash: clash {made.id}."
    dump(made) if args.json else say(line)


def _drop_clash(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.drop_clash(args.clash)
    say("They clash no longer.")
