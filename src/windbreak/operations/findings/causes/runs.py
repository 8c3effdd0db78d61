"""What gives cause for a finding in runs: matters, debts, waiting, other hands, errands, proofs."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from windbreak.core.values.findings import Finding
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.operations.runs import debts
from windbreak.wording.matters import matter_head
from windbreak.wording.words import day

_SURPRISES_FOR = timedelta(days=7)  # how long what other hands changed is told


def of_runs(context: Context, site: Site) -> Iterator[Finding]:
    """What runs left on a site: open matters, what is owed, a site that is waited for."""
    owed = debts.owed(context, site.id)
    for matter in context.store.matters.all(site=site.id, open=True):
        run = context.store.runs.get(matter.id)
        page = any(debt.kind == "page" for debt in owed)
        head = matter_head(run.state, page=page)
        yield finding(
            context,
            f"run:{site.id}",
            "failed",
            "critical" if run.state == "alarm" else "high",
            site,
            f"**{site.label}**: {head}.",
            matter.told or matter.text,
            act("See the ways out", "see-matter", matter=str(matter.id)),
        )
        owed = [debt for debt in owed if debt.kind != "page"]
    running = context.store.runs.all(site=site.id, state="running")
    if owed and not running:
        since = min(debt.since for debt in owed)
        yield finding(
            context,
            f"debt:{site.id}",
            "failed",
            "high",
            site,
            f"**{site.label}**: {debts.in_words(owed)} still as a run left it.",
            f"Switched for run {owed[0].run} at {since:%H:%M} UTC, and not read back as it was. It "
            "is set back as soon as the site answers.",
            act("Ask it now", "refresh", site=site.id),
        )
    for run in running:
        yield from _of_running(context, site, run)
    yield from _of_surprises(context, site)
    yield from _of_errands(context, site)


def _of_running(context: Context, site: Site, run: Run) -> Iterator[Finding]:
    """A run that waits for its site past the patience, and one that gives no sign of life."""
    open_run = act("Open the run", "see-run", run=str(run.id))
    patience = timedelta(minutes=context.patience_minutes)
    if run.waiting_since is not None and run.waiting_since + patience <= context.clock():
        yield finding(
            context,
            f"waiting:{site.id}",
            "failed",
            "high",
            site,
            f"**{site.label}**: run {run.id} waits for its site.",
            f"{run.waiting} It goes on when the agent answers; nothing is put back meanwhile.",
            open_run,
        )
    elif run.pace == "stuck":
        yield finding(
            context,
            f"stuck:{site.id}",
            "failed",
            "high",
            site,
            f"**{site.label}**: run {run.id} is stuck at {run.text}.",
            f"Its site answers, and the change has given no sign of life since "
            f"{run.last_sign_at:%H:%M} UTC. It is followed until it ends; nothing is put back for "
            "silence.",
            open_run,
        )


def _of_surprises(context: Context, site: Site) -> Iterator[Finding]:
    """What other hands changed while the newest run of a site was under way."""
    run = context.store.runs.last(site.id).get(site.id)
    if run is None or not run.surprises:
        return
    if run.ended_at is not None and run.ended_at + _SURPRISES_FOR <= context.clock():
        return
    yield finding(
        context,
        f"hands:{site.id}",
        "blocked",
        "medium",
        site,
        f"**{site.label}**: other hands changed it while run {run.id} was under way.",
        f"{'; '.join(run.surprises)}. Where versions had changed, the rest was planned anew from "
        "that, within what was approved, or the run ended before it.",
        act("Open the run", "see-run", run=str(run.id)),
    )


def _of_errands(context: Context, site: Site) -> Iterator[Finding]:
    """What a person is to do, each errand by itself: a blocking one keeps a run."""
    today = context.clock().date()
    for errand in context.store.errands.all(site=site.id, open=True):
        if not errand.blocking and errand.due is not None:
            days = (errand.due - today).days
            late = days < 0
            due = day(errand.due, today)
            when = f"It was due {due}." if late else f"Due {due}."
        else:
            late, when = False, "It has no day."
        if errand.blocking:
            when = f"Run {errand.run} waits for it, with the site as it was."
        yield finding(
            context,
            f"errand:{errand.id}",
            "blocked" if errand.blocking or late else "waiting",
            "high" if errand.blocking or late else "low",
            site,
            f"**{site.label}**: {errand.text}.",
            f"{when} `windbreak errand done {errand.id}` when it is.",
            act("See the errand", "see-errand", errand=str(errand.id), site=site.id),
            deadline=errand.due,
        )


def of_proofs(context: Context, site: Site) -> Iterator[Finding]:
    """A backup that could not be restored on the twin; a twin whose proof was cut off."""
    if site.snapshots:
        yield finding(
            context,
            f"proof:{site.id}",
            "unknown",
            "medium",
            site,
            f"**{site.label}** is not as it was: the proof of a backup has it, or was cut off.",
            "What it was lies in a snapshot on it, and is brought back as the proof ends; one that "
            "was cut off is done again within the hour.",
            act("Bring it back, and prove again", "prove", site=site.id),
        )
    if site.proved is not False or site.proved_at is None:
        return
    twins = context.store.sites.all(twin_of=site.id)
    prove = act("Prove it again", "prove", site=twins[0].id) if twins else None
    on = day(site.proved_at.date(), context.clock().date())
    yield finding(
        context,
        f"proof:{site.id}",
        "failed",
        "high",
        site,
        f"**{site.label}**: its backup could not be proved, {on}.",
        f"Restored on its twin: {site.proof}. A run that has to restore this site may not get it "
        "whole back.",
        prove or act("Open the site", "see-site", site=site.id),
    )
