"""``windbreak feed``, ``product``, ``shelf``: what makers announce, and what is in hand."""

from __future__ import annotations

import argparse
from datetime import date
from pathlib import Path
from typing import Any

from windbreak.cli.output import age, dump, say, secret, table
from windbreak.cli.profile import connect, pick_product, pick_site


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    feed = commands.add_parser("feed", help="feeds: list, add, poll, check, credential")
    verbs = feed.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every feed and its state").set_defaults(
        do=_feeds
    )
    one = verbs.add_parser(
        "add",
        parents=[common],
        help="register a feed",
        epilog="example: windbreak feed add chandlery 'The Chandlery' "
        "https://chandlery.example/releases.json --bearer < token.txt",
    )
    one.add_argument("id", metavar="ID")
    one.add_argument("label", metavar="LABEL")
    one.add_argument("url", metavar="ADDRESS")
    one.add_argument(
        "--bearer", action="store_true", help="it wants a bearer token, read from standard input"
    )
    one.add_argument("--every", type=int, default=60, metavar="MINUTES")
    one.set_defaults(do=_add_feed)
    for verb, act, words in (
        ("poll", _poll, "look at a feed now"),
        ("check", _check, "ask what its credential may do"),
        ("credential", _credential, "replace its credential, read from standard input"),
    ):
        one = verbs.add_parser(verb, parents=[common], help=words)
        one.add_argument("feed", metavar="FEED")
        one.set_defaults(do=act)
    product = commands.add_parser("product", help="products: list, show, set, hold, lift")
    verbs = product.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every product").set_defaults(do=_products)
    one = verbs.add_parser("show", parents=[common], help="a product's releases and changes")
    one.add_argument("product", metavar="PRODUCT")
    one.set_defaults(do=_product)
    one = verbs.add_parser("set", parents=[common], help="set what a person knows of a product")
    one.add_argument("product", metavar="PRODUCT")
    one.add_argument("--name")
    one.add_argument("--access", choices=("public", "licensed", "bundled-only", "custom", "host"))
    one.add_argument("--major-place", type=int, metavar="N", help="which number is its major")
    one.set_defaults(do=_set)
    one = verbs.add_parser(
        "hold",
        parents=[common],
        help="decide not to move a product",
        epilog="example: windbreak product hold netloft --range '>=1.8' --why 'drops captions'",
    )
    one.add_argument("product", metavar="PRODUCT")
    one.add_argument("--range", default="*")
    one.add_argument("--site", help="everywhere when not given")
    one.add_argument("--until", type=date.fromisoformat, metavar="DAY")
    one.add_argument("--why", required=True)
    one.set_defaults(do=_hold)
    verbs.add_parser("holds", parents=[common], help="every hold").set_defaults(do=_holds)
    one = verbs.add_parser("lift", parents=[common], help="lift a hold")
    one.add_argument("hold", metavar="HOLD")
    one.set_defaults(do=_lift)
    shelf = commands.add_parser("shelf", help="packages in hand: list, add")
    verbs = shelf.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every package").set_defaults(do=_shelf)
    one = verbs.add_parser("add", parents=[common], help="examine an archive and keep it")
    one.add_argument("file", metavar="FILE")
    one.set_defaults(do=_add_package)


