"""``windbreak site show`` and ``site files``: one site, as it is read at a terminal."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from windbreak.cli.output import age, dump, local, say, state, table
from windbreak.cli.profile import connect, pick_site
from windbreak.wording.acts import command, command_line

if TYPE_CHECKING:
    from windbreak.documents.sites import SiteView


def show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        view = windbreak.site(pick_site(windbreak, args.site))
    if args.json:
        return dump(view)
    s = view.summary
    say(f"**{s.label}**  {s.address}")
    say(f"{s.client or 'no client'} · {s.host or 'no host'} · {s.environment} · {view.window}")
    if view.retired_at:
        say(f"**Retired {local(view.retired_at)}**: it is worked on no more; its history stays.")
    agent = f", agent {view.agent}" if view.agent else ""
    say(f"{view.link_state}{agent}: {view.link_text} Facts: {age(s.facts_at)}.")
    for note in view.notes:
        whom = "For us" if note.audience == "us" else "For the client"
        say(f"**{whom}**: {note.text} ({note.by}, {local(note.at)})")
    for pair in view.broken:
        mends = "The plan mends it." if pair.mended else "Nothing that may be taken now mends it."
        say(f"**Broken today**: {pair.text} {mends}")
    for root in view.roots:
        say(f"**{root.text}** {root.keeps_text}")
        for way in root.ways:
            say(f"  {way.label}: {command(way)}")
    day = f" {view.day_text}" if view.day_text else ""
    say(f"pages {view.pages_state}: {view.pages_text}{day} {looked(view)}")
    _show_seen(view)
    say(f"{'Twin' if s.twin_of else 'Backup'}: {view.backup}.")
    say(f"Its own updater: {view.updater}.")
    print()
    table(
        ["state", "component", "origin", "installed", "target", "why"],
        (
            (
                state(c.state),
                f"{c.name} ({c.where or 'off'})" if c.where or not c.active else c.name,
                c.origin,
                c.version or "absent",
                c.target or "",
                c.text,
            )
            for c in view.components
        ),
        f"What is installed is not known. Link it: windbreak site link {s.id}",
    )
    for c in view.components:
        four = c.four
        if four and four.carried and four.carried != four.maker:
            say(
                f"  {c.name}: newest of its maker {four.maker}, carried here {four.carried}, "
                f"by licence {four.licence or 'none'}, by policy {four.policy or 'none'}."
            )
    print()
    say(view.plan_text)
    for proposal in view.proposals:
        how = command_line("remove", {"site": s.id, "product": proposal.product})
        say(f"Proposed apart: {proposal.text} {how if proposal.now else ''}".rstrip())
    for entry in view.history[:6]:
        say(f"  {local(entry.at)}  {entry.who}: {entry.what}. {entry.result}")
    return None


def _show_seen(view: SiteView) -> None:
    """Its members, and what its own health checks say that is not good."""
    if view.members:
        say(f"**On a network**: {view.members_text}")
        table(
            ["pages", "member", "address", "switched on there", "24 hours"],
            (
                (m.state, m.name, m.address, ", ".join(m.on) or "nothing more", m.day_text)
                for m in view.members
            ),
            "",
        )
    if view.checks:
        say(f"Its own health checks: {view.checks_text}")
    for check in view.checks:
        if check.state != "good":
            since = f", since {local(check.since)}" if check.since else ""
            say(f"  {check.state}: {(check.text or check.name).rstrip('.')}{since}")


def looked(view: SiteView) -> str:
    """How long ago its pages were looked at; "" where nobody has."""
    return f"Looked at {age(view.pages_at)}." if view.pages_at else ""


def files(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site)
        seen = windbreak.look_at_files(site) if args.look else windbreak.files(site)
        view = windbreak.site(site)
    if args.json:
        return dump(seen)
    names = {files.product: files.name for files in view.components}
    say(f"**{view.summary.label}**: its files were looked at {age(seen.looked_at)}.")
    untouched = [c for c in seen.components if c.pristine]
    for files in seen.components:
        name = names.get(files.product, files.product)
        if not files.known:
            say(f"  {name} {files.version}: nobody can tell; {files.why}")
        for what, paths in (
            ("changed in place", files.changed),
            ("missing", files.missing),
            ("its own", files.added),
        ):
            for path in paths:
                say(f"  {name} {files.version}: {path}, {what}")
    if untouched:
        labels = [names.get(c.product, c.product) for c in untouched]
        say(f"  As their makers packed them: {', '.join(labels)}.")
    if any(c.changed for c in seen.components):
        say("Whoever approves an update says what becomes of what was changed:")
        say("  windbreak approve PLAN --changed-files carry-over (or set-aside)")
    return None
