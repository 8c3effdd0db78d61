"""Freezes: stretches of time in which sites are left alone."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import Field, model_validator

from windbreak.core.values.basics import Instant, Slug, Value, example


class NewFreeze(Value):
    """From when to when, for whom and why: a site, a host or a client; the fleet where none is."""

    model_config = example(
        **{
            "from": "2026-12-18T18:00:00Z",
            "to": "2027-01-04T08:00:00Z",
            "client": "Ness Ferries",
            "reason": "the season",
        }
    )

    from_: Annotated[Instant, Field(alias="from")]
    to: Instant
    site: Slug | None = None
    host: Slug | None = None
    client: str | None = None
    reason: Annotated[str, Field(min_length=1)]

    @model_validator(mode="after")
    def _runs_forward(self) -> Self:
        if self.to <= self.from_:
            raise ValueError("a freeze ends after it begins")
        if sum(where is not None for where in (self.site, self.host, self.client)) > 1:
            raise ValueError("a freeze is for a site, a host or a client; for one of them")
        return self

    @property
    def where(self) -> str:
        """For whom, in words."""
        return self.site or self.host or self.client or "the fleet"


class SiteFreeze(NewFreeze):
    """A freeze that was entered, by whom and when."""

    id: int
    made_by: str
    made_at: datetime


class Frozen(Value):
    """A freeze that was entered, and what came of the bookings that it met."""

    freeze: SiteFreeze
    moved: tuple[str, ...] = ()
    out: tuple[str, ...] = ()
