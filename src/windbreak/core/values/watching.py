"""Who is there to watch, and when."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import Field, model_validator

from windbreak.core.values.basics import Hour, Instant, Value, Zone, example
from windbreak.core.values.sites import Weekday


class NewWatch(Value):
    """When somebody is there: once, from an instant to another, or every week on some days from
    one hour to another in their zone. ``people`` is how many jobs are watched at a time.
    """

    model_config = example(who="Rhona Vale", days=["tue", "thu"], start="00:00", end="04:00")

    who: Annotated[str, Field(min_length=1, max_length=120)]
    people: Annotated[int, Field(ge=1, le=100)] = 1
    from_: Annotated[Instant | None, Field(alias="from")] = None
    to: Instant | None = None
    days: tuple[Weekday, ...] = ()
    start: Hour | None = None
    end: Hour | None = None
    zone: Zone = "Europe/London"

    @model_validator(mode="after")
    def _is_once_or_weekly(self) -> Self:
        once = self.from_ is not None and self.to is not None
        weekly = bool(self.days) and self.start is not None and self.end is not None
        if once == weekly:
            raise ValueError(
                "say from when to when, or on which days from which hour to which; one of the two"
            )
        if once and self.to <= self.from_:  # type: ignore[operator]
            raise ValueError("a watch ends after it begins")
        return self


class WatchHours(NewWatch):
    """Hours of watching that were entered."""

    id: int
    made_by: str
    made_at: datetime
