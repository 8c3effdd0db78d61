"""``windbreak today``, ``approve``, ``finding``."""

from __future__ import annotations

import argparse
import json
from datetime import datetime
from typing import Any

from windbreak.cli import clock
from windbreak.cli.output import (
    a_day,
    age,
    ask,
    dump,
    local,
    plain,
    say,
    state,
    styled,
    table,
)
from windbreak.cli.profile import connect
from windbreak.cli.refusals import Refusal
from windbreak.wording.acts import command, command_line
from windbreak.wording.words import counted


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    command = commands.add_parser("today", parents=[common], help="what wants attention")
    command.set_defaults(do=_today)
    command = commands.add_parser("approve", parents=[common], help="let a plan go")
    command.add_argument("plan", metavar="PLAN", type=int)
    command.add_argument("--why", default="", help="your reason, for the ledger")
    command.add_argument(
        "--restore-anyway",
        action="store_true",
        help="restore the snapshot if need be, though orders came in meanwhile",
    )
    command.add_argument(
        "--changed-files",
        choices=("carry-over", "set-aside"),
        help="what becomes of files that were changed in place",
    )
    command.add_argument(
        "--patches-until",
        type=a_day,
        metavar="DAY",
        help="up to this day patch releases of the targets may be taken too, once they have soaked",
    )
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_approve)
    finding = commands.add_parser("finding", help="findings: list, show, snooze, wake")
    verbs = finding.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="most urgent first")
    command.add_argument("--snoozed", action="store_true", help="also those that are put aside")
    command.set_defaults(do=_findings)
    command = verbs.add_parser("show", parents=[common], help="one finding, whole")
    command.add_argument("finding", metavar="FINDING")
    command.set_defaults(do=_finding)
    command = verbs.add_parser("snooze", parents=[common], help="put a finding aside until a day")
    command.add_argument("finding", metavar="FINDING")
    command.add_argument("until", metavar="DAY", type=a_day)
    command.add_argument("--why", required=True)
    command.set_defaults(do=_snooze)
    command = verbs.add_parser("wake", parents=[common], help="bring a snoozed finding back")
    command.add_argument("finding", metavar="FINDING")
    command.set_defaults(do=_wake)


def _say_beginnings(steps: list[dict[str, Any]]) -> None:
    """The checklist of the first day."""
    print()
    say("**The first day** (docs/first-day.md walks through it)")
    for step in steps:
        box = "[x]" if step["done"] else "[ ]"
        print(f"  {box} {step['act']['label']}. {step['why']}")
        if not step["done"]:
            print(f"      {command_line(step['act']['act'], step['act']['on'])}")


def _today(args: argparse.Namespace) -> None:
    """The morning's page. Printed from the JSON as it came: its types need not be loaded for it."""
    from windbreak.client import calls

    with connect(args) as windbreak:
        today = json.loads(windbreak.text(calls.today()))
    if args.json:
        return dump(today)
    if args.quiet:
        return print("\n".join(f["id"] for f in today["findings"]))
    totals = today["totals"]
    count = len(today["findings"])
    head = "1 finding wants you" if count == 1 else f"{count} findings want you"
    say(f"**{head}**, most urgent first." if count else "**Nothing wants you.**")
    beyond = (
        f"; {totals['beyond_moves']} more on {counted(totals['beyond_sites'], 'site')} that can’t "
        "be reached"
        if totals["beyond_moves"]
        else ""
    )
    say(
        f"{counted(totals['moves'], 'move')} {'is' if totals['moves'] == 1 else 'are'} ready on "
        f"{counted(totals['sites'], 'site')}{beyond}."
    )
    if today["beginnings"]:
        _say_beginnings(today["beginnings"])
    for finding in today["findings"]:
        print()
        until = f"  {_due(_at(finding['deadline']))}" if finding["deadline"] else ""
        text = plain(finding["headline"].replace("**", "").replace("`", ""))
        styled(f"{state(finding['state'])}  [bold]{text}[/]{until}")
        say(f"  {finding['text']}")
        act = finding["act"]
        say(f"  → {command_line(act['act'], act['on'])}")
    if today["asleep"]:
        print()
        say(f"**Put aside**: {len(today['asleep'])}. See: windbreak finding list --snoozed")
    if not today["drives"]:
        print()
        say("**This service is a restored copy and drives no site**: windbreak take-over")
    if today["bookings"]:
        print()
        say("**Booked**")
        for booking in today["bookings"]:
            at = local(_at(booking["starts_at"]))
            say(f"  {at}  {booking['site']}, plan {booking['plan']}")
    print()
    for label, text, polled in today["feeds"]:
        say(f"{label}: {text}, looked at {age(_at(polled) if polled else None)}.")
    return None


