"""What is known of the fleet: hosts, sites, their links and inventories.

Values only; they are what the API, the client and the store speak of. Instants are aware and
in UTC; ``None`` for an instant means that it has not happened.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, JsonValue

from windbreak.core.case import Day, ProductId, RangeText, VersionText


class Value(BaseModel):
    """A value that can't be changed and has no keys but its own; read leniently from JSON."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", populate_by_name=True, serialize_by_alias=True
    )


def example(**fields: JsonValue) -> ConfigDict:
    """The configuration of a value that shows what it looks like, from the demo fleet."""
    return ConfigDict(json_schema_extra={"examples": [dict(fields)]})


def _is_slug(text: str) -> str:
    bare = text.replace("-", "")
    if not bare.isascii() or not bare.isalnum() or text != text.lower() or len(text) > 80:
        raise ValueError(f"{text!r} is not an id; use small letters, digits and hyphens")
    return text


def _is_address(text: str) -> str:
    bare = text.strip().rstrip("/")
    if not bare.startswith(("http://", "https://")) or any(c.isspace() for c in bare):
        raise ValueError(f"{text!r} is not an address; write it as https://tarnsey-harbour.example")
    return bare


def _is_zone(text: str) -> str:
    from zoneinfo import ZoneInfo

    try:
        ZoneInfo(text)
    except (KeyError, ValueError, OSError):
        raise ValueError(f"{text!r} is not a time zone; write it as Europe/London") from None
    return text


def _is_hour(text: str) -> str:
    hour, colon, minute = text.partition(":")
    if not (colon and hour.isdigit() and minute.isdigit() and len(minute) == 2):
        raise ValueError(f"{text!r} is not a time of day; write it as 01:00")
    if int(hour) > 24 or int(minute) > 59 or (int(hour) == 24 and int(minute)):
        raise ValueError(f"{text!r} is not a time of day; write it as 01:00")
    return text


Slug = Annotated[str, AfterValidator(_is_slug)]
Address = Annotated[str, AfterValidator(_is_address)]
Zone = Annotated[str, AfterValidator(_is_zone)]
Hour = Annotated[str, AfterValidator(_is_hour)]
Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
Environment = Literal["production", "staging", "development"]
LinkState = Literal["linked", "silent", "down", "refused", "unlinked"]
State = Literal[
    "exposed", "failed", "blocked", "unknown", "running", "waiting", "ready", "held", "clear"
]

WORST_FIRST: tuple[State, ...] = (
    "exposed",
    "failed",
    "blocked",
    "unknown",
    "running",
    "waiting",
    "ready",
    "held",
    "clear",
)


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


class Link(Value):
    """The signed connection to a site, as last seen. ``reason`` is a sentence."""

    state: LinkState = "unlinked"
    reason: str = "No agent has been linked yet."
    since: datetime | None = None
    looked_at: datetime | None = None
    agent_id: str | None = None
    agent_version: str | None = None
    agent_can: tuple[str, ...] = ()


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
    system: Literal["millrace"] = "millrace"
    client: str = ""
    host: Slug | None = None
    environment: Environment = "production"
    twin_of: Slug | None = None
    tags: tuple[str, ...] = ()
    timezone: Zone = "Europe/London"
    windows: tuple[Window, ...] = (Window(),)


class Site(NewSite):
    """One installation of the content system, at one address.

    ``own`` are the components made for this site: no offer that bears their folder's name is
    theirs. A retired site is worked on no more; its history stays.
    """

    id: Slug
    link: Link = Link()
    facts_at: datetime | None = None
    own: tuple[ProductId, ...] = ()
    retired_at: datetime | None = None


class SiteChange(Value):
    """What may be changed of a registered site; None leaves it as it is."""

    model_config = example(client="Skerry Light Trust", tags=["lighthouse"])

    label: Annotated[str, Field(min_length=1, max_length=120)] | None = None
    client: str | None = None
    host: Slug | None = None
    tags: tuple[str, ...] | None = None


class Installed(Value):
    """One component as the agent reported it; ``maker`` is what its header names, if it does."""

    product: ProductId
    version: VersionText
    name: str
    folder: str
    active: bool = True
    parent: str | None = None
    maker: str | None = None


class Registration(Value):
    """Whether a product is registered on a site, as the agent read it there."""

    product: ProductId
    state: Literal["registered", "grace", "missing", "unknown"]
    until: Day | None = None
    last4: str | None = None


class Inventory(Value):
    """What is on a site, as its agent answered at an instant; its id is the site's.

    ``network`` is how many sites share this one's code; 0 for a site by itself.
    """

    id: Slug
    at: datetime
    components: tuple[Installed, ...]
    automatic_updates: bool
    caches: tuple[str, ...] = ()
    free_mb: int
    registrations: tuple[Registration, ...] = ()
    network: int = 0
    agent_version: str | None = None

    def registration_of(self, product: str) -> Registration | None:
        """Whether a product is registered there; None where the agent does not tell."""
        return next((r for r in self.registrations if r.product == product), None)

    def version_of(self, product: str) -> str | None:
        """The installed version of a product; None where it is not there."""
        return next((c.version for c in self.components if c.product == product), None)


class LinkCode(Value):
    """The one line a person carries to the site's agent; it is shown once."""

    line: str
    good_until: datetime


class NewHold(Value):
    """A decision not to move a product, on one site or (None) everywhere."""

    model_config = example(product="plugin/netloft", range=">=1.8", reason="1.8 drops captions")

    product: ProductId
    range: RangeText = "*"
    site: Slug | None = None
    until: Day | None = None
    review: Day | None = None
    reason: Annotated[str, Field(min_length=1)]


class StandingHold(NewHold):
    id: str
    author: str
    made_at: datetime
