"""``windbreak resolve``, ``why``, ``acts``, ``plan``: what the reasoning says, and what if."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from windbreak.cli.output import age, dump, local, say, table
from windbreak.cli.profile import connect, pick_product, pick_site
from windbreak.cli.refusals import Refusal
from windbreak.wording.acts import command
from windbreak.wording.words import counted, listed

if TYPE_CHECKING:
    from collections.abc import Sequence

    from windbreak.core.values.errands import Brought
    from windbreak.core.values.findings import NextAct
    from windbreak.core.values.plans import SitePlan
    from windbreak.core.values.verdicts import Plan, Verdict
    from windbreak.documents.outlook import ActRow, Outlook
    from windbreak.documents.sheets import PlanSheet

_SUPPOSE = "see it as if this were done, changing nothing; as 'offer loom 8.1 on jetty'"


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    what_if = argparse.ArgumentParser(add_help=False)
    what_if.add_argument(
        "--if", dest="suppose", action="append", default=[], metavar="ACT", help=_SUPPOSE
    )
    both = [common, what_if]
    command = commands.add_parser("resolve", parents=both, help="a site's verdicts, with reasons")
    command.add_argument("site", metavar="SITE")
    command.set_defaults(do=_resolve)
    command = commands.add_parser(
        "why",
        parents=both,
        help="why a product is not newer on a site, and what would change it",
        epilog="example: windbreak why kelp-and-oar millrace",
    )
    command.add_argument("site", metavar="SITE")
    command.add_argument("product", metavar="PRODUCT")
    command.set_defaults(do=_why)
    command = commands.add_parser(
        "acts", parents=both, help="what somebody could do, what frees most first"
    )
    command.add_argument(
        "--show", type=int, metavar="N", help="one of them, with every move it frees"
    )
    command.set_defaults(do=_acts)
    command = commands.add_parser(
        "plan",
        parents=both,
        help="make a site's ordered plan",
        epilog="example: windbreak plan kelp-and-oar --if 'offer loom 8.1 on jetty'",
    )
    command.add_argument(
        "site", metavar="SITE", help="a site, or the number of a plan to show again"
    )
    command.add_argument(
        "--remove",
        metavar="PRODUCT",
        action="append",
        help="have this leave the site, and nothing else move; may be given again",
    )
    command.set_defaults(do=_plan)


def _supposed(outlook: Outlook) -> None:
    """Say what was taken as done, and what would be otherwise."""
    if not outlook.supposed:
        return
    for act in outlook.supposed:
        here = "" if act.here else "  (does not touch this site)"
        say(f"If: **{act.text}**{here}")
    for change in outlook.changes:
        say(f"  {change.text}")
    if not outlook.changes:
        say("  It would change nothing here.")
    say("Nothing was changed; this is how it would be.")
    say("")


def _resolve(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        outlook = windbreak.outlook(pick_site(windbreak, args.site), args.suppose)
        names = {r.product.id: r.product.name for r in windbreak.products()}
    if args.json:
        return dump(outlook)
    _supposed(outlook)
    rows = [_row(v, names) for v in outlook.answer.verdicts]
    table(["product", "now", "to", "newest", "outcome"], rows, "nothing is installed")
    for verdict in outlook.answer.verdicts:
        if verdict.blocked:
            say(f"  {verdict.blocked.text}")
    say(f"Reasoned {age(outlook.reasoned_at)}; situation {outlook.situation[:8]}")
    return None


def _row(verdict: Verdict, names: dict[str, str]) -> list[str]:
    moves = verdict.to != verdict.from_
    return [
        names.get(verdict.product, verdict.product),
        verdict.from_ or "absent",
        verdict.to or "absent" if moves else "",
        verdict.newest or "",
        verdict.outcome,
    ]


def _why(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        id = pick_site(windbreak, args.site)
        product = pick_product(windbreak, args.product)
        outlook = windbreak.outlook(id, args.suppose)
        verdict = next((v for v in outlook.answer.verdicts if v.product == product), None)
        if verdict is None:
            raise Refusal(f"{product} is not on {id}")
        blocked = verdict.blocked
        view = windbreak.site(id)
        rows = windbreak.acts(args.suppose) if blocked and blocked.unblock else []
    if args.json:
        return dump(verdict)
    _supposed(outlook)
    if blocked is None:
        shown = next((c for c in view.components if c.product == product), None)
        name = shown.name if shown else product
        if verdict.outcome == "current" and shown is not None and not args.suppose:
            return say(f"**{name}** stays at {verdict.from_} on {outlook.label}. {shown.text}")
        words = {"move": "goes to", "add": "joins at", "current": "stays at"}
        word = words.get(verdict.outcome, verdict.outcome)
        return say(f"**{name}** {word} {verdict.to or 'absent'} on {outlook.label}.")
    say(f"On **{outlook.label}**: {blocked.text}")
    if blocked.unblock:
        say("What would change it")
        for number, acts in enumerate(blocked.unblock, start=1):
            brings = f"; brings {acts.brings}" if acts.brings else ""
            say(f"  {number}  {acts.text}{brings}")
            for way in (w for w in acts.ways if w.act != "wait"):
                say(f"       {command(way)}")
            place = next(
                (n for n, r in enumerate(rows, 1) if _is_among(acts.ways, r) and id in r.sites),
                None,
            )
            freed = rows[place - 1] if place else None
            if freed and len(freed.sites) > 1:
                more = _frees(freed.moves, len(freed.sites), freed.security)
                say(f"       Across the fleet: {freed.text}; that {more}. "
                    f"windbreak acts --show {place}")  # fmt: skip
        first = next((c.acts[0] for c in view.components if c.product == product and c.acts), None)
        if first is not None and not args.suppose:
            ifs = " ".join(f"--if '{text}'" for text in first.suppose)
            say(f"See it without changing anything: windbreak plan {id} {ifs}")
    elif not blocked.searched:
        say("So much bears on it that not every act could be tried.")
    elif all(t.reason.kind != "trade" for t in blocked.reasons):
        say("No act, and no two or three together, would change it.")
    return None


def _is_among(ways: Sequence[NextAct], row: ActRow) -> bool:
    """Whether a row is of some ways, or of others that free the same."""
    every = (row.ways, *(name.ways for name in row.alike))
    return any(all(way in of for way in ways) for of in every)


def _frees(moves: int, sites: int, security: int) -> str:
    from windbreak.wording.words import counted

    text = f"frees {counted(moves, 'move')} on {counted(sites, 'site')}"
    return f"{text}, {security} of them security" if security else text


def _with_alike(row: ActRow) -> str:
    return f"{row.text} (or {len(row.alike)} like it)" if row.alike else row.text


def _acts(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        rows = windbreak.acts(args.suppose)
    if args.show is not None:
        if not 1 <= args.show <= len(rows):
            from windbreak.cli.refusals import Refusal

            raise Refusal(f"there are {len(rows)} acts; --show {args.show} is none of them")
        row = rows[args.show - 1]
        if args.json:
            return dump(row)
        say(f"**{row.text}**: {_frees(row.moves, len(row.sites), row.security)}")
        table(
            ["site", "product", "to", ""],
            [[m.label, m.name, m.version, "security" if m.security else ""] for m in row.frees],
            "nothing",
        )
        say(
            "See it on one site: windbreak plan SITE "
            + " ".join(f"--if '{t}'" for t in row.suppose)
        )
        return None
    if args.json:
        return dump(rows)
    table(
        ["", "act", "frees", "sites", "security"],
        [
            [
                str(n),
                _with_alike(r),
                str(r.moves),
                str(len(r.sites)),
                str(r.security) if r.security else "",
            ]
            for n, r in enumerate(rows, start=1)
        ],
        "nothing waits for an act of anybody",
    )
    say("What one of them frees: windbreak acts --show N")
    return None


def show_steps(plan: Plan, names: dict[str, str], brings: Sequence[Brought] = ()) -> None:
    """Print the steps of a plan with the reason for each place."""
    from windbreak.wording.answers import step_title
    from windbreak.wording.brought import brought_text

    if not plan.steps:
        say("Nothing moves now.")
    for number, step in enumerate(plan.steps, start=1):
        note = "  (waypoint)" if step.waypoint else ""
        say(f"  {number:2}  **{step_title(step, names)}**{note}")
        if step.tied or step.leaving:
            say(f"      {step.why}")
        for bring in brings:
            if bring.step == number:
                say(f"      {brought_text(bring)}")
    if plan.usual:
        say(f"  {plan.usual}")
    for stuck in plan.stuck:
        say(f"  stuck: {stuck.text}")


def show_plan(plan: SitePlan, names: dict[str, str], sheet: PlanSheet) -> None:
    """Print a kept plan: its steps, how long it takes, and what is not in it."""
    say(f"**Plan {plan.id} for {plan.site}**, {plan.state}, reckoned {local(plan.made_at)}")
    if plan.removes:
        say("It takes away, and moves nothing. What leaves is kept aside, and the snapshot has it.")
    elif plan.scope is not None:
        say(f"It moves nothing but {listed([names.get(p, p) for p in plan.scope])}.")
    if plan.plan.steps:
        drawn = f"from {counted(sheet.runs, 'run')}" if sheet.runs else "as is usual"
        say(
            f"About {sheet.minutes} min, {drawn}; {sheet.back_minutes} min to go back. "
            f"Window: {sheet.window}."
        )
    show_steps(plan.plan, names, plan.brings)
    for component in sheet.by_hand:
        say(f"  changed by hand: {component}")
    for verdict in plan.answer.verdicts:
        if verdict.blocked is not None:
            say(f"  not in it: {verdict.blocked.text}")


def _plan(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        names = {r.product.id: r.product.name for r in windbreak.products()}
        if args.suppose:
            outlook = windbreak.outlook(pick_site(windbreak, args.site), args.suppose)
            if args.json:
                return dump(outlook)
            _supposed(outlook)
            say(f"**A plan for {outlook.label}**, as it would be")
            return show_steps(outlook.plan, names)
        if args.site.isdigit():
            plan = windbreak.plan(int(args.site))
        elif args.remove:
            site = pick_site(windbreak, args.site)
            leaving = [pick_product(windbreak, product) for product in args.remove]
            plan = windbreak.draft_removal(site, leaving)
        else:
            plan = windbreak.draft_plan(pick_site(windbreak, args.site))
        sheet = windbreak.plan_sheet(plan.id)
    if args.json:
        return dump(plan)
    if args.quiet:
        return print(plan.id)
    show_plan(plan, names, sheet)
    if plan.state == "draft" and plan.plan.steps:
        decide = " --changed-files carry-over (or set-aside)" if sheet.by_hand else ""
        say(f"Let it go: windbreak approve {plan.id}{decide}")
    return None