def _at(text: str) -> datetime:
    return datetime.fromisoformat(text)


def _due(deadline: datetime) -> str:
    """A deadline as a day: "by Fri 27 Nov", "since Mon 2 Nov"."""
    word = "since" if deadline < clock.now() else "by"
    return f"{word} {deadline:%a} {deadline.day} {deadline:%b %Y}"


def _findings(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        findings = windbreak.findings(args.snoozed)
    if args.json:
        return dump(findings)
    if args.quiet:
        return print("\n".join(f.id for f in findings))
    table(
        ["state", "finding", "by", "what", "next act"],
        (
            (
                state(f.state),
                f.id,
                f.deadline.date() if f.deadline else "–",
                f.headline.replace("*", "").replace("`", "")
                + (f" (put aside to {f.snoozed.until})" if f.snoozed else ""),
                command(f.act),
            )
            for f in findings
        ),
        "Nothing wants attention.",
    )
    return None


def _pick_finding(windbreak: Any, text: str) -> Any:
    """A finding by its id, or by a part of it that only one has."""
    every = windbreak.findings(True)
    fitting = [f for f in every if f.id == text] or [f for f in every if text in f.id]
    if len(fitting) == 1:
        return fitting[0]
    what = "there is no finding" if not fitting else f"{len(fitting)} findings fit"
    raise Refusal(f"{what} {text!r}; see `windbreak finding list`", 1 if not fitting else 2)


def _finding(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        finding = _pick_finding(windbreak, args.finding)
    if args.json:
        return dump(finding)
    text = plain(finding.headline.replace("**", "").replace("`", ""))
    styled(f"{state(finding.state)}  [bold]{text}[/]")
    say(finding.text.replace("`", ""))
    say(f"Weight {finding.weight}, open since {local(finding.opened_at)}.")
    if finding.deadline:
        due = _due(finding.deadline)
        say(f"{due[:1].upper()}{due[1:]}.")
    if finding.snoozed:
        snoozed = finding.snoozed
        say(f"Put aside to {snoozed.until} by {snoozed.by}: {snoozed.why}")
    say(f"{finding.act.label}: {command(finding.act)}")
    return None


def _snooze(args: argparse.Namespace) -> None:
    from windbreak.core.values.findings import SnoozeFinding

    with connect(args) as windbreak:
        id = _pick_finding(windbreak, args.finding).id
        finding = windbreak.snooze_finding(id, SnoozeFinding(until=args.until, why=args.why))
    dump(finding) if args.json else say(
        f"It is put aside to {args.until}, and comes back then unless its cause is gone."
    )


def _wake(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        finding = windbreak.wake_finding(_pick_finding(windbreak, args.finding).id)
    dump(finding) if args.json else say("It is back among what wants attention.")


def _approve(args: argparse.Namespace) -> None:
    from windbreak.wording.words import counted

    with connect(args) as windbreak:
        plan = windbreak.plan(args.plan)
        steps = len(plan.plan.steps)
        restore = (
            "the snapshot is restored even if orders came in meanwhile"
            if args.restore_anyway
            else "the snapshot is restored by itself only if nothing was written meanwhile"
        )
        ask(
            f"Would approve plan {plan.id} for **{plan.site}**: {counted(steps, 'step')}, "
            f"{counted(len(plan.targets), 'product')}. "
            f"A step that fails is put back; if that does not help, {restore}.",
            yes=args.yes,
        )
        plan = windbreak.approve_plan(
            args.plan, args.why, args.restore_anyway, args.changed_files, args.patches_until
        )
    if args.json:
        return dump(plan)
    say(
        f"Plan {plan.id} is approved. Book it: windbreak book {plan.id}   "
        f"or run it now: windbreak run start {plan.id}"
    )
    return None
