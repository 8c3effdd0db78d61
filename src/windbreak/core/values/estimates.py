"""How long the parts of a run took, and how long the next one is reckoned to take."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.basics import Slug, Value


class Took(Value):
    """How long one part of a run took: its kind is "before", "snapshot", "migrate", "after",
    "back", or that of a step. ``size`` is what its length grows with: megabytes of a snapshot,
    pieces that a migration moved; None where that was not told.
    """

    id: int
    run: int
    site: Slug
    host: str | None
    kind: str
    seconds: float
    at: datetime
    size: float | None = None


class Estimate(Value):
    """How long a plan is reckoned to take, in seconds: what comes before its steps, the snapshot,
    each step with the migrations it brings, what comes after; and going back from it. ``runs`` is
    how many runs it is drawn from; 0: these are the usual values of a new service.
    """

    before: float
    snapshot: float
    steps: tuple[float, ...]
    after: float
    back: float
    runs: int

    @property
    def seconds(self) -> float:
        return self.before + self.snapshot + sum(self.steps) + self.after

    @property
    def minutes(self) -> int:
        return max(1, -int(-self.seconds // 60))

    @property
    def back_minutes(self) -> int:
        return max(1, -int(-self.back // 60))
