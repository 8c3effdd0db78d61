"""Feeds registered, changed and dropped."""

from __future__ import annotations

from windbreak.core.values.accounts import Principal
from windbreak.core.values.feeds import Feed, FeedChange, NewFeed
from windbreak.core.values.releases import BY_HAND
from windbreak.feeds.changelog import pattern
from windbreak.feeds.fetching import host_of
from windbreak.feeds.signin import NAMED
from windbreak.operations.addresses import IN_A_FEEDS, refuse_secrets
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.tracking import asking, recipes
from windbreak.store.sealing import masked, trimmed


def register(context: Context, new: NewFeed, by: Principal) -> Feed:
    """Register a feed; its credential is trimmed and sealed. Writes.

    Raises Refused when something it needs is not given or it lies where we may not go, and
    AlreadyThere for its id.
    """
    secret = trimmed(new.credential.get_secret_value()) if new.credential else ""
    _check_new(context, new, secret)
    fields = new.model_dump(exclude={"credential"})
    shown = masked(secret) if secret else None
    feed = Feed(**fields, credential=shown, set_up_by=by.account if secret else None)
    with context.store.transaction():
        context.store.feeds.add(feed)
        if secret:
            context.store.secrets.set(asking.sealed_as(new.id), context.sealer.seal(secret))
        context.record(by.name, f"feed {new.label} registered", new.id, result=host_of(new.url))
    return feed


def _check_new(context: Context, new: NewFeed, secret: str) -> None:
    refuse_secrets(new.url, IN_A_FEEDS)
    if new.id == BY_HAND:
        raise Refused("reserved", f"{BY_HAND!r} stands for what people bring; take another id")
    if new.sign_in not in ("none", "site code") and not secret:
        raise Refused(
            "no-credential", f"{new.label} asks for a credential ({new.sign_in}); give one"
        )
    if new.sign_in in NAMED and not new.sign_in_name:
        what = {"user and key": "the user", "header": "the header", "query": "the query's field"}
        raise Refused("no-name", f"{new.label} signs in by {new.sign_in}; name {what[new.sign_in]}")
    if new.kind == "recipe":
        if new.reading.recipe is None:
            raise Refused("no-recipe", f"{new.label} is read by a recipe; say which")
        recipes.recipe_of(context, new.reading.recipe)
    if new.kind == "atom":
        if new.reading.product is None:
            raise Refused("no-product", f"say of which product the entries of {new.label} are")
        for wording in (new.reading.version, *new.reading.changes.values()):
            try:
                pattern(wording)
            except ValueError as error:
                raise Refused("bad-pattern", str(error)) from None
    recipes.check_place(context, new.url)


def change(context: Context, feed: str, change: FeedChange, by: Principal) -> Feed:
    """Change a registered feed. Writes. Raises Refused where it may not lie there."""
    fields = change.model_dump(exclude_none=True)
    if change.url is not None:
        refuse_secrets(change.url, IN_A_FEEDS)
        recipes.check_place(context, change.url)
        fields |= {"etag": None, "last_modified": None, "next_poll_at": None}
    if change.reading is not None:
        fields |= {"reading": change.reading, "etag": None, "last_modified": None}
    asking.last_looks(context).pop(feed, None)
    with context.store.transaction():
        changed = context.store.feeds.change(feed, **fields)
        context.record(by.name, f"feed {changed.label} changed", feed)
    return changed


def drop(context: Context, feed_id: str, by: Principal) -> None:
    """Read a feed no more; its releases stay known, and nobody announces new ones. Writes."""
    feed = context.store.feeds.get(feed_id)
    asking.last_looks(context).pop(feed_id, None)
    with context.store.transaction():
        context.store.feeds.drop(feed_id)
        context.store.secrets.drop(asking.sealed_as(feed_id))
        for product in context.store.products.all():
            if product.feed == feed_id:
                context.store.products.change(product.id, feed=None)
        context.record(by.name, f"feed {feed.label} dropped", feed_id)
    context.tell("product", feed_id, "its feed was dropped")


def listed(context: Context) -> list[Feed]:
    """The feeds as they count now. Reads."""
    now = context.clock()
    return [feed.aged(now) for feed in context.store.feeds.all()]
