"""What is forgotten when it is old: events, deliveries that ended, journals of old runs, what was
seen of sites (how each thing stands now stays).

The ledger, the plans and the runs themselves stay. So does the journal of each site's last run: it
says what a way back would need.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from windbreak.operations.context import Context
from windbreak.operations.runs import pictures


@dataclass(frozen=True)
class Retention:
    """For how many days each is kept; 0: for ever."""

    events: int = 30
    deliveries: int = 30
    journals: int = 365
    looks: int = 365


def forget(context: Context, keep: Retention) -> dict[str, int]:
    """Drop what is older than it is kept; how many rows of each. Writes."""
    store, now = context.store, context.clock()
    dropped = {}
    for name, days, kept in (
        ("events", keep.events, store.events),
        ("deliveries", keep.deliveries, store.deliveries),
        ("journals", keep.journals, store.journal),
        ("looks", keep.looks, store.turns),
    ):
        before = (now - timedelta(days=days)).isoformat()
        dropped[name] = kept.forget_before(before) if days else 0
    pictures.forget(context)
    return dropped
