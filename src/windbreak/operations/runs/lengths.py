"""How long the acts of a run usually take: the middle of what was seen on the same host."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from datetime import timedelta
from statistics import median

from windbreak.core.values.journal import ActKind
from windbreak.operations.context import Context

BACK = timedelta(minutes=5)  # kept free at the end of an opening to go back in
STEP = timedelta(minutes=3)  # of a plan, until there is a history
# Seconds, until there is a history.
_DEFAULTS = {
    ActKind.SNAPSHOT: 60.0,
    ActKind.RESTORE: 60.0,
    ActKind.APPLY: 20.0,
    ActKind.MIGRATE: 120.0,
    ActKind.REGENERATE: 20.0,
}
_ELSE = 10.0
_LEAST = 2.0  # what is over sooner is never told to be slow
_RUNS = 20  # how many runs back is looked


def usual(context: Context, host: str | None) -> dict[ActKind, float]:
    """Seconds by kind of act, as seen in the last runs on a host. Reads."""
    sites = context.store.sites.ids_on(host)
    ended = [
        run
        for run in context.store.runs.all(newest_first=True, limit=_RUNS * 5, state="done")
        if run.site in sites
    ]
    took: dict[ActKind, list[float]] = defaultdict(list)
    for run in ended[:_RUNS]:
        meant = {}
        for entry in context.store.journal.all(run=run.id):
            if entry.state == "meant" and entry.change:
                meant[entry.act] = entry.at
            elif entry.state == "done" and entry.act in meant:
                seconds = (entry.at - meant[entry.act]).total_seconds()
                took[entry.kind].append(seconds)
    return {kind: max(_LEAST, median(seconds)) for kind, seconds in took.items()}


def of_act(lengths: Mapping[ActKind, float], kind: ActKind) -> float:
    """How long an act usually takes, in seconds; a default where there is no history."""
    return lengths.get(kind, _DEFAULTS.get(kind, _ELSE))


def in_words(lengths: Mapping[ActKind, float]) -> str:
    """What is usual, told: "apply 20 s, snapshot 61 s"."""
    seen = [f"{kind} {seconds:.0f} s" for kind, seconds in sorted(lengths.items())]
    return ", ".join(seen) or "none yet: no run ended well on its host"
