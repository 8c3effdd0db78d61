"""Snapshots and kept folders on the sites: where they are, until when, and letting go of them.

They lie beside each site, with its agent. Those of a run that ended well, or whose matter is
closed, have an end some days later; those of an open matter have none.
"""

from __future__ import annotations

import contextlib
import secrets
from datetime import timedelta

from windbreak.core.values.journal import ActKind
from windbreak.core.values.runs import Run
from windbreak.links.adapter import Agent
from windbreak.links.errors import LinkError
from windbreak.operations.context import Context
from windbreak.operations.sites import sites


def past_end(context: Context, site: str, *, but: int | None = None) -> list[Run]:
    """The runs of a site whose snapshot and kept folders may go. Reads."""
    now = context.clock()
    return [
        run
        for run in context.store.runs.all(site=site)
        if run.id != but
        and run.ended_at is not None
        and not run.dropped
        and _closed(context, run)
        and run.ended_at + timedelta(days=context.kept_days) <= now
    ]


def _closed(context: Context, run: Run) -> bool:
    matter = context.store.matters.find(run.id)
    return matter is None or matter.closed_at is not None


def make_room(context: Context, agent: Agent, site: str, *, but: int | None = None) -> int | None:
    """Let go of what is past its end on a site: how many bytes that freed; None where nothing is
    past its end. Writes. Raises LinkError.
    """
    over = past_end(context, site, but=but)
    if not over:
        return None
    snapshots: list[str] = []
    kept: list[str] = []
    for run in over:
        for entry in context.store.journal.all(run=run.id):
            if entry.change is not None and entry.state == "done":
                (snapshots if entry.kind == ActKind.SNAPSHOT else kept).append(entry.change)
    change = f"drop-{secrets.token_hex(6)}"
    freed = agent.do("drop", change, snapshots=snapshots, kept=kept).get("freed", 0)
    for run in over:
        context.store.runs.change(run.id, dropped=True)
    return int(freed)


def tidy(context: Context, site: str) -> None:
    """The same for a site that answered just now; where it fails, it is tried at the next look.
    Writes.
    """
    if past_end(context, site):
        with contextlib.suppress(LinkError):
            make_room(context, sites.agent_for(context, site), site)
