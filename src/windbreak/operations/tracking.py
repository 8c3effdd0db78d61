"""Feeds: registered, their credentials checked, polled, their releases taken in once; packages."""

from __future__ import annotations

import json
import random
from datetime import datetime, timedelta

from windbreak.core.tracking import (
    Announcement,
    CredentialCheck,
    Feed,
    KnownProduct,
    KnownRelease,
    NewFeed,
    Package,
    PollResult,
    ProductChange,
)
from windbreak.core.work import Principal
from windbreak.feeds.errors import FeedError, FeedRefused, FeedUnreachable
from windbreak.feeds.fetching import PACKAGE_LIMIT, Answer, fetch
from windbreak.feeds.formats import FORMATS
from windbreak.feeds.release_feed import Announced
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.packages.errors import PackageRefused
from windbreak.store.sealing import masked, trimmed

LONGEST_WAIT = timedelta(hours=24)

_CANNOT = {
    "releases.read": "its releases can't be read",
    "packages.read": "its packages can't be fetched",
    "licences.read": "which sites have a code can't be seen, so codes are entered by hand",
}


def register(context: Context, new: NewFeed, by: Principal) -> Feed:
    """Register a feed; its credential is trimmed and sealed. Writes.

    Raises Refused when the feed wants a credential and none was given, AlreadyThere for its id.
    """
    secret = trimmed(new.credential.get_secret_value()) if new.credential else ""
    if new.sign_in != "none" and not secret:
        raise Refused("no-credential", f"{new.label} asks for a {new.sign_in} token; give one")
    fields = new.model_dump(exclude={"credential"})
    feed = Feed(**fields, credential=masked(secret) if secret else None)
    with context.store.transaction():
        context.store.feeds.add(feed)
        if secret:
            context.store.set_sealed(f"feed:{new.id}", context.sealer.seal(secret))
        context.record(by.name, f"feed {new.label} registered", new.id, result=new.url)
    return feed


def replace_credential(context: Context, feed: str, credential: str, by: Principal) -> Feed:
    """Put another credential in the place of a feed's. Writes. Raises Refused when it is empty."""
    known = context.store.feeds.get(feed)
    secret = trimmed(credential)
    if not secret:
        raise Refused("no-credential", "the credential is empty")
    with context.store.transaction():
        context.store.set_sealed(f"feed:{feed}", context.sealer.seal(secret))
        changed = context.store.feeds.change(feed, credential=masked(secret), check=None, etag=None)
        context.record(by.name, f"credential of {known.label} replaced", feed)
    return changed


def check_credential(context: Context, feed: str) -> CredentialCheck:
    """Ask the maker what a feed's credential may do, and remember the answer. Writes.

    Raises Refused when the feed names no address for that.
    """
    known = context.store.feeds.get(feed)
    if known.check_url is None:
        if known.sign_in == "none":
            raise Refused("no-credential", f"{known.label} asks for no credential")
        poll(context, feed, fresh=True)
        known = context.store.feeds.get(feed)
    now = context.clock()
    if known.check_url is None:
        valid = known.state != "refused"
        text = "The maker takes it." if valid else "The maker turned it away."
        check = CredentialCheck(at=now, valid=valid, text=text)
    else:
        check = _ask(context, known, known.check_url, now)
    context.store.feeds.change(feed, check=check)
    context.tell("feed", feed, check.text)
    return check


