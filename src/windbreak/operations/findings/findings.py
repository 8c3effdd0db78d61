"""What wants attention, as one queue: each finding opens once and closes when its cause is gone."""

from __future__ import annotations

import logging
from collections.abc import Iterable
from datetime import UTC, date, datetime

from windbreak.core.values.accounts import Principal
from windbreak.core.values.basics import WORST_FIRST
from windbreak.core.values.findings import Finding, Snooze, SnoozeFinding, Weight
from windbreak.operations.administration import outward
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.findings.causes import every
from windbreak.store.database import Mark

log = logging.getLogger("windbreak.findings")
_MANY = 20

_ALARMS = WORST_FIRST.index("exposed")
_WEIGHTS: tuple[Weight, ...] = ("critical", "high", "medium", "low")


def listed(context: Context, *, snoozed: bool = False) -> list[Finding]:
    """The open findings, most urgent first; those that are snoozed only when asked for. Reads."""
    awake, asleep = parted(context)
    return _urgent_first([*awake, *asleep]) if snoozed else awake


def parted(context: Context) -> tuple[list[Finding], list[Finding]]:
    """The open findings, most urgent first, and those that are snoozed, the first to wake first.
    Reads.
    """
    every = context.store.findings.all()
    today = context.clock().date()
    asleep = [f for f in every if f.snoozed is not None and today < f.snoozed.until]
    ids = {finding.id for finding in asleep}
    awake = _urgent_first(f for f in every if f.id not in ids)
    return awake, sorted(asleep, key=lambda f: f.snoozed.until if f.snoozed else date.max)


def _urgent_first(findings: Iterable[Finding]) -> list[Finding]:
    far = datetime.max.replace(tzinfo=UTC)
    return sorted(
        findings,
        key=lambda f: (
            _WEIGHTS.index(f.weight),
            WORST_FIRST.index(f.state) > _ALARMS,
            f.deadline or far,
            f.subject_label,
            f.id,
        ),
    )


def snooze(context: Context, id: str, snooze: SnoozeFinding, by: Principal) -> Finding:
    """Put a finding aside until a day; it closes by itself meanwhile when its cause goes. Writes.

    Raises NotFound, and Refused for a day that is not ahead or a critical finding.
    """
    finding = context.store.findings.get(id)
    now = context.clock()
    if snooze.until <= now.date():
        raise Refused("in-the-past", f"{snooze.until} is not ahead; say the day it comes back")
    if (snooze.until - now.date()).days > 180:
        raise Refused("too-long", "half a year is the most; what never matters has no finding")
    if finding.weight == "critical":
        raise Refused("critical", "this one is critical: it stays until its cause is gone")
    slept = Snooze(until=snooze.until, why=snooze.why, by=by.name, at=now)
    with context.store.transaction():
        changed = context.store.findings.change(id, snoozed=slept)
        context.store.database.mark([("finding", id)])
        what = f"finding put aside: {finding.headline.replace('**', '').replace('`', '')}"
        context.record(
            by.name, what, finding.subject, why=snooze.why, result=f"until {snooze.until}"
        )
    context.tell("finding", id, "snoozed")
    return changed


def wake(context: Context, id: str, by: Principal) -> Finding:
    """Bring a snoozed finding back. Writes."""
    with context.store.transaction():
        changed = context.store.findings.change(id, snoozed=None)
        context.store.database.mark([("finding", id)])
        context.record(by.name, "finding brought back", changed.subject)
    context.tell("finding", id, "woken")
    return changed


def look_at(context: Context, marks: Iterable[Mark]) -> None:
    """Let every cause look again at what some changes touch: open what is new, keep what still
    holds, close what is gone. Writes.

    A cause that fails at a subject leaves what it saw there before, and the others go on.
    """
    changes = set(marks)
    sight = every.Sight(context)
    count = 0
    if any(kind in ("everything", "day") for kind, _ in changes):
        sight.all_sites()
    for cause in every.CAUSES:
        wanted = cause.subjects(context, changes)
        subjects = sorted(cause.all_subjects(context) if wanted is None else wanted)
        # For many subjects what was seen before is read at once.
        many = len(subjects) > _MANY
        before = context.store.findings.seen_by(cause.name) if many else {}
        for subject in subjects:
            try:
                seen = list(cause.look(sight, subject))
            except Exception:
                log.exception("the cause %s failed at %r", cause.name, subject)
                continue
            earlier = before.get(subject, {}) if many else None
            if earlier is not None and not seen and not earlier:
                continue
            with context.store.transaction():
                opened, closed = context.store.findings.replace(cause.name, subject, seen, earlier)
                outward.tell(
                    context, "finding.opened", *[f.model_dump(mode="json") for f in opened]
                )
                outward.tell(
                    context, "finding.closed", *[f.model_dump(mode="json") for f in closed]
                )
            count += len(opened) + len(closed)
    if ("everything", "") in changes:
        context.store.findings.forget_causes([cause.name for cause in every.CAUSES])
    if count:
        context.tell("finding", "", f"{context.store.findings.count()} findings")
