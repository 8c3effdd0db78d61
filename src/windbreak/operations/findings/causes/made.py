"""How a finding is made.

Its id is made of its kind and subject, so that it opens once however often it is seen.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, time

from windbreak.core.values.basics import State
from windbreak.core.values.findings import Finding, NextAct, Weight
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context


def act(label: str, name: str, **on: str) -> NextAct:
    """An act with its words: ``act("Link it", "link", site="tarnsey-harbour")``."""
    return NextAct(act=name, on=on, label=label)


def finding(
    context: Context,
    id: str,
    state: State,
    weight: Weight,
    site: Site | None,
    headline: str,
    text: str,
    act: NextAct,
    deadline: date | None = None,
    *,
    instant: datetime | None = None,
) -> Finding:
    """A finding; its deadline is a day, or an ``instant``."""
    by = datetime.combine(deadline, time(), tzinfo=UTC) if deadline else instant
    return Finding(
        id=id,
        kind=id.partition(":")[0],
        state=state,
        weight=weight,
        subject=site.id if site else id.partition(":")[2],
        subject_label=site.label if site else "",
        headline=headline,
        text=text,
        act=act,
        opened_at=context.clock(),
        deadline=by,
    )
