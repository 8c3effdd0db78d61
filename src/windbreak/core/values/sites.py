"""What is known of the fleet: hosts, sites, their links and inventories.

Values only; they are what the API, the client and the store speak of. Instants are aware and
in UTC; ``None`` for an instant means that it has not happened.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from windbreak.core.values.basics import (
    Address,
    Day,
    Hour,
    ProductId,
    Slug,
    Value,
    VersionText,
    Zone,
    example,
)

Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]


System = Literal["millrace", "wordpress"]


Environment = Literal["production", "staging", "development"]


LinkState = Literal["linked", "silent", "down", "refused", "unlinked"]


# A page of a site, as "/menu"; that it lies there is seen when it is looked at.
PagePath = Annotated[str, Field(pattern=r"^/[^\s#]*$", max_length=500)]


class Host(Value):
    """A server account: the runtimes it offers, how many sites may be worked on at once."""

    model_config = example(
        id="mole", name="Mole", at_once=4, offers={"runtime/loom": ["8.1", "8.2"]}
    )

    id: Slug
    name: str
    offers: dict[ProductId, tuple[VersionText, ...]] = {}
    at_once: Annotated[int, Field(ge=1)] = 1


class Window(Value):
    """Weekly hours in the site's own time zone; an end at or before the start is the next day."""

    days: tuple[Weekday, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
    start: Hour = "01:00"
    end: Hour = "05:00"


class WindowsOf(Value):
    """The windows of all sites of a client, or on a host. ``timezone`` None: each keeps its own."""

    model_config = example(client="Ness Ferries", windows=[{"start": "02:00", "end": "04:00"}])

    client: str | None = None
    host: Slug | None = None
    windows: tuple[Window, ...]
    timezone: Zone | None = None

    @model_validator(mode="after")
    def _is_of_somebody(self) -> Self:
        if (self.client is None) == (self.host is None):
            raise ValueError("windows are of a client’s sites, or of those on a host; of one")
        return self


class Link(Value):
    """The signed connection to a site, as last seen. ``reason`` is a sentence; ``clock_ahead`` how
    many seconds the site's clock is ahead of ours, below 0 behind.
    """

    state: LinkState = "unlinked"
    reason: str = "No agent has been linked yet."
    since: datetime | None = None
    looked_at: datetime | None = None
    agent_id: str | None = None
    agent_version: str | None = None
    agent_can: tuple[str, ...] = ()
    clock_ahead: int = 0


Minutes = Annotated[int, Field(ge=0, le=10_080)]


class NewSite(Value):
    """A site as it is registered. ``twin_of`` names the production site this one stands for."""

    model_config = example(
        label="Skerry Light Trust",
        address="https://skerry-light.example",
        client="Skerry Light Trust",
        host="mole",
    )

    label: Annotated[str, Field(min_length=1, max_length=120)]
    address: Address
    system: System = "millrace"
    client: str = ""
    host: Slug | None = None
    environment: Environment = "production"
    twin_of: Slug | None = None
    tags: tuple[str, ...] = ()
    timezone: Zone = "Europe/London"
    windows: tuple[Window, ...] = (Window(),)


class NewByHand(Value):
    """That a person looks after a component of which no feed tells: until when, and why."""

    model_config = example(until="2027-03-01", why="bought from its maker’s shop, mails tell of it")

    until: Day
    why: Annotated[str, Field(min_length=1)]


class LookedAfter(NewByHand):
    """The same as it is kept: of which component, and by whom."""

    product: ProductId
    by: str


NoteFor = Literal["us", "client"]


class NewNote(Value):
    """What people should know of a site; empty text takes the note away."""

    model_config = example(text="Changeover is on Saturdays: nothing on Friday nights.")

    text: Annotated[str, Field(max_length=2000)]


class Note(NewNote):
    """A note as it is kept: for staff only, or for the client; who wrote it, and when."""

    audience: NoteFor
    by: str
    at: datetime


class Site(NewSite):
    """One installation of the content system, at one address.

    ``own`` are the components made for this site: no offer that bears their folder's name is
    theirs. ``by_hand`` are those that a person looks after, ``notes`` what people should know.
    ``pages`` are looked at beside those the agent names; ``agent_minutes`` and ``pages_minutes``
    are how often its agent is asked and its pages are looked at, where that is other than usual;
    0: never by itself. A retired site is worked on no more; its history stays. ``refreshed_at``:
    when a twin was last made as its site is; ``proved``: whether a backup of the site could be
    restored on its twin, when, and what was seen. ``snapshots``: while a proof has a twin for
    itself, the one that holds what it was, and the one that is proved.
    """

    id: Slug
    link: Link = Link()
    facts_at: datetime | None = None
    own: tuple[ProductId, ...] = ()
    by_hand: tuple[LookedAfter, ...] = ()
    notes: tuple[Note, ...] = ()
    pages: tuple[PagePath, ...] = ()
    agent_minutes: Minutes | None = None
    pages_minutes: Minutes | None = None
    retired_at: datetime | None = None
    refreshed_at: datetime | None = None
    proved_at: datetime | None = None
    proved: bool | None = None
    proof: str = ""
    snapshots: tuple[str, ...] = ()


class SiteChange(Value):
    """What may be changed of a registered site; None leaves it as it is. ``twin_of`` "" makes it
    nobody's twin.
    """

    model_config = example(client="Skerry Light Trust", tags=["lighthouse"])

    label: Annotated[str, Field(min_length=1, max_length=120)] | None = None
    client: str | None = None
    host: Slug | None = None
    address: Address | None = None
    environment: Environment | None = None
    twin_of: Slug | Literal[""] | None = None
    timezone: Zone | None = None
    tags: tuple[str, ...] | None = None
    pages: tuple[PagePath, ...] | None = None
    agent_minutes: Minutes | None = None
    pages_minutes: Minutes | None = None


class LinkCode(Value):
    """The one line a person carries to the site's agent; it is shown once. ``where`` is the page of
    the agent on which it is pasted.
    """

    line: str
    where: str = ""
    good_until: datetime
