"""``windbreak rollout``: what is approved across sites goes in waves."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

from windbreak.cli.output import (
    a_day,
    ask,
    dump,
    glyph,
    local,
    plain,
    reason_of,
    say,
    state,
    styled,
    table,
)
from windbreak.cli.profile import connect, pick_product, pick_site
from windbreak.cli.refusals import Refusal
from windbreak.wording.words import counted, day, listed

if TYPE_CHECKING:
    from windbreak.client import Windbreak
    from windbreak.core.values.rollouts import NewRollout, Rollout, StaysOut
    from windbreak.documents.rollouts import DraftMember, MemberView, RolloutDraft, RolloutStory

    _Placed = TypeVar("_Placed", DraftMember, MemberView)

WAVES = {"twin": "Twins, each before its own site", "canary": "Canaries", "rest": "The rest"}
_STATES = {
    "to be booked": "waiting",
    "booked": "ready",
    "running": "running",
    "done": "clear",
    "failed": "failed",
    "left out": "held",
}


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    group = commands.add_parser(
        "rollout", help="approve across sites: draft, approve, show, stop, go-on, leave-out, …"
    )
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every rollout").set_defaults(do=_list)
    for verb, act, words in (
        ("draft", _draft, "what would go where, when and why, before it is approved"),
        ("approve", _approve, "show the draft, ask, and let go what was shown, in waves"),
    ):
        command = verbs.add_parser(
            verb,
            parents=[common],
            help=words,
            epilog="examples: windbreak rollout draft    windbreak rollout approve millrace 6.4.3 "
            "--why 'a security fix'    windbreak rollout approve --security --client 'Ness'",
        )
        _say_what(command)
        command.set_defaults(do=act)
        if verb == "approve":
            command.add_argument("--yes", action="store_true")
    for verb, act, words in (
        ("show", _show, "its waves, its gates, and who is not in them"),
        ("stop", _stop, "what runs goes on to its end; what is booked is taken out"),
        ("go-on", _go_on, "go on with one that was stopped"),
        ("open", _open, "open a gate though a run before it did not end well"),
        ("leave-out", _leave_out, "go on without a site"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("rollout", metavar="ROLLOUT", type=int)
        if verb == "leave-out":
            command.add_argument("site", metavar="SITE")
        if verb == "open":
            command.add_argument(
                "gate",
                metavar="GATE",
                nargs="?",
                default="canaries",
                help="canaries, or the site that a twin’s gate keeps back",
            )
        if verb != "show":
            command.add_argument("--why", default="", help="your reason, for the ledger")
        command.set_defaults(do=act)
    command = verbs.add_parser(
        "failed", parents=[common], help="moves that failed somewhere and wait everywhere"
    )
    command.set_defaults(do=_failed)
    command = verbs.add_parser(
        "let-go", parents=[common], help="let a move be made elsewhere though it failed somewhere"
    )
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("version", metavar="VERSION")
    command.add_argument("--why", required=True, help="your reason, for the ledger")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_let_go)


def _say_what(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "product", metavar="PRODUCT", nargs="?", help="one release; everything ready without it"
    )
    command.add_argument("version", metavar="VERSION", nargs="?")
    command.add_argument("--security", action="store_true", help="only what closes an advisory")
    command.add_argument(
        "--site", action="append", default=[], metavar="SITE", help="may be repeated"
    )
    command.add_argument("--client", metavar="CLIENT")
    command.add_argument("--tag", metavar="TAG")
    command.add_argument(
        "--but", action="append", default=[], metavar="SITE", help="leave it out; may be repeated"
    )
    command.add_argument(
        "--canary",
        action="append",
        metavar="SITE",
        help="in the place of those that are proposed; may be repeated",
    )
    command.add_argument(
        "--no-canaries", action="store_true", help="all go at once, after their twins"
    )
    command.add_argument(
        "--quiet-hours", type=float, default=20.0, metavar="H", help="after each wave; 20"
    )
    command.add_argument(
        "--refresh-twins", action="store_true", help="make each twin as its site is, before it goes"
    )
    command.add_argument(
        "--waves", type=int, default=1, metavar="N", help="in which the rest goes; 1"
    )
    command.add_argument(
        "--patches-until",
        type=a_day,
        metavar="DAY",
        help="up to this day patch releases of what is taken go too, once they have soaked",
    )
    command.add_argument(
        "--restore-anyway",
        action="store_true",
        help="restore the snapshot if need be, though orders came in meanwhile",
    )
    command.add_argument("--why", default="", help="your reason, for the ledger")


def _asked(windbreak: Windbreak, args: argparse.Namespace) -> NewRollout:
    from windbreak.core.values.rollouts import NewRollout

    canaries = None
    if args.canary or args.no_canaries:
        canaries = tuple(pick_site(windbreak, site) for site in args.canary or ())
    return NewRollout(
        product=pick_product(windbreak, args.product) if args.product else None,
        version=args.version,
        security=args.security,
        sites=tuple(pick_site(windbreak, site) for site in args.site),
        client=args.client,
        tag=args.tag,
        but=tuple(pick_site(windbreak, site) for site in args.but),
        canaries=canaries,
        quiet_minutes=args.quiet_hours * 60,
        why=args.why,
        refresh_twins=args.refresh_twins,
        restore_anyway=args.restore_anyway,
        patches_until=args.patches_until,
        waves=args.waves,
    )


def _draft(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        draft = windbreak.draft_rollout(_asked(windbreak, args))
    if args.json:
        return dump(draft)
    _tell_draft(draft)
    say("Nothing is approved yet. The same words with **approve** let it go.")
    return None


def _tell_draft(draft: RolloutDraft) -> None:
    moves = sum(draft.moves.values())
    kinds = ", ".join(f"{count} {kind}" for kind, count in draft.moves.items() if count)
    title = f"{draft.what[:1].upper()}{draft.what[1:]}"
    say(
        f"**{title}, for {draft.where}**: {counted(moves, 'move')} on "
        f"{counted(len(draft.members), 'site')}{f' ({kinds})' if kinds else ''}"
        f"{f'; {draft.held} held' if draft.held else ''}."
    )
    if draft.improved < 1:
        say(f"The times are a first draft, improved to {draft.improved:.0%}; they may get better.")
    if draft.before:
        say(f"{counted(len(draft.before), 'site')} approved before, which keep their time.")
    for title, members in _waves(draft.members):
        print()
        say(f"**{title}**")
        _tell_members(members)
    if any(member.wave == "canary" for member in draft.members):
        fewest = "; no fewer do" if draft.proven else ""
        say(f"The canaries cover {draft.covered} of {draft.kinds} kinds that sites share{fewest}.")
        hours = draft.asked.quiet_minutes / 60
        say(f"The rest goes when all of them ended as before and {hours:g} hours have passed.")
    if draft.asked.waves > 1:
        say("Each wave of the rest waits for the one before it in the same way.")
    if draft.asked.patches_until is not None:
        say(f"Patch releases follow until {day(draft.asked.patches_until)}, once they have soaked.")
    for bring in draft.brings:
        days = f", within {counted(bring.due_days, 'day')}" if bring.due_days is not None else ""
        say(f"It asks of a person{days}: {bring.text} ({', '.join(bring.labels)}).")
    if draft.stays_out:
        print()
        say(f"{_how_many_out(draft.stays_out)}, {draft.nothing} more have nothing to do.")
        tell_out(draft.stays_out)


def _waves(members: Sequence[_Placed]) -> Iterator[tuple[str, list[_Placed]]]:
    """Waves in their order, those of the rest one by one, each with its title."""
    last = max((m.turn for m in members if m.wave == "rest"), default=1)
    for wave, title in WAVES.items():
        for turn in range(1, last + 1 if wave == "rest" else 2):
            here = [m for m in members if m.wave == wave and (wave != "rest" or m.turn == turn)]
            if here:
                yield f"{title}, {turn} of {last}" if wave == "rest" and last > 1 else title, here


def _how_many_out(every: Iterable[StaysOut]) -> str:
    count = sum(len(out.sites) for out in every)
    return f"**{counted(count, 'site')} {'stays' if count == 1 else 'stay'} out**"


def tell_out(every: Iterable[StaysOut]) -> None:
    """Who stays out, and why: each reason once, with its sites."""
    for out in every:
        first, more = out.labels[:4], len(out.labels) - 4
        names = f"{', '.join(first)}{f' and {more} more' if more > 0 else ''}"
        styled(f"{state(out.state)}  {plain(names)}")
        say(f"  {out.text}")


def _tell_members(members: Iterable[DraftMember]) -> None:
    table(
        ["when", "site", "moves", "min", "why"],
        (
            (
                local(m.starts_at) if m.starts_at else "no place",
                m.label + (" (urgent)" if m.urgent else ""),
                sum(m.moves.values()),
                m.minutes,
                "; ".join(
                    filter(
                        None,
                        (
                            f"covers {', '.join(m.covers)}" if m.covers else "",
                            m.due_for,
                            f"watched: {m.watched}" if m.watched else "",
                            reason_of(m.why, m.starts_at),
                        ),
                    )
                ),
            )
            for m in members
        ),
        "",
    )


def _approve(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        draft = windbreak.draft_rollout(_asked(windbreak, args))
        rollout = None
        while rollout is None:
            if draft.members:
                if not args.json:
                    _tell_draft(draft)
                _ask(draft, yes=args.yes)
            rollout, draft = _approved(windbreak, draft, args)
        story = windbreak.rollout(rollout.id)
    if args.json:
        dump(rollout)
    else:
        _tell(story)
    return 5 if any(member.state == "left out" for member in story.members) else 0


def _ask(draft: RolloutDraft, *, yes: bool) -> None:
    ask(
        f"{counted(len(draft.members), 'site')} would go. A step that fails is put back; "
        "whoever has the same move waits, and a gate behind it waits for your word.",
        yes=yes,
    )


def _approved(
    windbreak: Windbreak, draft: RolloutDraft, args: argparse.Namespace
) -> tuple[Rollout | None, RolloutDraft]:
    """The rollout of a draft; or none, and the draft as it is now, where something changed since it
    was shown. Then a person is asked again; raises Refusal where nobody is there to be asked.
    """
    from windbreak.client import Problem
    from windbreak.core.values.rollouts import ApproveRollout

    words = ApproveRollout(
        draft=draft.id,
        why=args.why,
        refresh_twins=args.refresh_twins,
        restore_anyway=args.restore_anyway,
        patches_until=args.patches_until,
    )
    try:
        return windbreak.approve_rollout(words), draft
    except Problem as problem:
        if problem.code != "draft-changed":
            raise
        changes = problem.details.get("changes", [])
        if args.yes or args.json:
            raise Refusal(
                f"something changed since this was drafted: {' '.join(changes)} Nothing was "
                "approved. Run the same command again to approve it as it is now"
            ) from None
        say("**Something changed since this was shown. Nothing was approved.**")
        for line in changes:
            say(f"  {line}")
        print()
        return None, windbreak.rollout_draft(str(problem.details.get("draft", "")))


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        every = windbreak.rollouts()
        names = {row.product.id: row.product.name for row in windbreak.products()} if every else {}
    if args.json:
        return dump(every)

    def what(rollout: Rollout) -> str:
        named = names.get(rollout.product or "")
        return f"{named} {rollout.version}" if named else rollout.what

    table(
        ["rollout", "what", "for", "sites", "state", "how it stands"],
        ((r.id, what(r), r.where, len(r.going), r.state, r.text) for r in every),
        "There is no rollout.",
    )
    return None


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        story = windbreak.rollout(args.rollout)
    dump(story) if args.json else _tell(story, stays_out=True)


def _tell(story: RolloutStory, *, stays_out: bool = False) -> None:
    rollout = story.rollout
    say(f"**Rollout {rollout.id}: {story.title}**")
    why = f": “{rollout.why}”" if rollout.why else ""
    how = " ".join(filter(None, (f"{rollout.state}.", rollout.text, story.standing)))
    say(f"{how} Approved by {rollout.made_by}, {local(rollout.made_at)}{why}.")
    if rollout.follows is not None:
        say(f"It takes a patch release by the word given for rollout {rollout.follows}.")
    if rollout.patches_until is not None:
        say(f"Patch releases follow until {day(rollout.patches_until)}, once they have soaked.")
    for title, members in _waves(story.members):
        print()
        say(f"**{title}**")
        table(
            ["state", "when", "site", "moves", "how it stands"],
            (
                (
                    glyph(_STATES[m.state], m.state),
                    local(m.at) if m.at else "–",
                    m.label,
                    m.moves,
                    m.text
                    or reason_of(m.why, m.at)
                    or (f"covers {', '.join(m.covers)}" if m.covers else ""),
                )
                for m in members
            ),
            "",
        )
    if stays_out and story.stays_out:
        print()
        say(f"{_how_many_out(story.stays_out)}.")
        tell_out(story.stays_out)
        print()
    for gate in story.gates:
        styled(
            f"{'[yellow]' if gate.state == 'wants a word' else '[bold]'}Gate[/] "
            f"{plain(gate.label)}: {gate.state}. {plain(gate.text)}"
            + (f" It opens {local(gate.opens)}." if gate.opens and gate.state == "quiet" else "")
        )
        if gate.state == "wants a word":
            say(
                f"  → windbreak rollout open {rollout.id} {gate.id} --why …   or leave-out, or stop"
            )
    for move in story.failed:
        styled(f"[red]{plain(move.what)} waits everywhere[/]: {plain(move.text)}")
        say(f"  → windbreak rollout let-go {move.product} {move.version} --why …")


def _stop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        rollout = windbreak.stop_rollout(args.rollout, args.why)
    dump(rollout) if args.json else say(
        f"Rollout {rollout.id}: {rollout.text} Go on with it: windbreak rollout go-on {rollout.id}"
    )


def _go_on(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        rollout = windbreak.go_on_with_rollout(args.rollout, args.why)
        story = windbreak.rollout(rollout.id)
    dump(rollout) if args.json else _tell(story)


def _open(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        rollout = windbreak.open_gate(args.rollout, args.gate, args.why)
    dump(rollout) if args.json else say(f"The gate opens: {args.gate}.")


def _leave_out(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site)
        rollout = windbreak.leave_out(args.rollout, site, args.why)
    dump(rollout) if args.json else say(f"Rollout {rollout.id} goes on without {site}.")


def _failed(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        moves = windbreak.failed_moves()
    if args.json:
        return dump(moves)
    table(
        ["product", "version", "run", "what happened"],
        ((m.product, m.version, m.run, m.text) for m in moves),
        "No move that failed waits for a word.",
    )
    return None


def _let_go(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        product = pick_product(windbreak, args.product)
        for waiting in windbreak.failed_moves():
            if (waiting.product, waiting.version) == (product, args.version):
                whom = listed(waiting.waits) or "Whoever is approved for it later"
                ask(f"{waiting.text} {whom} would make the same move.", yes=args.yes)
        move = windbreak.let_move_go(product, args.version, args.why)
    dump(move) if args.json else say(
        f"{move.product} {move.version} may be made elsewhere; what waited for it is booked again."
    )
