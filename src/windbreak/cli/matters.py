"""``windbreak matter``: runs that ended badly, what is owed to their sites, and the ways out."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from windbreak.cli.output import ask, dump, local, plain, say, styled, table, takes, why
from windbreak.cli.profile import connect
from windbreak.cli.refusals import Refusal

if TYPE_CHECKING:
    from windbreak.core.values.matters import Debt, WayOut
    from windbreak.documents.runs import Fact, MatterStory

_ACTS = (
    *("put-back-step", "put-back-all", "restore", "accept"),
    *("take-page-away", "go-on", "try-again", "abandon"),
)


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    matter = commands.add_parser("matter", help="runs that ended badly: the ways out")
    verbs = matter.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="what waits for a person")
    command.add_argument("--every", action="store_true", help="also what is closed")
    command.set_defaults(do=_list)
    command = verbs.add_parser("show", parents=[common], help="what is owed, and each way out")
    command.add_argument("matter", metavar="MATTER", type=int)
    command.set_defaults(do=_show)
    command = verbs.add_parser("take", parents=[common], help="take a way out")
    command.add_argument("matter", metavar="MATTER", type=int)
    command.add_argument("act", metavar="WAY", choices=_ACTS, help=", ".join(_ACTS))
    command.add_argument("--why", metavar="TEXT", help="why, for the ledger")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_take)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        matters = windbreak.matters(every=args.every)
    if args.json:
        return dump(matters)
    table(
        ["matter", "site", "since", "closed", "what happened"],
        ((m.id, m.site, local(m.opened_at), m.how or "", m.told or m.text) for m in matters),
        "Nothing waits for a person.",
    )
    return None


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        story = windbreak.matter(args.matter)
    dump(story) if args.json else _tell(story)


def _tell(story: MatterStory) -> None:
    matter = story.matter
    since = local(matter.opened_at)
    styled(f"[bold]{plain(matter.site)}[/]: {plain(story.head)}. Matter {matter.id}, since {since}")
    say(matter.text)
    if matter.told:
        say(f"Then: {matter.told}")
    if matter.closed_at is not None:
        say(f"Closed by {matter.closed_by}: {matter.how}. {matter.why}")
        return
    if matter.doing is not None:
        say(f"Being done by {matter.doing.by}: {matter.doing.act}.")
    print()
    table(["", "", ""], (_fact(fact) for fact in story.facts), "")
    print()
    if story.owed:
        say("Owed to the site, until it is read back as it was:")
        table(["what", "was", "since"], (_owed(debt) for debt in story.owed), "")
        print()
    for way in story.ways:
        _way(way)
    if matter.doing is None:
        say(f"Take one: windbreak matter take {matter.id} WAY")
        say(f"If nobody acts, {story.unless}")


def _fact(fact: Fact) -> tuple[str, str, str]:
    name = f"{fact.name} since {local(fact.since)}" if fact.since else fact.name
    return name, fact.text, f"{fact.aside} {local(fact.at)}" if fact.at else fact.aside


def _owed(debt: Debt) -> tuple[str, str, str]:
    was = {True: "on", False: "down" if debt.kind == "page" else "off"}[debt.was]
    return debt.label, was, local(debt.since)


def _way(way: WayOut) -> None:
    if not way.possible:
        styled(f"  [dim]{way.act:15} not now: {plain(way.text)}[/]")
        return
    lost = f"[red]loses {plain(', '.join(way.loses))}[/]" if way.loses else "loses nothing"
    stays = "" if way.closes else "; the matter stays open"
    styled(f"  [bold]{way.act:15}[/] {lost}, {takes(way.seconds)}{stays}")
    say(f"  {'':15} {way.text}")
    for item in way.lost:
        what = " ".join([item.kind.removesuffix("s"), item.name, item.text]).rstrip()
        styled(f"  {'':15} [red]{local(item.at)}  {plain(what)}  {plain(item.amount)}[/]")


def _take(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        story = windbreak.matter(args.matter)
        way = next((w for w in story.ways if w.act == args.act), None)
        if way is None:
            raise Refusal(f"matter {args.matter} is closed: {story.matter.how}")
        if not way.possible:
            raise Refusal(f"not now: {way.text}")
        lost = f" **It loses {', '.join(way.loses)}.**" if way.loses else ""
        ask(f"**{story.matter.site}**: {way.text}{lost}", yes=args.yes)
        matter = windbreak.take_way_out(args.matter, args.act, why(args.why))
        while matter.doing is not None:
            time.sleep(0.5)
            matter = windbreak.matter(args.matter).matter
    dump(matter) if args.json else say(matter.told)
    closed = matter.closed_at is not None
    return 0 if closed or args.act == "take-page-away" else 1
