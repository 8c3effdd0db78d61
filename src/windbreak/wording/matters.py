"""A matter in words: what a visitor meets now, and what came in meanwhile."""

from __future__ import annotations

from collections.abc import Mapping

from windbreak.core.values.runs import Look, RunState
from windbreak.wording.words import counted, listed


def matter_head(state: RunState, *, page: bool) -> str:
    """What a matter is about, after its site's name: first what visitors see."""
    if page:
        return "visitors see the maintenance page"
    heads: dict[RunState, str] = {
        "put back": "a step went wrong and was put back",
        "restored": "a step went wrong; the snapshot was restored",
    }
    return heads.get(state, "a run needs you")


def visitor_text(look: Look, *, page: bool) -> str:
    """What a visitor sees on the front page: "503, the maintenance page"."""
    if look.status is None:
        return "no answer"
    if page and look.status == 503:
        return "503, the maintenance page"
    if not look.bytes:
        return f"{look.status}, an empty page"
    return f"{look.status}, {look.faults[0]}" if look.faults else f"{look.status}"


def came_text(came: Mapping[str, int] | None) -> str:
    """What came in since the snapshot: "2 orders and 1 comment"."""
    if came is None:
        return "not known: its agent does not answer"
    return listed([counted(n, kind.rstrip("s")) for kind, n in came.items() if n]) or "nothing"
