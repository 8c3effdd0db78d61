"""``windbreak shelf``, ``backup``, ``restore``, ``take-over``: what is kept."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from windbreak.cli.output import age, ask, dump, say, secret, table, why
from windbreak.cli.profile import connect, pick_site
from windbreak.cli.refusals import Refusal


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    shelf = commands.add_parser("shelf", help="packages in hand: list, add, give, drop")
    verbs = shelf.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every package").set_defaults(do=_list)
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="examine an archive and keep it",
        epilog="example: windbreak shelf add stamps-2.1.zip --for oyster-quay",
    )
    command.add_argument("file", metavar="FILE", type=Path)
    command.add_argument(
        "--for", dest="sites", action="append", default=[], metavar="SITE", help="who may have it"
    )
    command.set_defaults(do=_add)
    command = verbs.add_parser("give", parents=[common], help="let a site have a package")
    command.add_argument("package", metavar="PACKAGE", help="the beginning of its id")
    command.add_argument("site", metavar="SITE")
    command.set_defaults(do=_give)
    command = verbs.add_parser("drop", parents=[common], help="take a package from the shelf")
    command.add_argument("package", metavar="PACKAGE", help="the beginning of its id")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_drop)
    command = commands.add_parser(
        "backup",
        help="write database, shelf and sealed key into one file; passphrase from standard input",
        epilog="example: windbreak backup --data /var/lib/windbreak night.zip < passphrase.txt",
    )
    command.add_argument("--data", required=True, type=Path, metavar="DIR")
    command.add_argument("file", metavar="FILE", type=Path)
    command.set_defaults(do=_backup)
    command = commands.add_parser(
        "restore", help="make a data directory from a backup; it drives no site until it may"
    )
    command.add_argument("file", metavar="FILE", type=Path)
    command.add_argument("--data", required=True, type=Path, metavar="DIR")
    command.set_defaults(do=_restore)
    command = commands.add_parser(
        "take-over", parents=[common], help="let a restored copy drive the sites"
    )
    command.add_argument("--why", help="asked for where it is not given")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_take_over)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        shelf = windbreak.shelf()
    if args.json:
        return dump(shelf)
    if args.quiet:
        return print("\n".join(p.id for p in shelf))
    table(
        ["package", "product", "version", "bytes", "from", "kept"],
        (
            (
                p.id[:10],
                p.product,
                p.version,
                p.size,
                f"{p.source}, inside as {p.inner}" if p.inner else p.source,
                age(p.kept_at),
            )
            for p in shelf
        ),
        "The shelf is empty; packages are fetched when a run needs them.",
    )
    return None


def _add(args: argparse.Namespace) -> None:
    archive = args.file.read_bytes()
    with connect(args) as windbreak:
        sites = tuple(pick_site(windbreak, s) for s in args.sites)
        package = windbreak.put_on_shelf(archive, sites)
    if args.json:
        return dump(package)
    say(f"**{package.name}** {package.version} is on the shelf, {package.size:,} bytes.")
    if package.inner:
        say(f"It is the complete download; the installable one inside was taken: {package.inner}.")
    if not sites:
        say("Being on the shelf gives no right: let a site have it with `windbreak shelf give`.")
    return None


def _pick(windbreak: Any, text: str) -> str:
    fitting = [p.id for p in windbreak.shelf() if p.id.startswith(text.lower())]
    if len(fitting) != 1:
        what = "no package" if not fitting else f"{len(fitting)} packages"
        raise Refusal(f"{text!r} begins the id of {what}; see `windbreak shelf list`", 2)
    return str(fitting[0])


def _give(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        right = windbreak.give_package(
            _pick(windbreak, args.package), pick_site(windbreak, args.site)
        )
    dump(right) if args.json else say(f"{right.site} may have {right.product} {right.version}.")


def _drop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = _pick(windbreak, args.package)
        ask(f"Would take the package {id[:10]} from the shelf.", yes=args.yes)
        windbreak.drop_package(id)
    say("It is dropped.")


def _now() -> Any:
    from datetime import UTC, datetime

    return datetime.now(UTC)


def _backup(args: argparse.Namespace) -> None:
    from windbreak.operations.administration import backup
    from windbreak.operations.errors import Refused

    try:
        line = backup.backup(args.data, args.file, secret("Passphrase: ").strip(), _now())
    except Refused as error:
        raise Refusal(str(error)) from None
    say(line)
    say("Keep the passphrase apart from it: without it no secret in the copy can be opened.")


def _restore(args: argparse.Namespace) -> None:
    from windbreak.operations.administration import backup
    from windbreak.operations.errors import Refused

    try:
        line = backup.restore(args.file, args.data, secret("Passphrase: ").strip(), _now())
    except Refused as error:
        raise Refusal(str(error)) from None
    say(line)


def _take_over(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        ask(
            "This copy would drive the sites from now on. Make sure that the service it was copied "
            "from is stopped: two would do the same work twice.",
            yes=args.yes,
        )
        outcome = windbreak.take_over(why(args.why))
    dump(outcome) if args.json else say(outcome.text)
