"""What makers announce: feeds, credentials, releases, packages. Values only."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from windbreak.core.values.basics import (
    Channel,
    Day,
    ProductId,
    RangeText,
    Slug,
    Value,
    VersionText,
    example,
)


def _is_plain(text: str) -> str:
    slug = text.partition("/")[2]
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]{0,79}", slug):
        raise ValueError(
            f"{text[:90]!r} is not a product id; after the kind come letters, digits, . _ and -"
        )
    return text


# What a maker, or a person, may call a product: it becomes part of addresses and of folders.
PlainProductId = Annotated[ProductId, AfterValidator(_is_plain)]


SaidVersion = Annotated[VersionText, Field(max_length=100)]


Need = Literal["required", "optional", "alternative"]


ChangeKind = Literal["security", "fix", "feature", "breaking"]


TaskKind = Literal["migrate", "regenerate", "restart", "register", "review"]


BY_HAND = "by-hand"  # in the place of a feed: a person put it on the shelf, or typed it in


class Change(Value):
    kind: ChangeKind
    text: str
    advisory: str | None = None


class AnnouncedTask(Value):
    kind: TaskKind
    by: Literal["agent", "person"]
    text: str


class WatchItem(Value):
    """Something that will come: a default that will flip, a mode that will be withdrawn."""

    text: str
    from_version: VersionText | None = None
    on: Day | None = None


class Bundled(Value):
    version: VersionText
    need: Need = "required"


class LicenceTerms(Value):
    """The form of licence a release asks for, and the days a site has to get it."""

    form: str
    grace_days: Annotated[int, Field(ge=0, le=3660)] = 0


class Needs(Value):
    memory_mb: int | None = None
    time_s: int | None = None
    upload_mb: int | None = None


class ReleaseFacts(Value):
    """The ``_release`` object of a release-feed item: what a maker says of one release."""

    product: PlainProductId
    version: SaidVersion
    channel: Channel = "stable"
    requires: dict[ProductId, RangeText] = {}
    conflicts: dict[ProductId, RangeText] = {}
    tested: dict[ProductId, VersionText] = {}
    from_: Annotated[RangeText, Field(alias="from")] = "*"
    bundles: dict[ProductId, Bundled] = {}
    needs: Needs = Needs()
    replaces: tuple[ProductId, ...] = ()
    licence: LicenceTerms | None = None
    changes: tuple[Change, ...] = ()
    tasks: tuple[AnnouncedTask, ...] = ()
    watch: tuple[WatchItem, ...] = ()


class Attachment(Value):
    """Where a release's package is to be had; the sum is of the whole archive, in hex.

    ``{code}`` in the address stands for a site's own licence code.
    """

    url: str
    size: int | None = None
    sha256: str | None = None


class Announcement(ReleaseFacts):
    """A release as a feed announced it. ``title`` and ``text`` are the maker's own words."""

    title: str
    text: str = ""
    published: Day
    package: Attachment | None = None


class NewRelease(Value):
    """A release that a person types in, because no feed tells of it; ``source`` says where from."""

    model_config = example(
        product="plugin/oarlock-stamps",
        version="2.1",
        published="2026-11-03",
        source="a mail of its maker",
    )

    product: PlainProductId
    version: SaidVersion
    published: Day
    channel: Channel = "stable"
    requires: dict[ProductId, RangeText] = {}
    changes: tuple[Change, ...] = ()
    source: Annotated[str, Field(min_length=1)]


class Republished(Value):
    """The same version came again with another package: it goes to no site until ``decided``."""

    at: datetime
    feed: Slug
    first: str
    now: Attachment
    decided: Literal["first", "new"] | None = None
    by: str | None = None
    why: str = ""

    @property
    def open(self) -> bool:
        return self.decided is None


class DecideRepublished(Value):
    """Which of two packages of one version is right."""

    model_config = example(keep="new", why="the maker mailed that the first was broken")

    keep: Literal["first", "new"]
    why: Annotated[str, Field(min_length=1)]


class KnownRelease(Announcement):
    """A release that was taken in. ``sha256`` is its package on the shelf, when in hand.

    ``routes`` are the feeds that told of it, the first one first. ``refused`` is why its package
    was not kept, ``corrected`` what the package itself set right of what was told.
    """

    id: str
    feed: Slug
    routes: tuple[Slug, ...] = ()
    taken_at: datetime
    sha256: str | None = None
    withdrawn_at: datetime | None = None
    republished: Republished | None = None
    refused: str | None = None
    corrected: str | None = None

    @property
    def undecided(self) -> bool:
        """Whether a person has to say which of its packages is right."""
        return self.republished is not None and self.republished.open
