"""How a feed is asked, with a credential that only its own origins are shown; and what it listed at
its last good look.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from windbreak.core.values.feeds import Feed
from windbreak.feeds.announced import Announced, Items
from windbreak.feeds.fetching import Credential, Fetched, fetch, origin
from windbreak.operations.context import Context


def sealed_as(feed: str) -> str:
    return f"feed:{feed}"


def secret_of(context: Context, feed: str) -> str | None:
    sealed = context.store.secrets.get(sealed_as(feed))
    return context.sealer.open(sealed) if sealed else None


def credential_of(context: Context, feed: Feed) -> Credential | None:
    """A feed's credential with the origins it may go to. Reads."""
    secret = secret_of(context, feed.id) if feed.credential else None
    if secret is None:
        return None
    home = frozenset(origin(url) for url in (feed.url, *feed.origins))
    return Credential(feed.sign_in, feed.sign_in_name or "", secret, home)


def ask(
    context: Context,
    feed: Feed,
    url: str,
    credential: Credential | None,
    *,
    conditional: bool = False,
) -> Fetched:
    """What a feed answers at an address; ``conditional``: only if it is another than at the last
    look. Raises FeedError.
    """
    headers = {}
    if conditional and feed.etag:
        headers["if-none-match"] = feed.etag
    if conditional and feed.last_modified:
        headers["if-modified-since"] = feed.last_modified
    if not conditional:
        headers["cache-control"] = "no-cache"
    return fetch(context.out, url, credential=credential, headers=headers)


@dataclass(frozen=True)
class LastLook:
    """What a feed listed at the last good look, so that only what differs is read and taken in."""

    items: Items = field(default_factory=dict)
    announced: Announced | None = None
    generation: int = 0


def last_looks(context: Context) -> dict[str, LastLook]:
    """The last good look at each feed, since this service began."""
    return context.cache.kept("last looks", "", lambda _: {})
