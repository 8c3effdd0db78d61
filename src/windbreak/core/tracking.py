"""What makers announce: feeds, credentials, releases, packages. Values only."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, SecretStr

from windbreak.core.case import (
    Access,
    Channel,
    Day,
    Kind,
    ProductId,
    RangeText,
    Release,
    VersionText,
)
from windbreak.core.fleet import Address, Slug, Value, example

SignIn = Literal["none", "bearer"]
FeedState = Literal["fresh", "stale", "failing", "refused"]
Need = Literal["required", "optional", "alternative"]
ChangeKind = Literal["security", "fix", "feature", "breaking"]
TaskKind = Literal["migrate", "regenerate", "restart", "register", "review"]


class NewFeed(Value):
    """A feed as it is registered; the credential is trimmed and sealed on entry."""

    model_config = example(
        id="chandlery",
        label="The Chandlery",
        url="https://chandlery.example/releases.json",
        sign_in="bearer",
        credential="a token of the maker",
    )

    id: Slug
    label: str
    kind: Literal["release-feed"] = "release-feed"
    url: Address
    sign_in: SignIn = "none"
    credential: SecretStr | None = None
    every_minutes: Annotated[int, Field(ge=1)] = 60


class CredentialCheck(Value):
    """What the maker said of a credential. ``cannot`` tells what can't be done meanwhile."""

    at: datetime
    valid: bool
    account: str | None = None
    has: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    excess: tuple[str, ...] = ()
    text: str


class Feed(Value):
    """Where releases are announced. ``credential`` is masked: its last four characters."""

    id: Slug
    label: str
    kind: Literal["release-feed"]
    url: Address
    sign_in: SignIn
    credential: str | None = None
    every_minutes: int = 60
    state: FeedState = "stale"
    reason: str = "It has not been looked at yet."
    polled_at: datetime | None = None
    changed_at: datetime | None = None
    next_poll_at: datetime | None = None
    failures: int = 0
    check_url: str | None = None
    needs: tuple[str, ...] = ()
    check: CredentialCheck | None = None
    etag: str | None = None
    last_modified: str | None = None


class PollResult(Value):
    """What one look at a feed brought. ``faults`` are items that were passed over, and why."""

    feed: Slug
    at: datetime
    state: FeedState
    unchanged: bool = False
    taken: tuple[str, ...] = ()
    faults: tuple[str, ...] = ()
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
    text: str
    from_version: VersionText | None = None


class Bundled(Value):
    version: VersionText
    need: Need = "required"


class LicenceForm(Value):
    form: str
    grace_days: Annotated[int, Field(ge=0)] = 0


class Needs(Value):
    memory_mb: int | None = None
    time_s: int | None = None
    upload_mb: int | None = None


class Told(Value):
    """The ``_release`` object of a release-feed item: what a maker says of one release."""

    product: ProductId
    version: VersionText
    channel: Channel = "stable"
    requires: dict[str, RangeText] = {}
    conflicts: dict[str, RangeText] = {}
    tested: dict[str, VersionText] = {}
    from_: Annotated[RangeText, Field(alias="from")] = "*"
    bundles: dict[str, Bundled] = {}
    needs: Needs = Needs()
    replaces: tuple[ProductId, ...] = ()
    licence: LicenceForm | None = None
    changes: tuple[Change, ...] = ()
    tasks: tuple[AnnouncedTask, ...] = ()
    watch: tuple[WatchItem, ...] = ()


class Attachment(Value):
    """Where a release's package is to be had; the sum is of the whole archive, in hex."""

    url: str
    size: int | None = None
    sha256: str | None = None


class Announcement(Told):
    """A release as a feed announced it."""

    title: str
    published: Day
    package: Attachment | None = None


class KnownRelease(Announcement):
    """A release that was taken in. ``sha256`` is its package on the shelf, when in hand."""

    id: str
    feed: Slug
    taken_at: datetime
    sha256: str | None = None

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


class KnownProduct(Value):
    """A product of the catalogue."""

    id: ProductId
    kind: Kind
    name: str
    access: Access
    major_place: Annotated[int, Field(ge=1)] = 1
    maker: str = ""
    feed: Slug | None = None


class ProductChange(Value):
    """What a person sets of a product; None leaves it as it is."""

    model_config = example(name="Millrace", major_place=2)

    name: str | None = None
    access: Access | None = None
    major_place: Annotated[int, Field(ge=1)] | None = None


class Package(Value):
    """An archive on the shelf, as it was examined; its id is its SHA-256 in hex."""

    id: str
    product: ProductId
    version: VersionText
    name: str
    folder: str
    size: int
    kept_at: datetime
    source: str
