"""Feeds: registered, their credentials checked and replaced, polled politely, many at once."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path

from pydantic import ValidationError

from windbreak.core.values.accounts import Principal
from windbreak.core.values.basics import Value
from windbreak.core.values.feeds import CredentialCheck, Feed, FeedChange, NewFeed, PollResult
from windbreak.core.values.releases import BY_HAND, Announcement
from windbreak.feeds import recipes, way_out
from windbreak.feeds.announced import Announced, Asked, Items
from windbreak.feeds.at_once import at_once
from windbreak.feeds.changelog import pattern
from windbreak.feeds.errors import (
    FeedError,
    FeedRefused,
    FeedUnreachable,
    FeedUnreadable,
    RecipeError,
)
from windbreak.feeds.fetching import (
    FEED_LIMIT,
    Answer,
    Credential,
    fetch,
    good_for,
    host_of,
    origin,
)
from windbreak.feeds.formats import FORMATS
from windbreak.feeds.signin import NAMED
from windbreak.operations.administration import outward
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.tracking import catalogue
from windbreak.store.sealing import masked, trimmed

LONGEST_WAIT = timedelta(hours=24)
LOOK_AGAIN = timedelta(minutes=5)  # a maker's change of permissions may take a while to show
MOST_PAGES = 20
AT_ONCE = 32

_CANNOT = {
    "releases.read": "its releases can't be read",
    "packages.read": "its packages can't be fetched",
    "licences.read": "which sites have a code can't be seen, so codes are entered by hand",
}


class TriedRecipe(Value):
    """What came of trying a recipe: what was asked, what came, what was read, what was missing."""

    asked: str
    came: str
    items: int
    found: tuple[Announcement, ...]
    missing: tuple[str, ...]
    text: str


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
            context.store.secrets.set(_sealed_as(new.id), context.sealer.seal(secret))
        context.record(by.name, f"feed {new.label} registered", new.id, result=host_of(new.url))
    return feed


def _check_new(context: Context, new: NewFeed, secret: str) -> None:
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
        recipe_of(context, new.reading.recipe)
    if new.kind == "atom":
        if new.reading.product is None:
            raise Refused("no-product", f"say of which product the entries of {new.label} are")
        for told in (new.reading.version, *new.reading.changes.values()):
            try:
                pattern(told)
            except ValueError as error:
                raise Refused("bad-pattern", str(error)) from None
    _check_place(context, new.url)


def _check_place(context: Context, url: str) -> None:
    host = origin(url)[1]
    if way_out.is_private(host) and not context.allowed:
        raise Refused(
            "private-network",
            f"{host} lies on a private network, where feeds are not read; the setting "
            "private_networks of the service can allow it",
        )


def change(context: Context, feed: str, told: FeedChange, by: Principal) -> Feed:
    """Change a registered feed. Writes. Raises Refused where it may not lie there."""
    fields = told.model_dump(exclude_none=True)
    if told.url is not None:
        _check_place(context, told.url)
        fields |= {"etag": None, "last_modified": None, "next_poll_at": None}
    if told.reading is not None:
        fields |= {"reading": told.reading, "etag": None, "last_modified": None}
    _last_looks(context).pop(feed, None)
    with context.store.transaction():
        changed = context.store.feeds.change(feed, **fields)
        context.record(by.name, f"feed {changed.label} changed", feed)
    return changed


def drop(context: Context, feed: str, by: Principal) -> None:
    """Read a feed no more; its releases stay known, and nobody announces new ones. Writes."""
    known = context.store.feeds.get(feed)
    _last_looks(context).pop(feed, None)
    with context.store.transaction():
        context.store.feeds.drop(feed)
        context.store.secrets.drop(_sealed_as(feed))
        for product in context.store.products.all():
            if product.feed == feed:
                context.store.products.change(product.id, feed=None)
        context.record(by.name, f"feed {known.label} dropped", feed)
    context.tell("product", feed, "its feed was dropped")


def listed(context: Context) -> list[Feed]:
    """The feeds as they count now. Reads."""
    now = context.clock()
    return [feed.aged(now) for feed in context.store.feeds.all()]


# Credentials.


def _sealed_as(feed: str) -> str:
    return f"feed:{feed}"


def _secret(context: Context, feed: str) -> str | None:
    sealed = context.store.secrets.get(_sealed_as(feed))
    return context.sealer.open(sealed) if sealed else None


def credential_of(context: Context, feed: Feed) -> Credential | None:
    """A feed's credential with the origins it may go to. Reads."""
    secret = _secret(context, feed.id)
    if secret is None:
        return None
    home = frozenset(origin(url) for url in (feed.url, *feed.origins))
    return Credential(feed.sign_in, feed.sign_in_name or "", secret, home)


