"""What gives cause for a finding in the nights: gates, moves that failed, what has no place."""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.values.findings import Finding
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.operations.scheduling import failed_moves, gates, patch_releases, timetables
from windbreak.wording.words import counted, listed


def of_gates(context: Context) -> Iterator[Finding]:
    """Gates that want a word, by when it has to be given so that nothing behind them moves."""
    starts = {b.plan: b.starts_at for b in context.store.bookings.all(state="waiting")}
    for standing in gates.every(context):
        if not standing.wants_a_word:
            continue
        gate, rollout = standing.gate, standing.gate.rollout
        alone = len(gate.before) == 1
        behind = [starts[m.plan] for m in gate.before if m.plan in starts]
        bad = listed(
            [
                f"{context.store.sites.get(r.site).label} was {gates.ending(r)}"
                for r in standing.badly
            ]
        )
        yield finding(
            context,
            f"gate:{rollout.id}:{gate.id}",
            "failed",
            "high",
            None,
            f"**Rollout {rollout.id}**: {gates.name_inside(context, gate)} wants your word.",
            f"{bad}. {counted(len(gate.before), 'site')} behind it go{'es' if alone else ''} a "
            "night later when nothing is said in time. Open it, leave the site out, or stop.",
            act("See the rollout", "see-rollout", rollout=str(rollout.id)),
            instant=min(behind, default=None),
        )


def of_failed_moves(context: Context) -> Iterator[Finding]:
    """Moves that failed somewhere and that others are approved to make."""
    for moves in failed_moves.by_run(context):
        first, like = moves[0], failed_moves.like(context, moves)
        if not like:
            continue
        labels = [context.store.sites.get(site).label for site in like]
        names = f"windbreak rollout let-go {first.product} {first.version} --why REASON"
        yield finding(
            context,
            f"failed-move:{first.run}",
            "failed",
            "high",
            None,
            f"**{failed_moves.in_words(context, moves)}** failed on "
            f"{context.store.sites.get(first.site).label}.",
            f"{listed(labels[:4])}{f' and {len(labels) - 4} more' if len(labels) > 4 else ''} "
            "would make the same move, and wait for your decision. "
            f"Run {first.run} shows what happened. Then hold the release, or allow it on other "
            f"sites: {names}",
            act("See what happened", "see-run", run=str(first.run)),
        )


def of_patches(context: Context) -> Iterator[Finding]:
    """Patch releases that would go by a word given before, but ask for a person."""
    for rollout, asks in patch_releases.asking(context):
        product = context.store.products.find(asks.product)
        name = product.name if product else asks.product
        yield finding(
            context,
            f"patch:{rollout.id}:{asks.product}@{asks.version}",
            "waiting",
            "medium",
            None,
            f"**{name}** `{asks.version}` waits for your word.",
            f"It is a patch release of what rollout {rollout.id} took, and would go after it by "
            f"itself; but {asks.text}.",
            act("Approve it", "approve-release", product=asks.product, version=asks.version),
        )


def of_calendars(context: Context) -> Iterator[Finding]:
    """Subscribed calendars of freezes that could not be read."""
    for calendar in context.store.freeze_calendars.all():
        if not calendar.fault:
            continue
        since = f", read last {calendar.read_at:%a %d %b}" if calendar.read_at else ""
        yield finding(
            context,
            f"calendar:{calendar.id}",
            "unknown",
            "medium",
            None,
            f"The calendar **{calendar.id}** of freezes can’t be read.",
            f"{calendar.fault}. What it told before{since} stands; what was added since is not "
            "known here.",
            act("Read it again", "read-calendar", calendar=calendar.id),
        )


def of_left_out(context: Context) -> Iterator[Finding]:
    """Approved plans that have no place in the timetable."""
    for left in timetables.left_out(context):
        if left["waits"]:
            continue  # what it waits for is told by itself
        site = context.store.sites.find(left["site"])
        plan = context.store.plans.find(left["plan"])
        if site is None or site.retired_at is not None or plan is None:
            continue
        if plan.state != "approved" or not plan.to_book:
            continue
        yield finding(
            context,
            f"no-place:{plan.id}",
            "blocked",
            "medium",
            site,
            f"**{site.label}** is approved and has no night.",
            str(left["text"]),
            act("See the nights", "see-nights"),
        )
