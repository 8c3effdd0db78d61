"""``windbreak site``: what there is, and how it is linked."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from windbreak.cli.one_site import files, looked, show
from windbreak.cli.output import age, ask, dump, local, say, state, table
from windbreak.cli.profile import connect, pick_product, pick_site
from windbreak.cli.refusals import Refusal
from windbreak.wording.words import counted


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    site = commands.add_parser(
        "site",
        help="sites: list, add, set, link, unlink, show, refresh, refresh-twin, prove, window, "
        "files, note, by-hand, mark-own, retire, export, import",
    )
    verbs = site.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="every site, worst first")
    command.add_argument("text", nargs="?", help="part of a name, client or address")
    command.add_argument("--client")
    command.add_argument("--host")
    command.add_argument("--state")
    command.add_argument("--tag")
    command.add_argument("--runs", metavar="FACT", help="as 'trestle<5.1'")
    command.set_defaults(do=_list)
    command = verbs.add_parser(
        "add",
        parents=[common],
        help="register a site",
        epilog='example: windbreak site add "Skerry Light Trust" https://skerry-light.example '
        "--client Skerry --host mole",
    )
    command.add_argument("label", metavar="LABEL")
    command.add_argument(
        "--system", choices=("millrace", "wordpress"), default="millrace", help="what it runs on"
    )
    command.add_argument("at", metavar="ADDRESS")
    command.add_argument("--id", help="made from the label when not given")
    command.add_argument("--client", default="")
    command.add_argument("--host")
    command.add_argument(
        "--environment", choices=("production", "staging", "development"), default="production"
    )
    command.add_argument(
        "--twin-of", metavar="SITE", help="the production site this one stands for"
    )
    command.add_argument("--timezone", default="Europe/London")
    command.set_defaults(do=_add)
    command = verbs.add_parser(
        "link",
        parents=[common],
        help="print the line for the site's agent, or link once it was pasted there",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("--pasted", action="store_true", help="the line is in the agent: link now")
    command.set_defaults(do=_link)
    command = verbs.add_parser("unlink", parents=[common], help="end the link")
    command.add_argument("site", metavar="SITE")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_unlink)
    command = verbs.add_parser("show", parents=[common], help="one site: components, why, history")
    command.add_argument("site", metavar="SITE")
    command.set_defaults(do=show)
    command = verbs.add_parser("refresh", parents=[common], help="ask what is installed")
    command.add_argument("sites", metavar="SITE", nargs="*", help="all when none is given")
    command.set_defaults(do=_refresh)
    for verb, act, words in (
        ("refresh-twin", _refresh_twin, "make a twin as its production site is now"),
        ("prove", _prove, "prove on its twin that a site's backup can be restored"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("site", metavar="SITE")
        command.add_argument("--yes", action="store_true")
        command.set_defaults(do=act)
    command = verbs.add_parser(
        "window",
        parents=[common],
        help="set the hours in which a site may be worked on",
        epilog="example: windbreak site window tarnsey 01:00 05:00 --days mon,tue,wed,thu",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("start", metavar="START")
    command.add_argument("end", metavar="END")
    command.add_argument("--days", default="mon,tue,wed,thu,fri,sat,sun")
    command.add_argument("--timezone", default="Europe/London")
    command.set_defaults(do=_window)
    command = verbs.add_parser(
        "windows",
        parents=[common],
        help="set the hours of all sites of a client, or on a host",
        epilog="example: windbreak site windows 02:00 04:00 --client 'Ness Ferries'",
    )
    command.add_argument("start", metavar="START")
    command.add_argument("end", metavar="END")
    place = command.add_mutually_exclusive_group(required=True)
    place.add_argument("--client", metavar="CLIENT")
    place.add_argument("--host", metavar="HOST")
    command.add_argument("--days", default="mon,tue,wed,thu,fri,sat,sun")
    command.add_argument("--timezone", help="each keeps its own where none is told")
    command.set_defaults(do=_windows)
    _add_more(verbs, common)


def _add_more(verbs: Any, common: argparse.ArgumentParser) -> None:
    command = verbs.add_parser("set", parents=[common], help="change what is known of a site")
    command.add_argument("site", metavar="SITE")
    command.add_argument("--label")
    command.add_argument("--client")
    command.add_argument("--host")
    command.add_argument("--tag", action="append", dest="tags")
    command.add_argument(
        "--look-at",
        action="append",
        metavar="PATH",
        help="a page that runs look at beside those the agent names, as /menu; may be repeated",
    )
    command.add_argument("--address", metavar="URL", help="where its visitors go")
    command.add_argument("--environment", choices=("production", "staging", "development"))
    command.add_argument(
        "--twin-of", metavar="SITE", help="the production site it stands for; '' for none"
    )
    command.add_argument("--timezone", metavar="ZONE", help="as Europe/London")
    for option, what in (("agent", "its agent is asked"), ("pages", "its pages are looked at")):
        command.add_argument(
            f"--{option}-every", type=int, metavar="MIN", help=f"how often {what}; 0 for never"
        )
    command.set_defaults(do=_set)
    command = verbs.add_parser(
        "files",
        parents=[common],
        help="what was changed, added or lost in the folders of its components",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("--look", action="store_true", help="ask its agent now")
    command.set_defaults(do=files)
    command = verbs.add_parser(
        "note",
        parents=[common],
        help="write down what people should know of a site",
        epilog="example: windbreak site note fulmar 'Changeover is on Saturdays: not on Fridays.'",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("text", metavar="TEXT", help="in words; '' takes the note away")
    command.add_argument(
        "--client", action="store_true", help="for its client; for us when not given"
    )
    command.set_defaults(do=_note)
    command = verbs.add_parser(
        "by-hand",
        parents=[common],
        help="note that a person looks after a component of which no feed tells",
        epilog="example: windbreak site by-hand bell-rock anchor-maps --until 2027-03-01 "
        "--why 'its maker mails us'",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("--until", metavar="DAY", help="the day to look again")
    command.add_argument("--why", help="how whoever does it hears of what is newer")
    command.add_argument("--no-more", action="store_true", help="nobody does any longer")
    command.set_defaults(do=_by_hand)
    command = verbs.add_parser(
        "mark-own",
        parents=[common],
        help="mark a component as made for its site: no offer of that name is taken",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("--not", dest="not_own", action="store_true", help="take the mark away")
    command.set_defaults(do=_mark_own)
    command = verbs.add_parser(
        "retire", parents=[common], help="stop its work, end its link, free its seats"
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("--why", default="")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_retire)
    command = verbs.add_parser(
        "export", parents=[common], help="every site as CSV, or one site's inventory as CycloneDX"
    )
    command.add_argument("site", metavar="SITE", nargs="?")
    command.set_defaults(do=_export)
    command = verbs.add_parser("import", parents=[common], help="register the sites of a CSV")
    command.add_argument("file", metavar="FILE", type=Path)
    command.set_defaults(do=_import)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        sites = windbreak.sites(
            client=args.client,
            host=args.host,
            text=args.text,
            state=args.state,
            tag=args.tag,
            runs=args.runs,
        )
    if args.json:
        return dump(sites)
    if args.quiet:
        return print("\n".join(s.id for s in sites))
    table(
        ["state", "site", "host", "moves", "held", "worst reason", "facts"],
        (
            (
                state(s.state),
                ("  " if s.twin_of else "") + s.id,
                s.host or "–",
                sum(s.moves.values()),
                s.held,
                s.text,
                age(s.facts_at),
            )
            for s in sites
        ),
        "No site matches. Every one: windbreak site list; a new one: windbreak site add",
    )
    return None


def _add(args: argparse.Namespace) -> None:
    from windbreak.core.values.sites import NewSite

    with connect(args) as windbreak:
        environment = args.environment
        if args.twin_of and environment == "production":
            environment = "staging"
        new = NewSite(
            label=args.label,
            address=args.at,
            client=args.client,
            host=args.host,
            environment=environment,
            twin_of=pick_site(windbreak, args.twin_of) if args.twin_of else None,
            timezone=args.timezone,
            system=args.system,
        )
        site = windbreak.register_site(new, args.id)
    if args.json:
        return dump(site)
    if args.quiet:
        return print(site.id)
    say(f"**{site.label}** is registered as {site.id}. Link it: windbreak site link {site.id}")
    return None


def _link(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        if args.pasted:
            site = windbreak.link_site(id)
            if args.json:
                return dump(site)
            say(f"**{site.label}** is linked. {site.link.reason}")
            return None
        line = windbreak.link_line(id)
    if args.json:
        return dump(line)
    if args.quiet:
        return print(line.line)
    say(f"Paste this line into the site's agent, at {line.where}, by {local(line.good_until)}:")
    print(f"\n{line.line}\n")
    say(f"Then: windbreak site link {id} --pasted")
    return None


def _unlink(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        ask(f"Would end the link to **{id}** on both sides. Its history stays.", yes=args.yes)
        site = windbreak.unlink_site(id)
    dump(site) if args.json else say(f"**{site.label}**: {site.link.reason}")


def _refresh(args: argparse.Namespace) -> int:
    if len(args.sites) == 1:
        return _refresh_one(args)
    from windbreak.cli.errands import follow

    with connect(args) as windbreak:
        picked = [pick_site(windbreak, s) for s in args.sites]
        task = follow(windbreak, windbreak.refresh_sites(picked).id, quiet=args.json)
    if args.json:
        dump(task)
    else:
        for subject in sorted(task.ended, key=lambda s: s.well):
            say(f"**{subject.site}**: {subject.text}")
        say(f"Task {task.id}: {task.text}")
    well = sum(subject.well for subject in task.ended)
    if well == len(task.ended):
        return 0
    return 5 if well else 1


def _refresh_one(args: argparse.Namespace) -> int:
    from windbreak.core.values.visits import WRONG

    with connect(args) as windbreak:
        site = windbreak.refresh_site(pick_site(windbreak, args.sites[0]))
        view = windbreak.site(site.id)
    if args.json:
        dump(site)
    else:
        say(f"**{site.label}** {site.link.state}: {site.link.reason} Facts {age(site.facts_at)}.")
        say(f"pages {view.pages_state}: {view.pages_text} {looked(view)}")
    return 0 if site.link.state == "linked" and view.pages_state not in WRONG else 1


def _refresh_twin(args: argparse.Namespace) -> int:
    return _as_task(
        args,
        "What is on the twin of **{site}** is replaced by what is on its site now: files, content "
        "and settings. Its link and its seats stay its own.",
        "refresh_twin",
    )


def _prove(args: argparse.Namespace) -> int:
    return _as_task(
        args,
        "For **{site}** a snapshot of the production site is restored on the twin and looked at; "
        "then the twin is brought back to what it is now.",
        "prove_backup",
    )


def _as_task(args: argparse.Namespace, words: str, call: str) -> int:
    """Ask, have the service begin it, and follow it to its end."""
    from windbreak.cli.errands import follow

    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site)
        ask(words.format(site=site), yes=args.yes)
        task = follow(windbreak, getattr(windbreak, call)(site).id, quiet=args.json)
    dump(task) if args.json else say(f"**{task.sites[0]}**: {task.text}")
    return 0 if task.state == "done" else 1


def _set(args: argparse.Namespace) -> None:
    from windbreak.core.values.sites import SiteChange

    with connect(args) as windbreak:
        twin_of = pick_site(windbreak, args.twin_of) if args.twin_of else args.twin_of
        change = SiteChange(
            label=args.label,
            client=args.client,
            host=args.host,
            tags=args.tags,
            pages=args.look_at,
            address=args.address,
            environment=args.environment,
            twin_of=twin_of,
            timezone=args.timezone,
            agent_minutes=args.agent_every,
            pages_minutes=args.pages_every,
        )
        site = windbreak.change_site(pick_site(windbreak, args.site), change)
    dump(site) if args.json else say(f"**{site.label}** is changed.")


def _note(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        site = windbreak.write_note(id, "client" if args.client else "us", args.text)
    if args.json:
        return dump(site)
    did = "written" if args.text.strip() else "taken away"
    whom = "its client" if args.client else "us"
    say(f"The note for {whom} on **{site.label}** is {did}.")
    return None


def _by_hand(args: argparse.Namespace) -> None:
    from windbreak.core.values.sites import NewByHand

    if not args.no_more and not (args.until and args.why):
        raise Refusal("say until when and why: --until DAY --why TEXT", 2)
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        product = args.product if "/" in args.product else f"plugin/{args.product}"
        if args.no_more:
            site = windbreak.look_after_no_more(id, product)
        else:
            new = NewByHand.model_validate({"until": args.until, "why": args.why})
            site = windbreak.look_after(id, product, new)
    if args.json:
        return dump(site)
    did = "no longer looked after" if args.no_more else f"looked after until {args.until}"
    say(f"{product} on **{site.label}** is {did} by hand.")
    return None


def _mark_own(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        product = pick_product(windbreak, args.product)
        site = windbreak.mark_own(id, product, not args.not_own)
    if args.json:
        return dump(site)
    did = "no longer marked as" if args.not_own else "marked as"
    say(f"{product} on **{site.label}** is {did} made for it.")
    return None


def _retire(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        ask(
            f"Would retire **{id}**: withdraw its bookings, end its link and free its seats. Its "
            "history stays.",
            yes=args.yes,
        )
        site = windbreak.retire_site(id, args.why)
        last = windbreak.ledger(id, 1)
    if args.json:
        return dump(site)
    say(f"**{site.label}** is retired. {last[0].result if last else ''}".rstrip())
    return None


def _export(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        if args.site:
            return print(windbreak.inventory_cyclonedx(pick_site(windbreak, args.site)))
        return print(windbreak.sites_csv(), end="")


def _import(args: argparse.Namespace) -> None:
    text = args.file.read_text(encoding="utf-8-sig")
    with connect(args) as windbreak:
        imported = windbreak.import_sites(text)
    dump(imported) if args.json else say(imported["text"])


def _window(args: argparse.Namespace) -> None:
    from windbreak.core.values.sites import Window

    window = Window.model_validate(
        {"days": tuple(args.days.split(",")), "start": args.start, "end": args.end}
    )
    with connect(args) as windbreak:
        site = windbreak.set_windows(pick_site(windbreak, args.site), [window], args.timezone)
    say(f"**{site.label}** may be worked on from {args.start} to {args.end}, {site.timezone}.")


def _windows(args: argparse.Namespace) -> None:
    from windbreak.core.values.sites import WindowsOf

    where = WindowsOf.model_validate(
        {
            "client": args.client,
            "host": args.host,
            "windows": [
                {"days": tuple(args.days.split(",")), "start": args.start, "end": args.end}
            ],
            "timezone": args.timezone,
        }
    )
    with connect(args) as windbreak:
        changed = windbreak.set_windows_of(where)
    dump(changed) if args.json else say(
        f"{counted(len(changed), 'site')} may be worked on from {args.start} to {args.end}: "
        f"{', '.join(site.label for site in changed)}."
    )