def others_with(context: Context, feed: str, secret: str | None = None) -> list[Feed]:
    """Other feeds that use the same credential as a feed, or the one given. Reads."""
    wanted = secret or _secret(context, feed)
    return [
        other
        for other in context.store.feeds.all()
        if wanted and other.id != feed and _secret(context, other.id) == wanted
    ]


def replace_credential(
    context: Context, feed: str, credential: str, by: Principal, *, everywhere: bool = False
) -> Feed:
    """Put another credential in the place of a feed's, and where the old one is used else.

    Writes. Raises Refused when it is empty. Without ``everywhere`` the ledger names the feeds
    that still use the old one.
    """
    known = context.store.feeds.get(feed)
    secret = trimmed(credential)
    if not secret:
        raise Refused("no-credential", "the credential is empty")
    others = others_with(context, feed)
    also = others if everywhere else []
    with context.store.transaction():
        for one in (known, *also):
            context.store.secrets.set(_sealed_as(one.id), context.sealer.seal(secret))
            context.store.feeds.change(
                one.id,
                credential=masked(secret),
                set_up_by=by.account,
                check=None,
                etag=None,
                last_modified=None,
                next_poll_at=None,
            )
        left = ", ".join(o.label for o in others if o not in also)
        result = f"still with the old one: {left}" if left else "the old one is used nowhere now"
        what = " and ".join(one.label for one in (known, *also))
        context.record(by.name, f"credential of {what} replaced", feed, result=result)
    return context.store.feeds.get(feed)


def check_credential(context: Context, feed: str) -> CredentialCheck:
    """Ask the maker what a feed's credential may do, and remember the answer. Writes.

    A "no" that is new is not sure yet: it is looked at again in five minutes. Raises Refused
    when the feed asks for no credential.
    """
    known = context.store.feeds.get(feed)
    if known.sign_in in ("none", "site code"):
        raise Refused("no-credential", f"{known.label} asks for no credential")
    if known.check_url is None:
        poll(context, feed, fresh=True)
        known = context.store.feeds.get(feed)
    check = _asked_of_maker(context, known)
    before = known.check
    if not check.valid or check.lacks:
        repeated = before is not None and (before.valid, before.lacks) == (check.valid, check.lacks)
        waited = before is not None and context.clock() >= before.at + LOOK_AGAIN
        sure = repeated and (waited or (before is not None and before.sure))
        check = check.model_copy(update={"sure": sure})
        if repeated and not sure and before is not None:
            check = check.model_copy(update={"at": before.at})
    context.store.feeds.change(feed, check=check)
    context.tell("feed", feed, check.text)
    return check


def _asked_of_maker(context: Context, feed: Feed) -> CredentialCheck:
    now = context.clock()
    if feed.check_url is None:
        valid = feed.state != "refused"
        text = "The maker takes it." if valid else "The maker turned it away."
        return CredentialCheck(at=now, valid=valid, text=text)
    credential = credential_of(context, feed)
    if credential is not None and not credential.fits(feed.check_url):
        text = (
            f"It was not asked about: its check address lies at {host_of(feed.check_url)}, and "
            "the credential goes only to the origins registered with the feed."
        )
        return CredentialCheck(at=now, valid=True, text=text)
    try:
        said = json.loads(_fetch(context, feed, feed.check_url).body)
        has = tuple(str(p) for p in said.get("permissions", ()))
    except FeedRefused as error:
        return CredentialCheck(at=now, valid=False, lacks=feed.needs, text=f"Refused: {error}.")
    except (FeedError, ValueError, AttributeError, TypeError) as error:
        text = f"It could not be checked: {error}. What was known before stands."
        return feed.check or CredentialCheck(at=now, valid=True, text=text)
    lacks = tuple(p for p in feed.needs if p not in has)
    excess = tuple(p for p in has if p not in feed.needs)
    if lacks:
        cannot = "; ".join(_CANNOT.get(p, f"{p} is not given") for p in lacks)
        text = f"It lacks {', '.join(lacks)}: {cannot}."
    else:
        text = "It has every permission that is needed."
    if excess:
        text += f" It has more than is needed: {', '.join(excess)}."
    account = said.get("account")
    return CredentialCheck(
        at=now,
        valid=True,
        account=account if isinstance(account, str) else None,
        has=has,
        lacks=lacks,
        excess=excess,
        text=text,
    )


