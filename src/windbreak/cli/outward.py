"""``windbreak hook``, ``digest``, ``metrics``, ``calendar-address``, ``account``: in and out."""

from __future__ import annotations

import argparse
from typing import Any

from windbreak.cli.output import ask, dump, local, say, table
from windbreak.cli.profile import connect


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    hook = commands.add_parser("hook", help="web hooks: list, add, drop, sent")
    verbs = hook.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every web hook").set_defaults(do=_hooks)
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="tell an address of news, signed",
        epilog="example: windbreak hook add desk https://desk.example/in --news finding.opened",
    )
    command.add_argument("id", metavar="ID")
    command.add_argument("url", metavar="ADDRESS")
    command.add_argument(
        "--news", action="append", help="finding.opened, finding.closed, release, run.ended"
    )
    command.set_defaults(do=_add_hook)
    for verb, act, words in (
        ("drop", _drop_hook, "tell it no more"),
        ("sent", _sent, "what was sent to it"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("hook", metavar="HOOK")
        command.set_defaults(do=act)
    command = commands.add_parser("digest", parents=[common], help="mail the digest now")
    command.set_defaults(do=_digest)
    command = commands.add_parser(
        "metrics", parents=[common], help="the fleet in numbers, OpenMetrics"
    )
    command.set_defaults(do=_metrics)
    command = commands.add_parser(
        "calendar-address", parents=[common], help="an address of deadlines that calendars read"
    )
    command.set_defaults(do=_calendar)
    account = commands.add_parser(
        "account", help="who may sign in: list, add, invite, close, reopen"
    )
    verbs = account.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every account").set_defaults(do=_accounts)
    command = verbs.add_parser("add", parents=[common], help="open an account")
    command.add_argument("id", metavar="ID")
    command.add_argument("name", metavar="NAME")
    command.set_defaults(do=_add_account)
    command = verbs.add_parser(
        "close", parents=[common], help="close an account; its history stays"
    )
    command.add_argument("id", metavar="ID")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_close_account)
    for verb, act, words in (
        ("invite", _invite, "a one-time link for somebody who can’t sign in yet"),
        ("reopen", _reopen, "open a closed account again"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("id", metavar="ID")
        command.set_defaults(do=act)


def _hooks(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        hooks = windbreak.hooks()
    if args.json:
        return dump(hooks)
    table(
        ["hook", "address", "news", "state", "what it says"],
        ((h.id, h.url, ", ".join(h.news), h.state, h.text) for h in hooks),
        "No web hook is registered. Add one: windbreak hook add ID ADDRESS",
    )
    return None


def _add_hook(args: argparse.Namespace) -> None:
    from windbreak.core.values.hooks import NEWS, NewHook

    new = NewHook.model_validate({"id": args.id, "url": args.url, "news": args.news or NEWS})
    with connect(args) as windbreak:
        hook = windbreak.add_hook(new)
    if args.json:
        return dump(hook)
    say(f"**{hook.id}** is told of {', '.join(hook.news)}.")
    say(f"Our messages are signed (RFC 9421, Ed25519); check them with the key {hook.public_key}")
    return None


def _drop_hook(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.drop_hook(args.hook)
    say("It is told no more.")


def _sent(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        deliveries = windbreak.deliveries(args.hook)
    if args.json:
        return dump(deliveries)
    table(
        ["id", "news", "made", "state", "tries", "said"],
        ((d.id, d.news, local(d.made_at), d.state, d.tries, d.text) for d in deliveries),
        "Nothing has been sent yet.",
    )
    return None


def _digest(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        sent = windbreak.send_digest()
    dump(sent) if args.json else say(sent["text"])


def _metrics(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        print(windbreak.metrics(), end="")


def _calendar(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        made = windbreak.calendar_address()
    if args.json:
        return dump(made)
    say("Whoever knows this address can read deadlines and bookings. An older one is good no more.")
    return print(made["url"])


def _accounts(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        accounts = windbreak.accounts()
    if args.json:
        return dump(accounts)
    table(
        ["account", "name", "closed"],
        ((a.id, a.name, local(a.closed_at) if a.closed_at else "–") for a in accounts),
        "There is no account.",
    )
    return None


def _add_account(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        account = windbreak.add_account(args.id, args.name)
    if args.json:
        return dump(account)
    say(f"**{account.name}** has an account. Invite them: windbreak account invite {account.id}")
    return None


def _invite(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        invitation = windbreak.invite_account(args.id)
    if args.json:
        return dump(invitation)
    say("Send them this link; it is good once, for half an hour:")
    return print(invitation.url)


def _reopen(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        account = windbreak.reopen_account(args.id)
    dump(account) if args.json else say(f"The account of **{account.name}** is open again.")


def _close_account(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        what = f"Would close the account **{args.id}** and end its tokens; its history stays."
        ask(what, yes=args.yes)
        account = windbreak.close_account(args.id)
    dump(account) if args.json else say(f"The account of **{account.name}** is closed.")
