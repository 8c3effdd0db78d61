"""What makers announce: feeds, credentials, releases, packages. Values only."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, SecretStr

from windbreak.core.case import (
    Access,
    Channel,
    Day,
    Kind,
    ProductId,
    RangeText,
    Release,
    Severity,
    VersionText,
)
from windbreak.core.fleet import Address, Slug, Value, example


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
FeedKind = Literal["release-feed", "atom", "recipe", "advisories"]
SignIn = Literal["none", "bearer", "user and key", "header", "query", "site code"]
FeedState = Literal["fresh", "stale", "failing", "refused"]
Need = Literal["required", "optional", "alternative"]
ChangeKind = Literal["security", "fix", "feature", "breaking"]
TaskKind = Literal["migrate", "regenerate", "restart", "register", "review"]
Found = Literal["headline", "changelog", "package"]

BY_HAND = "by-hand"  # in the place of a feed: a person put it on the shelf, or typed it in
STALE_AFTER = 3  # intervals without a good look


class Reading(Value):
    """How a feed is read where its format leaves that open; each kind uses its own part.

    ``recipe`` names a file of the recipes folder. For ``atom``: ``product`` is what its entries
    are releases of, ``version`` finds the version in a title, ``changes`` finds the lines of
    each kind (a line that none finds is a fix). ``packages`` maps an advisory's package names to
    product ids; a name that is a product id already needs no entry.
    """

    recipe: Slug | None = None
    product: ProductId | None = None
    version: str = r"\d+(?:\.\d+)+[\w.+-]*"
    changes: dict[ChangeKind, str] = {}
    packages: dict[str, ProductId] = {}


class NewFeed(Value):
    """A feed as it is registered; the credential is trimmed and sealed on entry.

    ``sign_in_name`` is the user of "user and key", the name of the header or of the query's
    field. ``origins`` are further origins that the credential may go to; its own is always one.
    """

    model_config = example(
        id="chandlery",
        label="The Chandlery",
        url="https://chandlery.example/releases.json",
        sign_in="bearer",
        credential="a token of the maker",
    )

    id: Slug
    label: Annotated[str, Field(min_length=1, max_length=120)]
    kind: FeedKind = "release-feed"
    url: Address
    sign_in: SignIn = "none"
    sign_in_name: str | None = None
    credential: SecretStr | None = None
    origins: tuple[Address, ...] = ()
    reading: Reading = Reading()
    every_minutes: Annotated[int, Field(ge=1, le=10_080)] = 60


class FeedChange(Value):
    """What may be changed of a registered feed; None leaves it as it is."""

    model_config = example(every_minutes=30)

    label: str | None = None
    url: Address | None = None
    origins: tuple[Address, ...] | None = None
    reading: Reading | None = None
    every_minutes: Annotated[int, Field(ge=1, le=10_080)] | None = None


class CredentialCheck(Value):
    """What the maker said of a credential; ``text`` tells what can't be done meanwhile.

    A fresh "no" is ``sure`` only after a second look: its effect may be delayed.
    """

    at: datetime
    valid: bool
    account: str | None = None
    has: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    excess: tuple[str, ...] = ()
    text: str
    sure: bool = True


class Disagreement(Value):
    """Sources that disagree on what is newest; ``believed`` is the one that outranks the others."""

    product: ProductId
    headline: VersionText | None = None
    changelog: VersionText | None = None
    package: VersionText | None = None
    believed: Found
    text: str


class Feed(Value):
    """Where releases are announced. ``credential`` is masked: its last four characters.

    ``polled_at`` is the last look, ``fresh_at`` the last that went well.
    """

    id: Slug
    label: str
    kind: FeedKind
    url: Address
    sign_in: SignIn
    sign_in_name: str | None = None
    credential: str | None = None
    set_up_by: str | None = None
    origins: tuple[Address, ...] = ()
    reading: Reading = Reading()
    every_minutes: int = 60
    state: FeedState = "stale"
    reason: str = "It has not been looked at yet."
    polled_at: datetime | None = None
    fresh_at: datetime | None = None
    changed_at: datetime | None = None
    next_poll_at: datetime | None = None
    failures: int = 0
    faults: tuple[str, ...] = ()
    disagreements: tuple[Disagreement, ...] = ()
    products: tuple[ProductId, ...] = ()
    check_url: str | None = None
    needs: tuple[str, ...] = ()
    check: CredentialCheck | None = None
    etag: str | None = None
    last_modified: str | None = None

    def aged(self, now: datetime) -> Feed:
        """The feed as it counts now: fresh no longer when no look went well for a while."""
        good = self.fresh_at or self.polled_at
        if self.state != "fresh" or good is None:
            return self
        if (now - good).total_seconds() <= STALE_AFTER * 60 * self.every_minutes:
            return self
        return self.model_copy(
            update={"state": "stale", "reason": "No look at it was due in time."}
        )


class PollResult(Value):
    """What one look at a feed brought. ``faults`` are items that were passed over, and why;
    ``again`` are releases that came with another package than before.
    """

    feed: Slug
    at: datetime
    state: FeedState
    unchanged: bool = False
    taken: tuple[str, ...] = ()
    faults: tuple[str, ...] = ()
    again: tuple[str, ...] = ()
    text: str


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


class LicenceTold(Value):
    """The form of licence a release asks for, and the days a site has to get it."""

    form: str
    grace_days: Annotated[int, Field(ge=0, le=3660)] = 0


class Needs(Value):
    memory_mb: int | None = None
    time_s: int | None = None
    upload_mb: int | None = None


class Told(Value):
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
    licence: LicenceTold | None = None
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


class Announcement(Told):
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

    def to_case(self) -> Release:
        """The release as the reasoning knows it."""
        return Release(
            product=self.product,
            version=self.version,
            published=self.published,
            channel=self.channel,
            requires=self.requires,
            conflicts=self.conflicts,
            tested=self.tested,
            bundles={p: b.version for p, b in self.bundles.items() if p.startswith("plugin/")},
            from_=self.from_,
        )


class KnownAdvisory(Value):
    """A published weakness, matched to a product of ours. ``aliases`` are its other names."""

    id: str
    product: ProductId
    affected: RangeText
    severity: Severity
    summary: str = ""
    aliases: tuple[str, ...] = ()
    feed: Slug
    published: Day | None = None
    withdrawn: bool = False

    @property
    def key(self) -> str:
        """One advisory may speak of several products."""
        return f"{self.id} {self.product}"


class KnownProduct(Value):
    """A product of the catalogue. ``folders`` are other folder names it is known to lie in.

    ``withdrawn_at``: since then its maker lists it no longer, or said that it is withdrawn.
    """

    id: ProductId
    kind: Kind
    name: str
    access: Access
    major_place: Annotated[int, Field(ge=1)] = 1
    maker: str = ""
    feed: Slug | None = None
    folders: tuple[Slug, ...] = ()
    withdrawn_at: datetime | None = None
    withdrawn_text: str = ""


class ProductChange(Value):
    """What a person sets of a product; None leaves it as it is."""

    model_config = example(name="Millrace", major_place=2)

    name: str | None = None
    access: Access | None = None
    major_place: Annotated[int, Field(ge=1)] | None = None
    maker: str | None = None
    folders: tuple[Slug, ...] | None = None


class Package(Value):
    """An archive on the shelf, as it was examined; its id is its SHA-256 in hex.

    ``inner`` names the archive it was found in, when the complete download was brought.
    """

    id: str
    product: ProductId
    version: VersionText
    name: str
    folder: str
    size: int
    kept_at: datetime
    source: str
    inner: str | None = None


class ShelfRight(Value):
    """That a site may have a package by other ways than its feed: why, and since when."""

    site: Slug
    product: ProductId
    version: VersionText
    why: Literal["uploaded for it", "run by it", "taken under its seat"]
    at: datetime

    @property
    def id(self) -> str:
        return f"{self.site} {self.product}@{self.version}"