# Polling.


def due(context: Context) -> list[Feed]:
    """The feeds whose time has come. Reads."""
    now = context.clock()
    return [
        feed
        for feed in context.store.feeds.all()
        if feed.next_poll_at is None or feed.next_poll_at <= now
    ]


def next_due(context: Context) -> datetime | None:
    """When a feed, or a credential, is to be looked at next; None where nothing ever is. Reads."""
    now = context.clock()
    feeds = context.store.feeds.all()
    times = [feed.next_poll_at or now for feed in feeds]
    times += [now for _ in checks_due(context)]
    times += [f.check.at + LOOK_AGAIN for f in feeds if f.check is not None and not f.check.sure]
    return min(times, default=None)


def checks_due(context: Context) -> list[str]:
    """Feeds whose credential was never checked, or whose fresh "no" is to be looked at again."""
    now = context.clock()
    found = []
    for feed in context.store.feeds.all():
        if feed.sign_in in ("none", "site code") or feed.polled_at is None:
            continue
        check = feed.check
        if check is None or (not check.sure and check.at + LOOK_AGAIN <= now):
            found.append(feed.id)
    return found


def poll_many(context: Context, feeds: list[Feed], *, fresh: bool = False) -> Iterator[PollResult]:
    """Look at many feeds at once, at few of one host at a time, each as it is ready. Writes.

    A feed that hangs keeps back only the others of its host.
    """

    yield from at_once(
        feeds,
        lambda feed: poll(context, feed.id, fresh=fresh),
        place=lambda f: host_of(f.url),
        most=AT_ONCE,
        per_place=context.per_host,
        finish=context.store.close,  # each thread's own connection
    )


def poll(context: Context, feed: str, *, fresh: bool = False) -> PollResult:
    """Look at a feed and take in what is new. ``fresh`` goes past every cache. Writes.

    Never raises for a feed that fails: its state then says why.
    """
    known = context.store.feeds.get(feed)
    now = context.clock()
    try:
        answer = _fetch(context, known, known.url, conditional=not fresh)
        if answer.unchanged:
            _note(context, known, now, answer)
            text = f"{known.label}: nothing new."
            return PollResult(feed=feed, at=now, state="fresh", unchanged=True, text=text)
        last = _last_looks(context).get(feed, LastLook())
        announced, items = _read(context, known, answer, last.items)
        catalogue.refuse_emptied(context, known, announced)
    except FeedError as error:
        return _failed(context, known, now, error)
    with context.store.transaction():
        before = last.announced if _untouched_since(context, last) else None
        taken = catalogue.take_in(context, known, announced, now, before)
        _note(
            context,
            known,
            now,
            answer,
            **({"changed_at": now} if taken.ids else {}),  # another look may have set it meanwhile
            check_url=announced.check_url,
            needs=announced.needs,
            faults=taken.faults,
            products=taken.products,
            disagreements=catalogue.disagreements(context, known, announced),
        )
        result = _told(context, known, now, announced, taken)
    _last_looks(context)[feed] = LastLook(items, announced, context.store.database.generation())
    context.wake()
    return result


def _untouched_since(context: Context, last: LastLook) -> bool:
    """Whether nothing was written of the products that a look listed since it was taken in."""
    if last.announced is None:
        return False
    database = context.store.database
    if database.generation("everything") > last.generation:
        return False
    if database.generation() - last.generation > 900:
        return False  # changes of long ago are no longer listed
    own = {a.product for a in last.announced.announcements}
    return not database.changed_after(last.generation, "product", own)


