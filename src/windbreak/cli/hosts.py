"""``windbreak host``: the server accounts that sites run on, and the runtimes they offer."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from windbreak.cli.output import ask, dump, say, table
from windbreak.cli.profile import connect, pick_product
from windbreak.cli.refusals import Refusal
from windbreak.wording.words import listed

if TYPE_CHECKING:
    from windbreak.client.library import Windbreak
    from windbreak.core.values.sites import Host


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    host = commands.add_parser("host", help="hosts: list, add, offer, ask, drop")
    verbs = host.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every host").set_defaults(do=_hosts)
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="register a host or change one",
        epilog="example: windbreak host add mole Mole --at-once 4 --offers loom 8.1 8.2 8.3",
    )
    command.add_argument("id", metavar="ID", help="a short name, as mole")
    command.add_argument("name", metavar="NAME", help="its name for people, as Mole")
    command.add_argument(
        "--at-once", type=int, default=1, metavar="N", help="how many sites may be worked on"
    )
    command.add_argument(
        "--offers",
        nargs="+",
        action="append",
        default=[],
        metavar="RUNTIME",
        help="a runtime and its versions, as loom 8.1 8.2 (may be given again)",
    )
    command.set_defaults(do=_add_host)
    for verb, help, example in (
        ("ask", "a letter that asks a host for a runtime, to be sent by you", "ask"),
        ("offer", "a host offers a runtime now, beside what it had", "offer"),
    ):
        command = verbs.add_parser(
            verb,
            parents=[common],
            help=help,
            epilog=f"example: windbreak host {example} jetty loom 8.1",
        )
        command.add_argument("host", metavar="HOST", help="its id, as jetty")
        command.add_argument("product", metavar="RUNTIME", help="as loom")
        command.add_argument("version", metavar="VERSION", help="as 8.1")
        command.set_defaults(do=_ask if verb == "ask" else _offer)
    command = verbs.add_parser("drop", parents=[common], help="forget a host that no site is on")
    command.add_argument("host", metavar="HOST", help="its id, as jetty")
    command.add_argument("--yes", action="store_true", help="without asking")
    command.set_defaults(do=_drop)


def _hosts(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        hosts = windbreak.hosts()
    if args.json:
        return dump(hosts)
    if args.quiet:
        return print("\n".join(host.id for host in hosts))
    offered = [
        "; ".join(f"{p.partition('/')[2]} {', '.join(vs)}" for p, vs in h.offers.items())
        for h in hosts
    ]
    table(
        ["host", "name", "at once", "offers"],
        ((h.id, h.name, h.at_once, o) for h, o in zip(hosts, offered, strict=True)),
        "No host is registered. Add one: windbreak host add ID NAME",
    )
    return None


def _add_host(args: argparse.Namespace) -> None:
    from windbreak.core.values.sites import Host

    offers = {
        name if "/" in name else f"runtime/{name}": tuple(versions)
        for name, *versions in args.offers
    }
    with connect(args) as windbreak:
        host = windbreak.put_host(
            Host(id=args.id, name=args.name, at_once=args.at_once, offers=offers)
        )
    dump(host) if args.json else say(f"**{host.name}** is registered.")


def _named(windbreak: Windbreak, id: str) -> Host:
    hosts = {host.id: host for host in windbreak.hosts()}
    if id not in hosts:
        raise Refusal(f"no host is called {id!r}; there are: {', '.join(sorted(hosts)) or 'none'}")
    return hosts[id]


def _ask(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        host = _named(windbreak, args.host)
        product = pick_product(windbreak, args.product)
        name = windbreak.product(product).row.product.name
        sites = [s for s in windbreak.sites() if s.host == host.id]
        rows = windbreak.acts()
    version = args.version
    has = host.offers.get(product, ())
    if version in has:
        raise Refusal(f"{host.name} offers {name} {version} already")
    freed = next(
        (r.frees for r in rows if any(w.act == "ask-host" and _is(w.on, host.id, product, version)
                                      for w in r.ways)),
        (),
    )  # fmt: skip
    waits = sorted({move.label for move in freed})
    print(f"To {host.name}\n")
    print(f"Please offer {name} {version} on the account on which our sites run.")
    if has:
        print(f"It offers {name} {listed(list(has))} now; please leave that in place meanwhile.")
    if waits:
        print(f"{listed(waits)} {'waits' if len(waits) == 1 else 'wait'} for it.")
    elif sites:
        print(f"Our sites there: {listed([s.label for s in sites])}.")
    print()
    slug = product.partition("/")[2]
    say(f"Once it is there: windbreak host offer {host.id} {slug} {version}")


def _is(on: dict[str, str], host: str, product: str, version: str) -> bool:
    return (on["host"], on["product"], on["version"]) == (host, product, version)


def _offer(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        host = _named(windbreak, args.host)
        product = pick_product(windbreak, args.product)
        versions = dict.fromkeys((*host.offers.get(product, ()), args.version))
        offers = {**host.offers, product: tuple(versions)}
        host = windbreak.put_host(host.model_copy(update={"offers": offers}))
        name = windbreak.product(product).row.product.name
    if args.json:
        return dump(host)
    return say(f"**{host.name}** offers {name} {listed(list(host.offers[product]))}.")


def _drop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        host = _named(windbreak, args.host)
        ask(f"Would forget the host **{host.name}**.", yes=args.yes)
        windbreak.drop_host(host.id)
    say(f"**{host.name}** is forgotten.")