def _feeds(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        found = windbreak.feeds()
    if args.json:
        return dump(found)
    table(
        ["feed", "label", "state", "looked at", "credential", "what it says"],
        (
            (
                f.id,
                f.label,
                f.state,
                age(f.polled_at),
                f.credential or "none",
                f.check.text if f.check and f.state == "fresh" else f.reason,
            )
            for f in found
        ),
        "No feed is registered. Add one: windbreak feed add ID LABEL ADDRESS",
    )
    return None


def _add_feed(args: argparse.Namespace) -> None:
    from windbreak.core.tracking import NewFeed

    new = NewFeed.model_validate(
        {
            "id": args.id,
            "label": args.label,
            "url": args.url,
            "sign_in": "bearer" if args.bearer else "none",
            "credential": secret("Credential: ") if args.bearer else None,
            "every_minutes": args.every,
        }
    )
    with connect(args) as windbreak:
        feed = windbreak.register_feed(new)
        result = windbreak.poll_feed(feed.id)
        check = windbreak.check_feed(feed.id) if args.bearer else None
    if args.json:
        return dump(feed)
    say(f"**{feed.label}** is registered. {result.text}")
    if check:
        say(f"Its token: {check.text}")
    return None


def _poll(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        result = windbreak.poll_feed(args.feed)
    dump(result) if args.json else say(result.text)
    for fault in result.faults if not args.json else ():
        say(f"  passed over: {fault}")
    return 0 if result.state == "fresh" else 1


def _check(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        check = windbreak.check_feed(args.feed)
    dump(check) if args.json else say(check.text)
    return 0 if check.valid and not check.lacks else 1


def _credential(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        feed = windbreak.replace_credential(args.feed, secret("Credential: "))
        check = windbreak.check_feed(args.feed)
    say(f"**{feed.label}** has the credential {feed.credential} now. {check.text}")


def _products(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        found = windbreak.products()
    if args.json:
        return dump(found)
    if args.quiet:
        return print("\n".join(p.id for p in found))
    table(
        ["product", "name", "access", "maker", "major place"],
        ((p.id, p.name, p.access, p.maker, p.major_place) for p in found),
        "No product is known. Register a feed: windbreak feed add ID LABEL ADDRESS",
    )
    return None


def _product(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_product(windbreak, args.product)
        product, releases = windbreak.product(id), windbreak.releases(id)
    if args.json:
        return dump(releases)
    say(f"**{product.name}** {product.id}, {product.access}, {product.maker}")
    for release in releases:
        kind = "" if release.channel == "stable" else f", {release.channel}"
        hand = "on the shelf" if release.sha256 else "not fetched yet"
        say(f"  {release.version:8} {release.published}{kind}, {hand}")
        for change in release.changes:
            say(f"             {change.kind}: {change.text}")
    return None


def _set(args: argparse.Namespace) -> None:
    from windbreak.core.tracking import ProductChange

    change = ProductChange(name=args.name, access=args.access, major_place=args.major_place)
    with connect(args) as windbreak:
        product = windbreak.change_product(pick_product(windbreak, args.product), change)
    dump(product) if args.json else say(f"**{product.name}** is set.")


def _hold(args: argparse.Namespace) -> None:
    from windbreak.core.fleet import NewHold

    with connect(args) as windbreak:
        hold = windbreak.make_hold(
            NewHold(
                product=pick_product(windbreak, args.product),
                range=args.range,
                site=pick_site(windbreak, args.site) if args.site else None,
                until=args.until,
                reason=args.why,
            )
        )
    where = hold.site or "everywhere"
    dump(hold) if args.json else say(f"**{hold.product}** is held {where}: hold {hold.id}.")


def _holds(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        found = windbreak.holds()
    if args.json:
        return dump(found)
    table(
        ["hold", "product", "range", "where", "until", "by", "why"],
        (
            (h.id, h.product, h.range, h.site or "everywhere", h.until or "–", h.author, h.reason)
            for h in found
        ),
        "Nothing is held.",
    )
    return None


def _lift(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.lift_hold(args.hold)
    say("The hold is lifted.")


def _shelf(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        found = windbreak.shelf()
    if args.json:
        return dump(found)
    table(
        ["product", "version", "size", "from", "kept"],
        ((p.product, p.version, p.size, p.source, age(p.kept_at)) for p in found),
        "The shelf is empty; packages are fetched when a run needs them.",
    )
    return None


def _add_package(args: argparse.Namespace) -> None:
    archive = Path(args.file).read_bytes()
    with connect(args) as windbreak:
        package = windbreak.put_on_shelf(archive)
    dump(package) if args.json else say(
        f"**{package.name}** {package.version} is on the shelf, {package.size:,} bytes."
    )