def _told(
    context: Context, feed: Feed, now: datetime, announced: Announced, taken: catalogue.Taken
) -> PollResult:
    if feed.kind == "advisories":
        count = len(announced.advisories)
        text = f"{feed.label}: {len(taken.ids)} new or changed of {count} advisories."
    else:
        text = f"{feed.label}: {len(taken.ids)} new of {len(announced.announcements)} releases."
    if taken.faults:
        count = len(taken.faults)
        said = "1 item was passed over" if count == 1 else f"{count} items were passed over"
        text += f" {said}; the first: {taken.faults[0]}"
    if taken.again:
        text += f" {'; '.join(taken.again)}."
    if taken.ids:
        outward.tell(context, "release", {"feed": feed.id, "taken": taken.ids, "text": text})
    if taken.ids or taken.noted:
        context.tell("release", feed.id, text)
    return PollResult(
        feed=feed.id,
        at=now,
        state="fresh",
        taken=taken.ids,
        faults=taken.faults,
        again=taken.again,
        text=text,
    )


@dataclass(frozen=True)
class LastLook:
    """What a feed listed at the last good look, so that only what differs is read and taken in."""

    items: Items = field(default_factory=dict)
    announced: Announced | None = None
    generation: int = 0


def _last_looks(context: Context) -> dict[str, LastLook]:
    return context.cache.kept("last looks", "", lambda _: {})


def _read(context: Context, feed: Feed, answer: Answer, before: Items) -> tuple[Announced, Items]:
    """A feed's answer and the pages it goes on to, as announcements; and its items. Raises
    FeedError.
    """
    items: Items = {}
    recipe = None
    if feed.kind == "recipe" and feed.reading.recipe:
        try:
            recipe = recipe_of(context, feed.reading.recipe)
        except Refused as error:
            raise FeedUnreadable(str(error)) from None

    def read(page: Answer) -> Announced:
        asked = Asked(feed.id, page, feed.reading, recipe, context.clock(), before, items)
        try:
            return FORMATS[feed.kind](asked)
        except RecursionError:
            raise FeedUnreadable("the answer is nested too deeply to be read") from None
        except ValidationError as error:
            raise FeedUnreadable(f"the answer can't be read: {error.errors()[0]['msg']}") from None

    announced, seen = read(answer), {feed.url}
    while announced.next_url is not None:
        if announced.next_url in seen or len(seen) >= MOST_PAGES:
            fault = (
                f"its pages go in a circle, or past {MOST_PAGES}; the first {len(seen)} were read"
            )
            cut = {"next_url": None, "whole": False, "faults": (*announced.faults, fault)}
            return announced.model_copy(update=cut), items
        seen.add(announced.next_url)
        announced = announced.and_more(read(_fetch(context, feed, announced.next_url)))
    return announced, items


def _fetch(
    context: Context, feed: Feed, url: str, *, conditional: bool = False, limit: int = FEED_LIMIT
) -> Answer:
    headers = {}
    if conditional and feed.etag:
        headers["if-none-match"] = feed.etag
    if conditional and feed.last_modified:
        headers["if-modified-since"] = feed.last_modified
    if not conditional:
        headers["cache-control"] = "no-cache"
    credential = credential_of(context, feed)
    return fetch(context.out, url, credential=credential, headers=headers, limit=limit)


def _note(context: Context, feed: Feed, now: datetime, answer: Answer, **more: object) -> None:
    spread = random.uniform(0.9, 1.1)  # so that feeds of one maker are not asked all at once
    good = min(timedelta(seconds=good_for(answer.headers)), LONGEST_WAIT)
    wait = max(timedelta(minutes=feed.every_minutes) * spread, good)
    context.store.feeds.change(
        feed.id,
        state="fresh",
        reason="It answers.",
        polled_at=now,
        fresh_at=now,
        failures=0,
        next_poll_at=now + wait,
        etag=answer.headers.get("etag", feed.etag if answer.unchanged else None),
        last_modified=answer.headers.get(
            "last-modified", feed.last_modified if answer.unchanged else None
        ),
        **more,
    )


