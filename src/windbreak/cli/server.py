"""``windbreak serve``, ``demo``, ``sign-in``, ``token``: the service itself, and who may use it."""

from __future__ import annotations

import argparse
import json
import os
from pathlib import Path
from typing import Any

from windbreak.cli.output import ask, dump, local, say, secret, table
from windbreak.cli.profile import connect, write_profile
from windbreak.cli.refusals import Refusal


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    from windbreak.service.settings import add_options

    command = commands.add_parser("serve", help="start the service")
    command.add_argument(
        "--data", required=True, type=Path, metavar="DIR", help="its data directory"
    )
    add_options(command)
    command.set_defaults(do=_serve)
    command = commands.add_parser(
        "demo", help="start the service with the demo fleet, or play the whole job on it"
    )
    command.add_argument("--data", type=Path, metavar="DIR", help="where it lies (demo-data)")
    command.add_argument("--port", type=int, default=8470, help="the port; 0 takes a free one")
    command.add_argument(
        "--tour",
        action="store_true",
        help="play the whole job without a person, in a folder of its own, and end",
    )
    command.add_argument(
        "--real",
        action="store_true",
        help="with a real WordPress and its twin beside the stand-ins, from Debian’s packages",
    )
    command.set_defaults(do=_demo)
    command = commands.add_parser(
        "demo-fault",
        help="switch on what can be wrong with a site of the demo fleet, or list it",
        epilog="example: windbreak demo-fault wrack-line slow=apply:20 leftover=plugin/oarlock",
    )
    command.add_argument("site", metavar="SITE", nargs="?")
    command.add_argument("fault", metavar="FAULT", nargs="*", help="as silent, or slow=apply:20")
    command.add_argument("--none", action="store_true", help="first switch off what is on")
    command.add_argument("--data", type=Path, metavar="DIR", default=Path("demo-data"))
    command.set_defaults(do=_demo_fault)
    command = commands.add_parser(
        "demo-release",
        help="have a maker of the demo make one more release, which is then on its feed",
        epilog="example: windbreak demo-release plugin/lee 5.5.1",
    )
    command.add_argument("product", metavar="PRODUCT", help="as plugin/lee")
    command.add_argument("version", metavar="VERSION")
    command.add_argument("--data", type=Path, metavar="DIR", default=Path("demo-data"))
    command.set_defaults(do=_demo_release)
    command = commands.add_parser(
        "demo-night",
        parents=[common],
        help="play what is booked at once: the demo’s clock goes from booking to booking",
        epilog="example: windbreak demo-night --nights 2",
    )
    command.add_argument("--nights", type=int, default=1, help="how many nights; 1")
    command.add_argument("--data", type=Path, metavar="DIR", default=Path("demo-data"))
    command.set_defaults(do=_demo_night)
    command = commands.add_parser(
        "sign-in",
        help="sign this terminal in with a one-time link",
        epilog="example: windbreak sign-in http://127.0.0.1:8470/sign-in#…",
    )
    command.add_argument("link", metavar="LINK")
    command.set_defaults(do=_sign_in)
    command = commands.add_parser("sign-in-link", help="make a one-time link, beside the service")
    command.add_argument("--data", required=True, type=Path, metavar="DIR")
    command.add_argument("--account", help="the account; needed where more than one is open")
    command.add_argument("--at", metavar="ADDRESS", help="where the service is reached")
    command.set_defaults(do=_link)
    command = commands.add_parser(
        "password", parents=[common], help="set your password, read from standard input"
    )
    command.set_defaults(do=_password)
    token = commands.add_parser("token", help="your tokens: list, add, revoke")
    verbs = token.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="your tokens").set_defaults(do=_tokens)
    command = verbs.add_parser("add", parents=[common], help="make a token; it is shown once")
    command.add_argument("label", metavar="LABEL")
    command.set_defaults(do=_add_token)
    command = verbs.add_parser("revoke", parents=[common], help="revoke a token")
    command.add_argument("id", metavar="ID")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_revoke)


def _serve(args: argparse.Namespace) -> int:
    from windbreak.service.drive import LeaseTaken
    from windbreak.service.serve import serve
    from windbreak.service.settings import SettingRefused, read_settings
    from windbreak.store.errors import StoreError

    try:
        settings = read_settings(args.data, vars(args), os.environ)
        return serve(args.data, settings)
    except SettingRefused as error:
        raise Refusal(str(error), 2) from None
    except (LeaseTaken, StoreError) as error:
        raise Refusal(str(error)) from None


def _demo_fault(args: argparse.Namespace) -> None:
    from windbreak.standins.faults import KINDS, FaultRefused, orders, put, read

    folder = args.data / "standins"
    if args.site is None:
        table(
            ["fault", "takes", "what goes wrong"],
            ((name, kind.takes, kind.text + (" (once)" if kind.once else "")) for name, kind in
             KINDS.items()),
            "",
        )  # fmt: skip
        return
    site = _stand_in(folder, args.site)
    kept = folder / site / "agent" / "faults.json"
    faults = {} if args.none else orders(kept)
    try:
        faults |= read(args.fault)
    except FaultRefused as error:
        raise Refusal(str(error), 2) from None
    put(kept, faults)
    say(f"**{site}**: {json.dumps(faults) if faults else 'nothing is wrong with it'}")


def _stand_in(folder: Path, name: str) -> str:
    """The stand-in that is called so, or the only one with that in its name."""
    every = sorted(path.parent.name for path in folder.glob("*/agent"))
    like = [name] if name in every else [one for one in every if name in one]
    if len(like) == 1:
        return like[0]
    several = f"{name!r} is in the names of {len(like)}: {', '.join(like)}; say which"
    none = f"there is no stand-in {name!r} in {folder}; there are {', '.join(every)}"
    raise Refusal(several if like else none, 2)


