"""``windbreak feed``: where releases are announced, how they are read, and with what credential."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from windbreak.cli.output import age, ask, dump, glyph, local, say, secret, table
from windbreak.cli.profile import connect
from windbreak.cli.refusals import Refusal

SIGN_IN = ("none", "bearer", "user and key", "header", "query", "site code")


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    feed = commands.add_parser(
        "feed", help="feeds: list, show, add, set, drop, poll, check, credential, try"
    )
    verbs = feed.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every feed and its state").set_defaults(
        do=_list
    )
    command = verbs.add_parser(
        "show", parents=[common], help="one feed: state, credential, oddities"
    )
    command.add_argument("feed", metavar="FEED")
    command.set_defaults(do=_show)
    _add_add(verbs, common)
    command = verbs.add_parser("set", parents=[common], help="change a feed")
    command.add_argument("feed", metavar="FEED")
    command.add_argument("--label")
    command.add_argument("--url", metavar="ADDRESS")
    command.add_argument("--every", type=int, metavar="MINUTES")
    command.add_argument("--origin", action="append", metavar="ADDRESS")
    command.set_defaults(do=_set)
    command = verbs.add_parser("drop", parents=[common], help="read a feed no more")
    command.add_argument("feed", metavar="FEED")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_drop)
    command = verbs.add_parser(
        "poll", parents=[common], help="look at a feed now, or at all of them"
    )
    command.add_argument("feed", metavar="FEED", nargs="?", help="all when none is given")
    command.set_defaults(do=_poll)
    command = verbs.add_parser("check", parents=[common], help="ask what its credential may do")
    command.add_argument("feed", metavar="FEED")
    command.set_defaults(do=_check)
    command = verbs.add_parser(
        "credential", parents=[common], help="replace its credential, read from standard input"
    )
    command.add_argument("feed", metavar="FEED")
    command.add_argument(
        "--everywhere", action="store_true", help="also in every feed that uses the old one"
    )
    command.set_defaults(do=_credential)
    command = verbs.add_parser(
        "try",
        parents=[common],
        help="ask and read by a recipe; nothing is kept",
        epilog="example: windbreak feed try gantry.toml < key.txt",
    )
    command.add_argument("recipe", metavar="RECIPE", type=Path, help="a TOML file")
    command.set_defaults(do=_try)


def _add_add(verbs: Any, common: argparse.ArgumentParser) -> None:
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="register a feed; its credential is read from standard input",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        epilog="""examples:
  windbreak feed add chandlery 'The Chandlery' https://chandlery.example/releases.json \\
      --sign-in bearer < token.txt
  windbreak feed add netloft Netloft https://netloft.example/news.atom --atom plugin/netloft
  windbreak feed add gantry 'Gantry House' --recipe gantry.toml < key.txt
  windbreak feed add advisories Advisories https://osv.example/all.json --advisories""",
    )
    command.add_argument("id", metavar="ID")
    command.add_argument("label", metavar="LABEL")
    command.add_argument("url", metavar="ADDRESS", nargs="?", help="a recipe names its own")
    kind = command.add_mutually_exclusive_group()
    kind.add_argument("--atom", metavar="PRODUCT", help="Atom or RSS about this product")
    kind.add_argument("--recipe", type=Path, metavar="FILE", help="JSON, read by this recipe")
    kind.add_argument("--advisories", action="store_true", help="OSV advisories")
    command.add_argument("--version-pattern", metavar="REGEX", help="finds the version in a title")
    command.add_argument(
        "--package", action="append", default=[], metavar="NAME=PRODUCT", help="for advisories"
    )
    command.add_argument("--sign-in", choices=SIGN_IN, default="none")
    command.add_argument("--name", metavar="NAME", help="the user, the header or the query's field")
    command.add_argument(
        "--origin",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="the credential may go there",
    )
    command.add_argument("--every", type=int, default=60, metavar="MINUTES")
    command.set_defaults(do=_add)


_STATES = {"fresh": "clear", "stale": "unknown", "failing": "blocked", "refused": "blocked"}


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        feeds = windbreak.feeds()
    if args.json:
        return dump(feeds)
    if args.quiet:
        return print("\n".join(f.id for f in feeds))
    table(
        ["state", "feed", "label", "kind", "read", "next", "credential", "what it says"],
        (
            (
                _state(f),
                f.id,
                f.label,
                f.kind,
                age(f.fresh_at),
                age(f.next_poll_at),
                f.credential or "none",
                f.check.text if f.check and f.state == "fresh" and not f.faults else _remark(f),
            )
            for f in feeds
        ),
        "No feed is registered. Add one: windbreak feed add ID LABEL ADDRESS",
    )
    return None


def _state(feed: Any) -> str:
    """A feed's state; one whose credential may not do all that is needed is read in part."""
    if feed.state == "fresh" and feed.check and feed.check.lacks:
        return glyph("blocked", "in part")
    return glyph(_STATES[feed.state], feed.state)


