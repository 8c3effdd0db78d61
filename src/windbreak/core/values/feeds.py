"""Feeds: where releases are announced, how they are read, what their credentials may do."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, SecretStr

from windbreak.core.values.basics import Address, ProductId, Slug, Value, VersionText, example
from windbreak.core.values.releases import ChangeKind

FeedKind = Literal["release-feed", "atom", "recipe", "advisories"]


SignIn = Literal["none", "bearer", "user and key", "header", "query", "site code"]


FeedState = Literal["fresh", "stale", "failing", "refused"]


Found = Literal["headline", "changelog", "package"]


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

    A fresh "no" is ``sure`` only after a second look: its effect may be delayed. ``seen`` is "not
    yet" while no answer has said anything of it: 404, no connection, another origin.
    """

    at: datetime
    valid: bool
    seen: Literal["valid", "refused", "not yet"] = "not yet"
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

    def is_out_of_touch(self, now: datetime) -> bool:
        """Whether no look went well for some intervals: what it told may be old."""
        patience = STALE_AFTER * 60 * self.every_minutes
        return self.fresh_at is None or (now - self.fresh_at).total_seconds() > patience

    def aged(self, now: datetime) -> Feed:
        """The feed as it counts now: fresh no longer when no look went well for a while."""
        if self.state != "fresh" or not self.is_out_of_touch(now):
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