def _demo(args: argparse.Namespace) -> int:
    from windbreak.standins import demo, tour

    data = args.data or Path("demo-data")
    if args.tour and args.real:
        from windbreak.standins import real_tour

        return real_tour.play(args.data, ask=demo.agreed)
    if args.tour:
        return tour.play(args.data)
    return demo.run(data.resolve(), args.port, with_real=args.real)


def _demo_release(args: argparse.Namespace) -> None:
    from windbreak.operations.administration.clocks import shifted
    from windbreak.standins.made_later import ReleaseRefused, make

    folder = _demo_of(args) / "standins" / "feeds"
    at = shifted(args.data / "clock")()
    try:
        make(folder, args.product, args.version, at)
    except ReleaseRefused as error:
        raise Refusal(str(error), 2) from None
    say(f"{args.product} {args.version} is on its maker’s feed. Read it: **windbreak feed poll**")


def _demo_of(args: argparse.Namespace) -> Path:
    """Where the demo lies. Raises Refusal where there is none."""
    if not (args.data / "standins").is_dir():
        raise Refusal(f"{args.data} holds no demo; start one with `windbreak demo`, or say --data")
    return Path(args.data)


def _demo_night(args: argparse.Namespace) -> int:
    from datetime import timedelta

    from windbreak.cli.profile import connect
    from windbreak.core.values.runs import WENT_WRONG
    from windbreak.operations.administration.clocks import shifted
    from windbreak.standins.nights import play, wants_a_word
    from windbreak.wording.words import counted

    clock = _demo_of(args) / "clock"
    with connect(args) as windbreak:
        bookings = windbreak.bookings()
        if not bookings:
            raise Refusal("nothing is booked: windbreak rollout approve, or book --all")
        noon = bookings[0].starts_at.replace(hour=12, minute=0, second=0)
        first = noon if bookings[0].starts_at < noon else noon + timedelta(days=1)
        until = first + timedelta(days=args.nights - 1)
        runs = [run for event in play(windbreak, clock, until, say) for run in event.runs]
        kept_back = wants_a_word(windbreak)
    for rollout in sorted(set(kept_back.values())):
        sites = counted(list(kept_back.values()).count(rollout), "site")
        say(f"A word of yours is wanted for {sites}: **windbreak rollout show {rollout}**")
    bad = sum(run.state in WENT_WRONG for run in runs)
    say(
        f"{len(runs)} runs, {bad} of them ended badly. The demo’s clock is at "
        f"{shifted(clock)():%a %d %b, %H:%M} UTC, and stays there."
    )
    return 1 if bad else 0


def _sign_in(args: argparse.Namespace) -> None:
    import httpx

    from windbreak.client import Unreachable, Windbreak

    address, _, secret = args.link.partition("/sign-in#")
    if not secret:
        raise Refusal("this is no sign-in link; it looks like http://…/sign-in#…", 2)
    try:
        with httpx.Client(base_url=f"{address}/api/v1", trust_env=False, timeout=20) as http:
            answer = http.post("/session", json={"link": secret})
            if answer.is_success:
                answer = http.post("/tokens", json={"label": f"terminal of {os.uname().nodename}"})
    except httpx.HTTPError as error:
        raise Unreachable(address, str(error)) from None
    if not answer.is_success:
        raise Refusal(str(answer.json().get("detail", answer.text)), 4)
    token = answer.json()["secret"]
    path = write_profile(address, token)
    with Windbreak(address, token) as windbreak:
        name = windbreak.who_am_i().name
    say(f"Signed in as **{name}**; {path} holds the token. Try: windbreak today")


def _link(args: argparse.Namespace) -> None:
    from windbreak.operations.administration import accounts, clocks
    from windbreak.operations.context import open_context

    if not (args.data / "windbreak.db").exists():
        raise Refusal(f"{args.data} holds no service; start one: windbreak serve --data DIR")
    context = open_context(args.data)
    context.clock = clocks.of(args.data)
    every = {a.id: a for a in context.store.accounts.all()}
    usable = [a.id for a in every.values() if a.closed_at is None]
    named = ", ".join(usable) or "none"
    if args.account is None and len(usable) != 1:
        raise Refusal(f"say whose link: --account; accounts that are open: {named}", 2)
    account = args.account or usable[0]
    if account not in every:
        raise Refusal(f"there is no account {account!r}; accounts that are open: {named}")
    if account not in usable:
        raise Refusal(f"the account {account!r} is closed; accounts that are open: {named}")
    file = args.data / "address"  # the service writes it where it serves
    address = args.at or (file.read_text().strip() if file.exists() else "")
    if not address:
        raise Refusal(
            f"no service runs over {args.data}, so its address is not known; give it: --at", 2
        )
    print(f"{address.rstrip('/')}/sign-in#{accounts.make_link(context, account)}")


def _password(args: argparse.Namespace) -> None:
    password = secret("New password: ").rstrip("\n")
    with connect(args) as windbreak:
        windbreak.set_password(password)
        name = windbreak.who_am_i().account
    say(f"The console takes the name **{name}** and this password from now on.")


def _tokens(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        tokens = windbreak.tokens()
    if args.json:
        return dump(tokens)
    table(
        ["id", "label", "ends in", "made"],
        ((t.id, t.label, t.last4, local(t.made_at)) for t in tokens),
        "There is no token.",
    )
    return None


def _add_token(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        token = windbreak.make_token(args.label)
    if args.json:
        return dump(token)
    if args.quiet:
        return print(token.secret)
    say(f"The token {token.label!r}, shown this once:")
    print(token.secret)
    return None


def _revoke(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        ask(f"Would end the token {args.id} for good.", yes=args.yes)
        windbreak.revoke_token(args.id)
    say("It is revoked.")