def _remark(feed: Any) -> str:
    if feed.state != "fresh":
        return str(feed.reason)
    if feed.disagreements:
        return str(feed.disagreements[0].text)
    if feed.faults:
        return f"{len(feed.faults)} passed over: {feed.faults[0]}"
    count = len(feed.products)
    return f"{count} product{'' if count == 1 else 's'}. {feed.reason}"


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        feed = next((f for f in windbreak.feeds() if f.id == args.feed), None)
    if feed is None:
        raise Refusal(f"there is no feed {args.feed!r}; see `windbreak feed list`")
    if args.json:
        return dump(feed)
    say(f"**{feed.label}**  {feed.kind}, {feed.sign_in}, every {feed.every_minutes} minutes")
    read = f"Read well {age(feed.fresh_at)}; next {age(feed.next_poll_at)}."
    say(f"{feed.state}: {feed.reason} {read}")
    by = f", set up by {feed.set_up_by}" if feed.set_up_by else ""
    say(f"Credential {feed.credential or 'none'}{by}.")
    if feed.check:
        account = f" Account {feed.check.account}." if feed.check.account else ""
        sure = "" if feed.check.sure else " Not sure yet: it is looked at again."
        say(f"{feed.check.text}{account}{sure} Checked {age(feed.check.at)}.")
    say(f"Products: {', '.join(feed.products) or 'none yet'}.")
    for disagreement in feed.disagreements:
        say(f"  disagrees: {disagreement.text}")
    for fault in feed.faults:
        say(f"  passed over: {fault}")
    return None


def _add(args: argparse.Namespace) -> None:
    from windbreak.core.values.feeds import NewFeed

    text = _text(args.recipe) if args.recipe else None
    recipe = _toml(text) if text else {}
    if not args.url and not recipe:
        raise Refusal("say the feed's ADDRESS, or a --recipe that names it", 2)
    sign_in = recipe.get("sign_in", args.sign_in)
    kind = "atom" if args.atom else "recipe" if text else "advisories" if args.advisories else None
    reading = {
        "recipe": args.id if text else None,
        "product": args.atom,
        "packages": dict(pair.split("=", 1) for pair in args.package if "=" in pair),
    }
    if args.version_pattern:
        reading["version"] = args.version_pattern
    wants = sign_in not in ("none", "site code")
    new = NewFeed.model_validate(
        {
            "id": args.id,
            "label": args.label,
            "kind": kind or "release-feed",
            "url": args.url or recipe.get("address"),
            "sign_in": sign_in,
            "sign_in_name": recipe.get("sign_in_name", args.name),
            "credential": secret("Credential: ") if wants else None,
            "origins": args.origin,
            "reading": reading,
            "every_minutes": args.every,
        }
    )
    with connect(args) as windbreak:
        if text:
            windbreak.put_recipe(args.id, text)
        feed = windbreak.register_feed(new)
        result = windbreak.poll_feed(feed.id)
        check = windbreak.check_feed(feed.id) if wants else None
    if args.json:
        return dump(feed)
    say(f"**{feed.label}** is registered. {result.text}")
    if check:
        say(f"Its credential: {check.text}")
    return None


def _text(path: Path) -> str:
    try:
        return path.read_text()
    except (OSError, UnicodeDecodeError) as error:
        raise Refusal(f"{path} can't be read: {error}", 2) from None


def _toml(text: str) -> dict[str, Any]:
    import tomllib

    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise Refusal(f"the recipe is no TOML: {error}", 2) from None


def _set(args: argparse.Namespace) -> None:
    from windbreak.core.values.feeds import FeedChange

    change = FeedChange(
        label=args.label, url=args.url, every_minutes=args.every, origins=args.origin
    )
    with connect(args) as windbreak:
        feed = windbreak.change_feed(args.feed, change)
    dump(feed) if args.json else say(f"**{feed.label}** is changed.")


def _drop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        ask(
            f"Would read the feed **{args.feed}** no more, and forget its credential. What it "
            "told stays known; nobody would announce anything newer.",
            yes=args.yes,
        )
        windbreak.drop_feed(args.feed)
    say("It is dropped.")


def _poll(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        results = [windbreak.poll_feed(args.feed)] if args.feed else windbreak.poll_feeds()
    if args.json:
        dump(results[0] if args.feed else results)
    else:
        for result in results:
            say(result.text)
            for fault in result.faults[1:]:
                say(f"  passed over: {fault}")
    well = sum(r.state == "fresh" for r in results)
    return 0 if well == len(results) else 5 if well else 1


def _check(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        check = windbreak.check_feed(args.feed)
    if args.json:
        dump(check)
    else:
        say(check.text)
        if not check.sure:
            say("It is new, and may be the maker's delay: it is looked at again in five minutes.")
        say(f"Looked at {local(check.at)}.")
    return 0 if check.valid and not check.lacks else 1


def _credential(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        credential = secret("Credential: ")
        feed = windbreak.replace_credential(args.feed, credential, args.everywhere)
        check = windbreak.check_feed(args.feed)
        last = windbreak.ledger(args.feed, 1)
    say(f"**{feed.label}** has the credential {feed.credential} now. {check.text}")
    if last:
        say(f"{last[0].result[:1].upper()}{last[0].result[1:]}.")


def _try(args: argparse.Namespace) -> int:
    text = _text(args.recipe)
    wants = _toml(text).get("sign_in", "none") not in ("none", "site code")
    with connect(args) as windbreak:
        tried = windbreak.try_recipe(text, secret("Credential: ") if wants else None)
    if args.json:
        dump(tried)
    else:
        say(f"asked    {tried['asked']}")
        say(f"came     {tried['came']}")
        for items in tried["found"]:
            changes = len(items["changes"])
            package = "a package" if items["package"] else "no package"
            line = f"{items['product']} {items['version']}, {items['published']}"
            say(f"read     {line}: {changes} changes, {package}")
        for missing in tried["missing"]:
            say(f"missing  {missing}")
        say(f"{tried['text']} Nothing was kept.")
    return 0 if tried["found"] and not tried["missing"] else 1
