"""How long a run is reckoned to take: learned from the runs that were, part by part.

A part is what comes before the first step, the snapshot, each step by its kind, each migration,
what comes after, and going back. Each is the middle of what was seen on the site. While few were
seen there, it is drawn towards what was seen on the site's host, that towards the fleet, and that
towards what is usual. Snapshots and migrations are laid beside each other by their sizes.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from math import exp, log
from statistics import median, quantiles
from typing import Any

from windbreak.core.values import journal as acts
from windbreak.core.values.errands import Brought
from windbreak.core.values.estimates import Estimate, Took
from windbreak.core.values.journal import (
    ActKind,
    EntryState,
    JournalEntry,
    Migrated,
    RunAct,
    Snapshotted,
)
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedStep
from windbreak.operations.context import Context
from windbreak.operations.runs import lengths

# Seconds, until there is a history.
USUAL: Mapping[str, float] = {
    "before": 60.0,
    "snapshot": 60.0,
    "migrate": 120.0,
    "after": 60.0,
    "back": lengths.BACK.total_seconds(),
    "runtime": 120.0,
    "plugin": 120.0,
    "theme": 180.0,
    "core": 240.0,
    "combined": 240.0,
}
# A part whose length grows with a size takes as long for nothing as for so much: megabytes, pieces.
_BASE: Mapping[str, float] = {"snapshot": 100.0, "migrate": 1000.0}
_Place = tuple[str, str | None, str]  # fleet, host or site; which one; the kind of part
_PULL = 3  # what is seen less often than this counts for less than what it is drawn towards
_PULL_OF_USUAL = 1  # what is usual says little where anything was seen
_LEAST = 0.1  # seconds
_KEPT = 5000  # how many parts of runs are remembered


def kind_of(step: PlannedStep) -> str:
    """The kind of a step: that of its product, or that it is combined."""
    return "combined" if len(step.moves) > 1 else step.moves[0].product.partition("/")[0]


def learn(
    context: Context,
    run: Run,
    steps: Sequence[PlannedStep],
    entries: Iterable[JournalEntry],
) -> None:
    """Remember how long the parts of a run took that has ended. Writes. A run that waited for a
    person or for its site teaches nothing of how long it takes.
    """
    if run.ended_at is None:
        return
    written = list(entries)
    if any(e.kind in (ActKind.WAITED, ActKind.WAITS_FOR_ERRAND) for e in written):
        return
    host = context.store.sites.get(run.site).host
    with context.store.transaction():
        for kind, length, size in _parts(run, steps, written):
            context.store.took.add(
                Took(
                    id=0,
                    run=run.id,
                    site=run.site,
                    host=host,
                    kind=kind,
                    seconds=length.total_seconds(),
                    at=run.ended_at,
                    size=size,
                )
            )
        context.store.took.forget(_KEPT)


def _parts(
    run: Run, steps: Sequence[PlannedStep], entries: Sequence[JournalEntry]
) -> Iterable[tuple[str, timedelta, float | None]]:
    """Each part with how long it took, and its size."""
    assert run.ended_at is not None  # learn looked
    at = {(entry.act, entry.state): entry.at for entry in entries}
    sized = [part for entry in entries if (part := _sized(entry, at)) is not None]
    snapshots = sum((length for kind, _, length, _ in sized if kind == "snapshot"), timedelta())
    yield from ((kind, length, size) for kind, _, length, size in sized)
    last = None
    for number, step in enumerate(steps, start=1):
        begun, done = at.get((acts.step(number), "meant")), at.get((acts.step(number), "done"))
        if begun is not None and number == 1:
            yield "before", begun - run.started_at - snapshots, None
        if begun is not None and done is not None:
            moving = [length for kind, of, length, _ in sized if (kind, of) == ("migrate", number)]
            yield kind_of(step), done - begun - sum(moving, timedelta()), None
            last = done
        elif begun is not None and run.state in ("put back", "restored"):
            failed = [e.at for e in entries if e.state == "failed" and e.at >= begun]
            yield "back", run.ended_at - min(failed, default=begun), None
    if run.state == "done" and last is not None:
        yield "after", run.ended_at - last, None


def _sized(
    entry: JournalEntry, at: Mapping[tuple[RunAct[Any], EntryState], datetime]
) -> tuple[str, int | None, timedelta, float | None] | None:
    """A part whose length grows with a size: its kind, its step, how long it took, and the size;
    None where an entry is the end of no such part.
    """
    begun = at.get((entry.act, "meant"))
    if entry.state != "done" or begun is None:
        return None
    size: float | None
    match entry.detail:
        case Snapshotted(bytes=count):
            size = None if count is None else count / 2**20
        case Migrated(of=size):
            pass
        case _:
            return None
    return entry.kind.value, entry.step, entry.at - begun, size


class _Seen:
    """What was seen of each kind of part: in the fleet, on each host, on each site; and the middle
    of it, made once. Of a part that grows with its size it is kept beside that.
    """

    def __init__(self, every: Iterable[Took]) -> None:
        self.times: dict[_Place, list[float]] = defaultdict(list)
        self.runs: set[int] = set()
        self.sizes: dict[tuple[str, str], float] = {}  # the last one, by site and kind
        for took in every:
            self.runs.add(took.run)
            if took.size is not None:
                self.sizes[took.site, took.kind] = took.size
            for key in self._keys(took.host, took.site, took.kind):
                self.times[key].append(took.seconds / _weight(took.kind, took.size))
        self.middle = {key: median(times) for key, times in self.times.items()}
        self.most = {key: _most(times) for key, times in self.times.items() if key[2] == "back"}

    @staticmethod
    def _keys(host: str | None, site: str, kind: str) -> tuple[_Place, ...]:
        return ("fleet", None, kind), ("host", host, kind), ("site", site, kind)

    def reckoned(self, site: Site, kind: str, of: Mapping[_Place, float]) -> float:
        """A part on a site, drawn towards its host, the fleet, and what is usual: by ratios, as
        what takes seconds on one takes minutes on another.
        """
        estimate, pull = log(USUAL[kind]), _PULL_OF_USUAL
        for key in self._keys(site.host, site.id, kind):
            if key in of:
                count = len(self.times[key])
                estimate = (count * log(max(_LEAST, of[key])) + pull * estimate) / (count + pull)
            pull = _PULL
        return exp(estimate) * _weight(kind, self.sizes.get((site.id, kind)))


def _weight(kind: str, size: float | None) -> float:
    """How many times as long as usual a part takes by its size; 1 where that was not told."""
    if kind not in _BASE or size is None:
        return 1.0
    return (_BASE[kind] + size) / (2 * _BASE[kind])


def _seen(context: Context) -> _Seen:
    """What was seen, read anew when another run has ended. Reads."""
    newest = context.store.took.all(newest_first=True, limit=1)
    key = newest[0].id if newest else 0
    return context.cache.kept("took", key, lambda _: _Seen(context.store.took.all()))


def seen_runs(context: Context) -> int:
    """How many runs estimates are drawn from. Reads."""
    return len(_seen(context).runs)


def estimate(
    context: Context, site: Site, steps: Sequence[PlannedStep], brings: Iterable[Brought] = ()
) -> Estimate:
    """How long some steps are reckoned to take on a site, with the migrations they bring. Reads."""
    seen = _seen(context)
    migrating = Counter(b.step for b in brings if b.kind == "migrate" and b.by == "run")

    def part(kind: str) -> float:
        return seen.reckoned(site, kind, seen.middle)

    return Estimate(
        before=part("before"),
        snapshot=part("snapshot"),
        steps=tuple(
            part(kind_of(step)) + migrating[number] * part("migrate")
            for number, step in enumerate(steps, start=1)
        ),
        after=part("after"),
        back=seen.reckoned(site, "back", seen.most),
        runs=len(seen.runs),
    )


def _most(times: list[float]) -> float:
    """The 90th percentile."""
    return times[0] if len(times) == 1 else quantiles(times, n=10, method="inclusive")[-1]
