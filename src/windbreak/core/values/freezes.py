"""Freezes: stretches of time in which sites are left alone."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self, TypeVar

from pydantic import Field, model_validator

from windbreak.core.values.basics import Address, Instant, Slug, Value, Zone, example
from windbreak.core.values.bookings import Kept

T = TypeVar("T", bound="NewFreeze | NewFreezeCalendar")


def _for_one(value: T) -> T:
    if sum(where is not None for where in (value.site, value.host, value.client)) > 1:
        raise ValueError("a freeze is for a site, a host or a client; for one of them")
    return value


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
        return _for_one(self)

    @property
    def where(self) -> str:
        """For whom, in words."""
        return self.site or self.host or self.client or "the fleet"


class SiteFreeze(NewFreeze):
    """A freeze that was entered, by whom and when; ``calendar``: the one it was read from."""

    id: int
    made_by: str
    made_at: datetime
    calendar: Slug | None = None


class Frozen(Kept):
    """A freeze that was entered, and what came of the bookings that it met."""

    freeze: SiteFreeze


class NewFreezeCalendar(Value):
    """A calendar (iCalendar) whose events are freezes: what it is called, for whom it is, and its
    address where it is subscribed, else its ``text``. ``zone`` is meant by days and times without
    one.
    """

    model_config = example(id="ness-season", url="https://ness.example/season.ics", client="Ness")

    id: Slug
    url: Address | None = None
    site: Slug | None = None
    host: Slug | None = None
    client: str | None = None
    zone: Zone = "Europe/London"

    text: Annotated[str | None, Field(exclude=True)] = None

    @model_validator(mode="after")
    def _is_for_one(self) -> Self:
        return _for_one(self)

    @model_validator(mode="after")
    def _comes_from_somewhere(self) -> Self:
        if self.url is not None and self.text is not None:
            raise ValueError("a calendar has an address or a text; not both")
        return self


class FreezeCalendar(NewFreezeCalendar):
    """A calendar of freezes as it was read last; ``fault`` where the last reading failed."""

    made_by: str
    read_at: datetime | None = None
    tried_at: datetime | None = None
    fault: str = ""


class CalendarRead(Kept):
    """What a reading of a calendar brought."""

    calendar: FreezeCalendar
    freezes: int