def _ask(context: Context, feed: Feed, url: str, now: datetime) -> CredentialCheck:
    try:
        said = json.loads(_fetch(context, feed, url).body)
        has = tuple(str(p) for p in said.get("permissions", ()))
    except FeedRefused as error:
        return CredentialCheck(at=now, valid=False, lacks=feed.needs, text=f"Refused: {error}.")
    except (FeedError, ValueError, AttributeError) as error:
        text = f"It could not be checked: {error}. What was known before stands."
        return feed.check or CredentialCheck(at=now, valid=False, text=text)
    lacks = tuple(p for p in feed.needs if p not in has)
    excess = tuple(p for p in has if p not in feed.needs)
    if lacks:
        cannot = "; ".join(_CANNOT.get(p, f"{p} is not given") for p in lacks)
        text = f"It lacks {', '.join(lacks)}: {cannot}."
    else:
        text = "It has every permission that is needed."
    if excess:
        text += f" It has more than is needed: {', '.join(excess)}."
    return CredentialCheck(
        at=now,
        valid=True,
        account=said.get("account"),
        has=has,
        lacks=lacks,
        excess=excess,
        text=text,
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
            _note(context, known, now, answer, {})
            text = f"{known.label}: nothing new."
            return PollResult(feed=feed, at=now, state="fresh", unchanged=True, text=text)
        announced = FORMATS[known.kind](answer)
    except FeedError as error:
        return _failed(context, known, now, error)
    taken, faults = take_in(context, known, announced, now)
    _note(
        context,
        known,
        now,
        answer,
        {
            "changed_at": now if taken else known.changed_at,
            "check_url": announced.check_url,
            "needs": announced.needs,
        },
    )
    text = f"{known.label}: {len(taken)} new of {len(announced.announcements)} releases."
    if faults:
        text += f" {len(faults)} items were passed over; the first: {faults[0]}"
    if taken:
        context.tell("feed", feed, text)
    return PollResult(
        feed=feed, at=now, state="fresh", taken=tuple(taken), faults=tuple(faults), text=text
    )


def _fetch(context: Context, feed: Feed, url: str, *, conditional: bool = False) -> Answer:
    headers = {}
    if conditional and feed.etag:
        headers["if-none-match"] = feed.etag
    if conditional and feed.last_modified:
        headers["if-modified-since"] = feed.last_modified
    if not conditional:
        headers["cache-control"] = "no-cache"
    return fetch(
        context.http,
        url,
        sign_in=feed.sign_in,
        credential=_credential(context, feed),
        home=feed.url,
        headers=headers,
    )


def _credential(context: Context, feed: Feed) -> str | None:
    sealed = context.store.sealed(f"feed:{feed.id}")
    return context.sealer.open(sealed) if sealed else None


def _note(
    context: Context, feed: Feed, now: datetime, answer: Answer, more: dict[str, object]
) -> None:
    spread = random.uniform(0.9, 1.1)  # so that feeds of one maker are not asked all at once
    context.store.feeds.change(
        feed.id,
        state="fresh",
        reason="It answers.",
        polled_at=now,
        failures=0,
        next_poll_at=now + timedelta(minutes=feed.every_minutes * spread),
        etag=answer.headers.get("etag", feed.etag if answer.unchanged else None),
        last_modified=answer.headers.get("last-modified"),
        **more,
    )


def _failed(context: Context, feed: Feed, now: datetime, error: FeedError) -> PollResult:
    state = "refused" if isinstance(error, FeedRefused) else "failing"
    failures = feed.failures + 1
    wait = min(timedelta(minutes=feed.every_minutes) * 2 ** min(failures - 1, 8), LONGEST_WAIT)
    if isinstance(error, FeedUnreachable) and error.retry_after is not None:
        wait = min(timedelta(seconds=error.retry_after), LONGEST_WAIT)
    reason = f"{error}."
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


def take_in(
    context: Context, feed: Feed, announced: Announced, now: datetime
) -> tuple[list[str], list[str]]:
    """Keep the releases that are not known yet; the ids of those, and what was odd. Writes."""
    taken, faults = [], list(announced.faults)
    with context.store.transaction():
        for announcement in announced.announcements:
            id = context.store.release_id(announcement.product, announcement.version)
            known = context.store.releases.find(id)
            if known is not None:
                faults += _republished(known, announcement)
                continue
            _know_product(context, feed, announcement)
            fields = announcement.model_dump(by_alias=False)
            context.store.releases.add(KnownRelease(**fields, id=id, feed=feed.id, taken_at=now))
            taken.append(id)
    return taken, faults


def _republished(known: KnownRelease, again: Announcement) -> list[str]:
    was = known.package.sha256 if known.package else None
    now = again.package.sha256 if again.package else None
    if was and now and was != now:
        return [f"{known.id} was published again with another package; the first one is kept"]
    return []


def _know_product(context: Context, feed: Feed, announcement: Announcement) -> None:
    """Learn a product from its first release; a person's word on it is never changed back."""
    if context.store.products.find(announcement.product) is not None:
        return
    kind = announcement.product.partition("/")[0]
    name = announcement.title.removesuffix(announcement.version).strip() or announcement.product
    if kind == "runtime":
        access = "host"
    elif announcement.package is None:
        access = "bundled-only"
    else:
        access = "public" if feed.sign_in == "none" else "licensed"
    context.store.products.add(
        KnownProduct.model_validate(
            {
                "id": announcement.product,
                "kind": kind,
                "name": name,
                "access": access,
                "maker": feed.label,
                "feed": feed.id,
            }
        )
    )


def change_product(
    context: Context, product: str, change: ProductChange, by: Principal
) -> KnownProduct:
    """Set what a person knows of a product. Writes."""
    fields = change.model_dump(exclude_none=True)
    known = context.store.products.change(product, **fields)
    context.record(by.name, f"{known.name}: {', '.join(fields) or 'nothing'} set", product)
    return known


def fetch_package(context: Context, product: str, version: str) -> Package:
    """The package of a release, fetched and examined unless it is on the shelf. Writes.

    A product that comes only inside a theme is found by fetching a theme that carries it.
    Raises Refused when there is no way to it, and when what came is not what was announced.
    """
    kept = context.shelf.find(product, version)
    if kept is not None:
        return kept
    release = context.store.releases.find(context.store.release_id(product, version))
    if release is not None and release.package is not None:
        _fetch_release(context, release)
    else:
        for theme in context.store.releases.all():
            bundled = theme.bundles.get(product)
            if bundled is not None and bundled.version == version and theme.package is not None:
                _fetch_release(context, theme)
                break
    found = context.shelf.find(product, version)
    if found is None:
        raise Refused("no-package", f"no feed has a package of {product} {version}")
    return found


def _fetch_release(context: Context, release: KnownRelease) -> None:
    assert release.package is not None  # callers look first
    feed = context.store.feeds.get(release.feed)
    try:
        answer = fetch(
            context.http,
            release.package.url,
            sign_in=feed.sign_in,
            credential=_credential(context, feed),
            home=feed.url,
            limit=PACKAGE_LIMIT,
        )
        package = context.shelf.add(
            answer.body,
            at=context.clock(),
            source=feed.label,
            product=release.product,
            version=release.version,
            sha256=release.package.sha256,
        )
    except FeedError as error:
        raise Refused("fetch-failed", f"{release.title} could not be fetched: {error}") from error
    except PackageRefused as error:
        raise Refused("wrong-archive", f"the package of {release.title}: {error}") from error
    context.store.releases.change(release.id, sha256=package.id)
