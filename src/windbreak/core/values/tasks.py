"""Tasks: work of the service that outlives a request, with how far it has come."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Slug, Value, example

TaskKind = Literal["refresh", "refresh twin", "prove backup", "rotate keys"]


class Subject(Value):
    """What a task came to at one of its sites."""

    site: Slug
    text: str
    well: bool = True


class Task(Value):
    """Work that is done in the background. ``sites`` are those it is for, ``ended`` those it has
    come to; it is taken up again after a restart.
    """

    id: int
    kind: TaskKind
    sites: tuple[Slug, ...]
    ended: tuple[Subject, ...] = ()
    state: Literal["running", "done", "failed"] = "running"
    phase: str = ""
    text: str = ""
    by: str
    made_at: datetime
    ended_at: datetime | None = None


class RefreshMany(Value):
    """Which sites are to be asked; none means all that are linked."""

    model_config = example(sites=["tarnsey-harbour"])

    sites: tuple[Slug, ...] = ()
