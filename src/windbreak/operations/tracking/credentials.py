"""Credentials of feeds: asked about, replaced wherever they are used."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import datetime, timedelta

from windbreak.core.values.accounts import Principal
from windbreak.core.values.feeds import CredentialCheck, Feed
from windbreak.feeds.errors import FeedError, FeedRefused
from windbreak.feeds.fetching import host_of
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.tracking import asking, polling
from windbreak.store.sealing import masked, trimmed

LOOK_AGAIN = timedelta(minutes=5)  # a maker's change of permissions may take a while to show
_CANNOT = {
    "releases.read": "its releases can't be read",
    "packages.read": "its packages can't be fetched",
    "licences.read": "which sites have a code can't be seen, so codes are entered by hand",
}


def others_with(context: Context, feed: str, secret: str | None = None) -> list[Feed]:
    """Other feeds that use the same credential as a feed, or the one given. Reads."""
    wanted = secret or asking.secret_of(context, feed)
    return [
        other
        for other in context.store.feeds.all()
        if wanted and other.id != feed and asking.secret_of(context, other.id) == wanted
    ]


def replace(
    context: Context, feed_id: str, credential: str, by: Principal, *, everywhere: bool = False
) -> Feed:
    """Put another credential in the place of a feed's, and where the old one is used else.

    Writes. Raises Refused when it is empty. Without ``everywhere`` the ledger names the feeds
    that still use the old one.
    """
    feed = context.store.feeds.get(feed_id)
    secret = trimmed(credential)
    if not secret:
        raise Refused("no-credential", "the credential is empty")
    others = others_with(context, feed_id)
    also = others if everywhere else []
    with context.store.transaction():
        for sharing in (feed, *also):
            context.store.secrets.set(asking.sealed_as(sharing.id), context.sealer.seal(secret))
            context.store.feeds.change(
                sharing.id,
                credential=masked(secret),
                set_up_by=by.account,
                check=None,
                etag=None,
                last_modified=None,
                next_poll_at=None,
            )
        left = ", ".join(o.label for o in others if o not in also)
        result = f"still with the old one: {left}" if left else "the old one is used nowhere now"
        what = " and ".join(sharing.label for sharing in (feed, *also))
        context.record(by.name, f"credential of {what} replaced", feed_id, result=result)
    return context.store.feeds.get(feed_id)


def check(context: Context, feed_id: str) -> CredentialCheck:
    """Ask the maker what a feed's credential may do, and remember the answer. Writes.

    A "no" that is new is not sure yet: it is looked at again in five minutes. Raises Refused
    when the feed asks for no credential.
    """
    feed = context.store.feeds.get(feed_id)
    if feed.sign_in in ("none", "site code"):
        raise Refused("no-credential", f"{feed.label} asks for no credential")
    if feed.check_url is None:
        polling.poll(context, feed_id, fresh=True)
        feed = context.store.feeds.get(feed_id)
    check = _asked_of_maker(context, feed)
    before = feed.check
    if not check.valid or check.lacks:
        repeated = before is not None and (before.valid, before.lacks) == (check.valid, check.lacks)
        waited = before is not None and context.clock() >= before.at + LOOK_AGAIN
        sure = repeated and (waited or (before is not None and before.sure))
        check = check.model_copy(update={"sure": sure})
        if repeated and not sure and before is not None:
            check = check.model_copy(update={"at": before.at})
    context.store.feeds.change(feed_id, check=check)
    context.tell("feed", feed_id, check.text)
    return check


def _asked_of_maker(context: Context, feed: Feed) -> CredentialCheck:
    now = context.clock()
    if feed.check_url is None:
        if feed.state == "refused":
            return CredentialCheck(
                at=now, valid=False, seen="refused", text="The maker turned it away."
            )
        if feed.state == "fresh":
            return CredentialCheck(at=now, valid=True, seen="valid", text="The maker takes it.")
        text = f"Not seen yet: no answer has said anything of it ({feed.reason.rstrip('.')})."
        return CredentialCheck(at=now, valid=True, text=text)
    credential = asking.credential_of(context, feed)
    if credential is not None and not credential.fits(feed.check_url):
        text = (
            f"It was not asked about: its check address lies at {host_of(feed.check_url)}, and "
            "the credential goes only to the origins registered with the feed."
        )
        return CredentialCheck(at=now, valid=True, text=text)
    try:
        answer = json.loads(asking.ask(context, feed, feed.check_url, credential).body)
        has = tuple(str(p) for p in answer.get("permissions", ()))
    except FeedRefused as error:
        text = f"Refused: {error}."
        return CredentialCheck(at=now, valid=False, seen="refused", lacks=feed.needs, text=text)
    except (FeedError, ValueError, AttributeError, TypeError) as error:
        stands = " What was seen before stands." if feed.check is not None else ""
        text = f"It could not be checked: {error}.{stands}"
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
    account = answer.get("account")
    return CredentialCheck(
        at=now,
        valid=True,
        seen="valid",
        account=account if isinstance(account, str) else None,
        has=has,
        lacks=lacks,
        excess=excess,
        text=text,
    )


def checks_due(context: Context) -> list[str]:
    """Feeds whose credential was never checked, or whose fresh "no" is to be looked at again."""
    now = context.clock()
    return [feed for feed, at in _checks(context) if at <= now]


def next_due(context: Context) -> datetime | None:
    """When a credential is to be asked about next; None where none is. Reads."""
    return min([at for _, at in _checks(context)], default=None)


def _checks(context: Context) -> Iterator[tuple[str, datetime]]:
    """The feeds whose credential is to be asked about by itself, each with when."""
    for feed in context.store.feeds.all():
        if feed.sign_in in ("none", "site code") or feed.polled_at is None:
            continue
        if feed.check is None:
            yield feed.id, feed.polled_at
        elif not feed.check.sure:
            yield feed.id, feed.check.at + LOOK_AGAIN
