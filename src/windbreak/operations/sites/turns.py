"""The history of what is looked at on a site again and again: its pages, its members, its checks.

A look that sees the same as before writes nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta

from windbreak.core.values.inventories import HealthCheck
from windbreak.core.values.turns import GONE, Turn, TurnOf
from windbreak.core.values.visits import Visit
from windbreak.operations.context import Context

SHOWN_FOR = timedelta(hours=24)

Seen = Mapping[str, tuple[str, str]]  # by name: state and text


def note_visit(context: Context, before: Visit, after: Visit) -> None:
    """Write down what became of a site's pages and members between two looks. Writes."""
    at = after.looked_at
    if at is None:
        return
    if before.state != after.state:
        _note(context, after.id, "pages", {"": (after.state, after.reason)}, at)
    seen = {member.where: (member.state, member.reason) for member in after.members}
    if before.members != after.members:
        _note(context, after.id, "member", seen, at)


def note_checks(
    context: Context, site: str, checks: Iterable[HealthCheck] | None, at: datetime
) -> None:
    """Write down what became of a site's own health checks. Writes."""
    if checks is not None:
        seen = {check.id: (check.state, check.text or check.name) for check in checks}
        _note(context, site, "check", seen, at)


def _note(context: Context, site: str, of: TurnOf, seen: Seen, at: datetime) -> None:
    last = context.store.turns.last(site, of)
    for name in sorted({*seen, *last}):
        was = last[name].state if name in last else GONE
        state, text = seen.get(name, (GONE, ""))
        if state != was:
            context.store.turns.add(
                Turn(id=0, site=site, of=of, name=name, at=at, state=state, text=text)
            )


def of_site(context: Context, site: str) -> tuple[Turn, ...]:
    """The changes of the last day, before them how each thing stood then. Reads."""
    since = context.clock() - SHOWN_FOR
    return tuple(context.store.turns.since(site, since.isoformat()))


def checks_since(context: Context, site: str) -> dict[str, datetime]:
    """Since when each of a site's own health checks says what it says, by its id. Reads."""
    return {name: turn.at for name, turn in context.store.turns.last(site, "check").items()}
