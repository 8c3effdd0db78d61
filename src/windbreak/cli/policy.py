"""``windbreak policy``: the rules of the house."""

from __future__ import annotations

import argparse
from typing import Any

from windbreak.cli.output import a_day, dump, say, table
from windbreak.cli.profile import connect, pick_product, pick_site

_SOAK = "days releases soak, by kind; as major=21 (may be given again)"


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    group = commands.add_parser("policy", help="rules of the house: list, set, drop, show")
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every rule").set_defaults(do=_list)
    command = verbs.add_parser(
        "set",
        parents=[common],
        help="decide how releases are taken",
        epilog="example: windbreak policy set --client 'Ness Ferries' --soak major=21 --why season",
    )
    place = command.add_mutually_exclusive_group()
    place.add_argument("--site", metavar="SITE", help="for one site; the fleet where nothing is")
    place.add_argument("--client", metavar="CLIENT", help="for all sites of a client")
    thing = command.add_mutually_exclusive_group()
    thing.add_argument("--product", metavar="PRODUCT", help="for one product")
    thing.add_argument("--maker", metavar="MAKER", help="for all of a maker's products")
    command.add_argument(
        "--soak", action="append", default=[], type=_soak, metavar="K=N", help=_SOAK
    )
    command.add_argument("--channels", metavar="LIST", help="as stable,preview")
    command.add_argument(
        "--take", choices=("by-itself", "ask", "never"), help="without asking, asked first, never"
    )
    command.add_argument(
        "--jump",
        choices=("patch", "minor", "major"),
        help="with --take by-itself: how far it may go; a major where nothing is said",
    )
    command.add_argument(
        "--watch",
        metavar="LIST",
        help="what is done only while somebody is there: any, major, migration; none",
    )
    command.add_argument("--until", type=a_day, metavar="DAY", help="its last day")
    command.add_argument("--review", type=a_day, metavar="DAY", help="when to look again")
    command.add_argument("--why", required=True, help="the reason")
    command.set_defaults(do=_set)
    command = verbs.add_parser("drop", parents=[common], help="drop a rule")
    command.add_argument("rule", metavar="RULE")
    command.set_defaults(do=_drop)
    command = verbs.add_parser(
        "show", parents=[common], help="what holds on a site, and by which rule"
    )
    command.add_argument("site", metavar="SITE")
    command.set_defaults(do=_show)


def _soak(text: str) -> tuple[str, int]:
    kind, _, days = text.partition("=")
    if kind not in ("major", "minor", "patch", "security") or not days.isdigit():
        raise argparse.ArgumentTypeError(f"{text!r}: write it as major=21")
    return kind, int(days)


def _watched(text: str | None) -> tuple[str, ...] | None:
    if text is None:
        return None
    return () if text == "none" else tuple(text.split(","))


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        rules = windbreak.rules()
    if args.json:
        return dump(rules)
    table(
        ["rule", "for", "says", "until", "review", "by", "why"],
        [
            [r.id, r.where, _says(r), r.until or "", r.review or "", r.author, r.reason]
            for r in rules
        ],
        "there is no rule; everything is asked",
    )
    return None


def _says(rule: Any) -> str:
    parts = [f"soak {kind} {days}" for kind, days in rule.soak.items()]
    parts += [f"channels {', '.join(rule.channels)}"] if rule.channels is not None else []
    far = f", no further than a {rule.jump}" if rule.jump else ""
    parts += [f"take {rule.take}{far}"] if rule.take else []
    parts += [f"watch {', '.join(rule.watch) or 'none'}"] if rule.watch is not None else []
    return "; ".join(parts)


def _set(args: argparse.Namespace) -> None:
    from windbreak.core.values.policy import NewRule

    with connect(args) as windbreak:
        rule = windbreak.set_rule(
            NewRule.model_validate(
                {
                    "site": pick_site(windbreak, args.site) if args.site else None,
                    "client": args.client,
                    "product": pick_product(windbreak, args.product) if args.product else None,
                    "maker": args.maker,
                    "soak": dict(args.soak),
                    "channels": tuple(args.channels.split(",")) if args.channels else None,
                    "take": args.take,
                    "jump": args.jump,
                    "watch": _watched(args.watch),
                    "reason": args.why,
                    "until": args.until,
                    "review": args.review,
                }
            )
        )
    dump(rule) if args.json else say(f"Rule {rule.id} for **{rule.where}**: {_says(rule)}.")


def _drop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.drop_rule(args.rule)
    say("The rule is dropped.")


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        policy = windbreak.policy(pick_site(windbreak, args.site))
    if args.json:
        return dump(policy)
    table(
        ["product", "soak (major/minor/patch/security)", "channels", "take", "by the rule for"],
        [
            [
                value.product,
                "/".join(str(days) for days in value.soak.values()),
                ", ".join(value.channels),
                value.take,
                "; ".join(
                    sorted({*value.soak_by.values(), value.channels_by, value.take_by} - {""})
                ),
            ]
            for value in policy
        ],
        "nothing is known of this site",
    )
    return None
