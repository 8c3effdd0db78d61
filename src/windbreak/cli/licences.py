"""``windbreak licence``: rights to releases, their seats, codes and ends."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from windbreak.cli.output import a_day, age, ask, dump, say, secret, table
from windbreak.cli.profile import connect, pick_product, pick_site
from windbreak.cli.refusals import Refusal
from windbreak.wording.words import counted

if TYPE_CHECKING:
    from windbreak.core.values.licences import Licence
    from windbreak.documents.licences import CredentialRow

FORMS = ("per-site code", "seats", "account", "membership", "through a theme")


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    licence = commands.add_parser(
        "licence",
        help="licences: list, show, add, set, drop, seat, unseat, rotate, enter, "
        "right, renew, credentials, forecast",
    )
    verbs = licence.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="every licence, ending first first")
    command.add_argument("--site", help="only those that this site has a share of")
    command.set_defaults(do=_list)
    command = verbs.add_parser("show", parents=[common], help="one licence, seat by seat")
    command.add_argument("licence", metavar="LICENCE")
    command.set_defaults(do=_show)
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="enter a licence; with --code its one code is read from standard input",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        epilog="""examples:
  windbreak licence add breakwater 'Breakwater 5' 'per-site code' --seats 15 \\
      --product breakwater --product breakwater-keel --covers-until 2027-08-31
  windbreak licence add ebbing 'Ebbing Tide membership' membership --maker 'Ebbing Tide' \\
      --expires 2027-01-14""",
    )
    command.add_argument("id", metavar="ID")
    command.add_argument("label", metavar="LABEL")
    command.add_argument("form", metavar="FORM", choices=FORMS, help=", ".join(FORMS))
    command.add_argument("--product", action="append", default=[])
    command.add_argument("--maker", help="covers all of this maker's licensed products")
    command.add_argument("--through", metavar="THEME", help="for the form 'through a theme'")
    command.add_argument(
        "--code", action="store_true", help="it has one code, read from standard input"
    )
    command.add_argument("--no-riding", action="store_true", help="a copy needs a seat of its own")
    _add_facts(command)
    command.set_defaults(do=_add)
    command = verbs.add_parser("set", parents=[common], help="change what is known of a licence")
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("--label")
    _add_facts(command)
    command.set_defaults(do=_set)
    command = verbs.add_parser("drop", parents=[common], help="forget a licence without seats")
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_drop)
    command = verbs.add_parser(
        "seat", parents=[common], help="allot a seat; with --code its code from standard input"
    )
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("site", metavar="SITE")
    command.add_argument(
        "--code", action="store_true", help="it has a code of its own; asked for where it needs one"
    )
    command.set_defaults(do=_seat)
    command = verbs.add_parser("unseat", parents=[common], help="take a seat back")
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("site", metavar="SITE")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_unseat)
    command = verbs.add_parser(
        "rotate", parents=[common], help="replace a code, read from standard input"
    )
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("--site", help="for a licence with a code for each site")
    command.set_defaults(do=_rotate)
    command = verbs.add_parser(
        "enter", parents=[common], help="enter the code on its sites and read it back"
    )
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("--site", help="only there")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_enter)
    command = verbs.add_parser(
        "right",
        parents=[common],
        help="whether a site may take a release of a product, by which right, or what is wanting",
        epilog="example: windbreak licence right marram-press breakwater 5.2",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("version", metavar="VERSION", nargs="?", help="the newest when not given")
    command.set_defaults(do=_right)
    command = verbs.add_parser(
        "renew",
        parents=[common],
        help="a licence was renewed at its maker: note until when it runs now",
        epilog="example: windbreak licence renew fulmar-breakwater --until 2027-11-06",
    )
    command.add_argument("licence", metavar="LICENCE")
    command.add_argument("--until", type=a_day, metavar="DAY", help="its new last day")
    command.set_defaults(do=_renew)
    command = verbs.add_parser(
        "credentials", parents=[common], help="where each credential is used, and how it stands"
    )
    command.add_argument("--site", help="only those that this site uses")
    command.set_defaults(do=_credentials)
    command = verbs.add_parser("forecast", parents=[common], help="seats that will be asked for")
    command.set_defaults(do=_forecast)


def _add_facts(command: argparse.ArgumentParser) -> None:
    command.add_argument("--range", metavar="RANGE", help="the versions it covers, as '<5'")
    command.add_argument("--seats", type=int, metavar="N", help="without limit when not given")
    command.add_argument("--covers-until", type=a_day, metavar="DAY")
    command.add_argument("--expires", type=a_day, metavar="DAY")
    command.add_argument("--bought-by", metavar="ACCOUNT")
    command.add_argument("--renewal", metavar="TEXT", help="how and by whom it is renewed")


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        licences = windbreak.licences()
        site = pick_site(windbreak, args.site) if args.site else None
    if site:
        licences = [v for v in licences if site in v.reaches or site in v.without]
    if args.json:
        return dump(licences)
    if args.quiet:
        return print("\n".join(v.licence.id for v in licences))
    table(
        ["licence", "label", "form", "seats", "ends", "how it stands"],
        (
            (
                v.licence.id,
                v.licence.label,
                v.licence.form,
                _seats(v),
                v.licence.expires or v.licence.covers_until or "–",
                v.text,
            )
            for v in licences
        ),
        "No licence is entered. Enter one: windbreak licence add ID LABEL FORM",
    )
    return None


def _credentials(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        rows = windbreak.credentials()
        site = pick_site(windbreak, args.site) if args.site else None
    if site:
        rows = [row for row in rows if any(seat.site == site for seat in row.sites)]
    if args.json:
        return dump(rows)
    table(
        ["credential", "of", "state", "asked", "product", "sites"],
        (
            (
                row.credential,
                row.label,
                _STATES.get(row.state, row.state),
                age(row.at),
                row.name,
                _of_sites(row),
            )
            for row in rows
        ),
        "No feed has a credential, and no licence a code.",
    )
    return None


_STATES = {"valid": "seen valid", "refused": "seen refused", "not yet": "not seen yet"}


def _of_sites(row: CredentialRow) -> str:
    """The sites of a row: by name where a code stands on each, else how many."""
    if row.feed is not None:
        return counted(len(row.sites), "site")
    return ", ".join(f"{seat.site}: {seat.state}" for seat in row.sites) or "none runs it"


def _seats(view: Any) -> str:
    if not view.licence.seated:
        return f"{len(view.reaches)} sites"
    riders = f" + {view.riders}" if view.riders else ""
    of = f" of {view.licence.seats}" if view.licence.seats is not None else ""
    return f"{view.own}{riders}{of}"


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        view = windbreak.licence(args.licence)
    if args.json:
        return dump(view)
    licence = view.licence
    say(f"**{licence.label}**, {licence.form}: {', '.join(view.covers)}")
    say(view.text)
    say(f"What stops when it lapses: {view.stops}")
    bought = licence.bought_by or "nobody that is named"
    code = f" Code {licence.code}." if licence.code else ""
    former = f" The one before ended in {licence.former}." if licence.former else ""
    renewal = f" {licence.renewal[:1].upper()}{licence.renewal[1:]}." if licence.renewal else ""
    say(f"Bought by {bought}.{code}{former}{renewal}")
    for seat in view.seats:
        own = f" {seat.seat.code}" if seat.seat.code else ""
        say(f"  {seat.text}{own}")
    for word, sites in (
        ("uses it without a seat", view.without),
        ("has the old code still", view.still_old),
    ):
        for site in sites:
            say(f"  {site} {word}.")
    return None


def _add(args: argparse.Namespace) -> None:
    from windbreak.core.values.licences import NewLicence

    with connect(args) as windbreak:
        new = NewLicence.model_validate(
            {
                "id": args.id,
                "label": args.label,
                "form": args.form,
                "products": [pick_product(windbreak, p) for p in args.product],
                "maker": args.maker,
                "through": pick_product(windbreak, args.through) if args.through else None,
                "code": secret("Code: ") if args.code else None,
                "range": args.range or "*",
                "seats": args.seats,
                "riding": not args.no_riding,
                "covers_until": args.covers_until,
                "expires": args.expires,
                "bought_by": args.bought_by or "",
                "renewal": args.renewal or "",
            }
        )
        licence = windbreak.add_licence(new)
    if args.json:
        return dump(licence)
    say(f"**{licence.label}** is entered.")
    if licence.seated:
        say(f"Give its seats: windbreak licence seat {licence.id} SITE")
    return None


def _set(args: argparse.Namespace) -> None:
    from windbreak.core.values.licences import LicenceChange

    change = LicenceChange(
        label=args.label,
        range=args.range,
        seats=args.seats,
        covers_until=args.covers_until,
        expires=args.expires,
        bought_by=args.bought_by,
        renewal=args.renewal,
    )
    with connect(args) as windbreak:
        licence = windbreak.change_licence(args.licence, change)
    dump(licence) if args.json else say(f"**{licence.label}** is changed.")


def _drop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        view = windbreak.licence(args.licence)
        ask(f"Would forget **{view.licence.label}**. {view.stops}", yes=args.yes)
        windbreak.drop_licence(args.licence)
    say("It is forgotten.")


def _seat(args: argparse.Namespace) -> None:
    from windbreak.core.values.licences import NewSeat

    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site)
        held = windbreak.licence(args.licence)
        leads = {view.seat.site for view in held.seats if not view.seat.riding}
        rides = windbreak.site(site).summary.twin_of in leads
        needs = held.licence.form == "per-site code" and not rides
        code = secret("Code: ") if args.code or needs else None
        seat = windbreak.seat_site(
            args.licence, NewSeat.model_validate({"site": site, "code": code})
        )
    if args.json:
        return dump(seat)
    how = "riding along with its site" if seat.riding else "its own"
    say(f"**{seat.site}** has a seat of {seat.licence}, {how}.")
    return None


def _unseat(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site)
        what = f"Would take the seat of {args.licence} from **{site}**, and from its twin."
        ask(what, yes=args.yes)
        windbreak.unseat_site(args.licence, site)
    say("The seat is free.")


def _rotate(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site) if args.site else None
        licence = windbreak.rotate_code(args.licence, secret("New code: "), site)
        view = windbreak.licence(args.licence)
    if args.json:
        return dump(licence)
    say(f"**{licence.label}** has a new code. No site knows it yet.")
    if view.still_old:
        say(f"The old one is in use on {', '.join(view.still_old)}: do not revoke it yet.")
    say(f"Enter it: windbreak licence enter {licence.id}")
    return None


def _enter(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        view = windbreak.licence(args.licence)
        site = pick_site(windbreak, args.site) if args.site else None
        where = site or ", ".join(s.seat.site for s in view.seats) or "no site"
        ask(f"Would enter the code of **{view.licence.label}** on {where}.", yes=args.yes)
        results = windbreak.enter_code(args.licence, site)
    if args.json:
        dump(results)
    else:
        for result in results:
            say(result.text)
    well = sum(r.state == "registered" for r in results)
    return 0 if well == len(results) else 5 if well else 1


def _right(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site)
        right = windbreak.right(site, pick_product(windbreak, args.product), args.version)
    if args.json:
        return dump(right)
    say(right.text)
    for act in right.acts:
        say(f"  {act.label}. {_HOW[act.act].format(**act.on)}")
    return None


# How a right is brought about, once it is paid for.
_HOW = {
    "give-seat": "windbreak licence seat {licence} {site}",
    "renew": "Then: windbreak licence renew {licence} --until DAY",
    "buy-seat": "Then: windbreak licence set {licence} --seats N, its new number of seats; and: "
    "windbreak licence seat {licence} {site}",
    "buy-licence": "Then enter it: windbreak licence add ID LABEL FORM --product {product}; "
    "and, where it has seats: windbreak licence seat ID {site}",
}


def _renew(args: argparse.Namespace) -> None:
    from windbreak.core.values.licences import LicenceChange

    with connect(args) as windbreak:
        licence = windbreak.licence(args.licence).licence
        until = args.until or _new_end(licence)
        dated = "expires" if licence.expires is not None else "covers_until"
        windbreak.change_licence(args.licence, LicenceChange.model_validate({dated: until}))
        view = windbreak.licence(args.licence)
    dump(view) if args.json else say(f"**{licence.label}**: {view.text}")


def _new_end(licence: Licence) -> str:
    """Until when a renewed licence runs, asked for where somebody can be. Raises Refusal."""
    if not sys.stdin.isatty():
        raise Refusal(
            f"say until when it runs now: windbreak licence renew {licence.id} --until DAY", 2
        )
    return input(f"Until when does {licence.label} run now? As 2027-11-06: ").strip()


def _forecast(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        forecasts = windbreak.forecasts()
    if args.json:
        return dump(forecasts)
    for forecast in forecasts:
        say(forecast.text)
        say(f"  {', '.join(forecast.sites)}")
    if not forecasts:
        say("No known release changes the form of a licence on a site of ours.")
    return None
