"""Tasks in words: what work at many sites came to."""

from __future__ import annotations

from collections.abc import Sequence

from windbreak.core.values.tasks import TaskKind
from windbreak.wording.words import counted, listed

_NAMED = 3
_WELL: dict[TaskKind, str] = {"refresh": "answered", "rotate keys": "have the new key"}


def ended_text(kind: TaskKind, of: int, amiss: Sequence[str]) -> str:
    """What a task came to: "29 of 31 answered; not Dunlin Walks and Spindrift Surf."."""
    done = f"{of - len(amiss)} of {of} {_WELL.get(kind, 'went well')}"
    if not amiss:
        return f"{done}."
    more = [counted(len(amiss) - _NAMED, "other")] if len(amiss) > _NAMED + 1 else amiss[_NAMED:]
    return f"{done}; not {listed([*amiss[:_NAMED], *more])}."