def _failed(context: Context, feed: Feed, now: datetime, error: FeedError) -> PollResult:
    state = "refused" if isinstance(error, FeedRefused) else "failing"
    failures = feed.failures + 1
    wait = min(timedelta(minutes=feed.every_minutes) * 2 ** min(failures - 1, 8), LONGEST_WAIT)
    wait *= random.uniform(1.0, 1.1)
    if isinstance(error, FeedUnreachable) and error.retry_after is not None:
        wait = min(timedelta(seconds=error.retry_after), LONGEST_WAIT)
    reason = f"{error}".rstrip(".") + "."
    context.store.feeds.change(
        feed.id,
        state=state,
        reason=reason,
        polled_at=now,
        failures=failures,
        next_poll_at=now + wait,
    )
    context.tell("feed", feed.id, reason)
    return PollResult(
        feed=feed.id,
        at=now,
        state="refused" if state == "refused" else "failing",
        text=f"{feed.label}: {reason} What was known before stands.",
    )


# Recipes.


def recipes_folder(context: Context) -> Path:
    folder = context.data / "recipes"
    folder.mkdir(exist_ok=True)
    return folder


def recipe_of(context: Context, name: str) -> recipes.Recipe:
    """A recipe of the recipes folder. Raises Refused when it is not there or can't be read."""
    path = recipes_folder(context) / f"{name}.toml"
    if not path.is_file():
        raise Refused("no-recipe", f"there is no recipe {name!r} in {path.parent}")
    try:
        return recipes.read_recipe(path.read_text())
    except (RecipeError, UnicodeDecodeError) as error:
        raise Refused("bad-recipe", f"{path.name}: {error}") from None


def put_recipe(context: Context, name: str, text: str, by: Principal) -> recipes.Recipe:
    """Keep a recipe under a name, in the place of one that was there. Writes. Raises Refused."""
    try:
        recipe = recipes.read_recipe(text)
    except RecipeError as error:
        raise Refused("bad-recipe", str(error)) from None
    path = recipes_folder(context) / f"{name}.toml"
    part = path.with_suffix(".part")
    part.write_text(text)
    part.replace(path)
    context.record(by.name, f"recipe {name} kept", name)
    return recipe


def try_recipe(context: Context, text: str, credential: str | None) -> TriedRecipe:
    """Ask by a recipe and read by it, keeping nothing. Raises Refused for the recipe's faults.

    The credential is shown to the recipe's own origin only.
    """
    try:
        recipe = recipes.read_recipe(text)
    except RecipeError as error:
        raise Refused("bad-recipe", str(error)) from None
    _check_place(context, recipe.address)
    secret = trimmed(credential or "")
    if recipe.sign_in not in ("none", "site code") and not secret:
        raise Refused("no-credential", f"{recipe.label} asks for a credential ({recipe.sign_in})")
    shown = f" with a credential ({recipe.sign_in})" if secret else ""
    asked = f"GET {recipe.address}{shown}"
    own = frozenset([origin(recipe.address)])
    held = Credential(recipe.sign_in, recipe.sign_in_name or "", secret, own) if secret else None
    try:
        answer = fetch(context.out, recipe.address, credential=held)
    except FeedError as error:
        return TriedRecipe(
            asked=asked, came=f"{error}.", items=0, found=(), missing=(), text="Nothing was read."
        )
    kind = answer.headers.get("content-type", "no type")
    came = f"{len(answer.body):,} bytes, {kind}: {_beginning(answer.body, secret)}"
    try:
        read = recipes.apply(recipe, answer.body, answer.url)
    except FeedUnreadable as error:
        return TriedRecipe(
            asked=asked,
            came=came,
            items=0,
            found=(),
            missing=(str(error),),
            text="Nothing was read.",
        )
    return TriedRecipe(
        asked=asked,
        came=came,
        items=read.items,
        found=read.announcements,
        missing=read.faults,
        text=f"{len(read.announcements)} of {read.items} releases were read.",
    )


def _beginning(body: bytes, secret: str) -> str:
    text = " ".join(body[:600].decode("utf-8", "replace").split())
    return (text.replace(secret, "…") if secret else text)[:240]
