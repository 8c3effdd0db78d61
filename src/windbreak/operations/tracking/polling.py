"""Feeds polled politely, many at once; what each look brings is taken in."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from pydantic import ValidationError

from windbreak.core.values.feeds import Feed, PollResult
from windbreak.feeds.announced import Announced, Asked, Items
from windbreak.feeds.errors import FeedError, FeedRefused, FeedUnreachable, FeedUnreadable
from windbreak.feeds.fetching import Credential, Fetched, good_for, host_of
from windbreak.feeds.formats import FORMATS
from windbreak.operations.administration import outward
from windbreak.operations.context import Context, Noted
from windbreak.operations.errors import Refused
from windbreak.operations.tracking import asking, catalogue, recipes
from windbreak.outside.at_once import at_once

LONGEST_WAIT = timedelta(hours=24)
MOST_PAGES = 20
AT_ONCE = 32
TOGETHER_SECONDS = 0.02  # for which a look waits for others to be taken in with


def due(context: Context) -> list[Feed]:
    """The feeds whose time has come. Reads."""
    now = context.clock()
    return [
        feed
        for feed in context.store.feeds.all()
        if feed.next_poll_at is None or feed.next_poll_at <= now
    ]


def next_due(context: Context) -> datetime | None:
    """When a feed is to be looked at next; None where there is none. Reads."""
    now = context.clock()
    return min([feed.next_poll_at or now for feed in context.store.feeds.all()], default=None)


def poll_many(context: Context, feeds: list[Feed], *, fresh: bool = False) -> Iterator[PollResult]:
    """Look at many feeds at once, at few of one host at a time, each as it is ready. Writes.

    A feed that hangs keeps back only the others of its host. Many threads ask and read; what they
    bring within a moment is taken in together by the caller's, so that none waits for another with
    the database. A look that can't be taken in, by a fault of ours, keeps back no other: it is
    raised at the end.
    """
    faults: list[Exception] = []
    asked = [(feed, asking.credential_of(context, feed)) for feed in feeds]
    for looks in at_once(
        asked,
        lambda pair: _looked(context, *pair, fresh=fresh),
        place=lambda pair: host_of(pair[0].url),
        most=AT_ONCE,
        per_place=context.per_host,
        finish=context.store.close,  # a thread that read a recipe has a connection
        gather=TOGETHER_SECONDS,
    ):
        try:
            yield from _taken_in(context, looks)
        except Exception:  # none of them was: each by itself
            for look in looks:
                try:
                    yield from _taken_in(context, [look])
                except Exception as fault:
                    faults.append(fault)
    if faults:
        raise faults[0]


def poll(context: Context, feed: str, *, fresh: bool = False) -> PollResult:
    """Look at a feed and take in what is new. ``fresh`` goes past every cache. Writes.

    Never raises for a feed that fails: its state then says why.
    """
    listed = context.store.feeds.get(feed)
    credential = asking.credential_of(context, listed)
    return _taken_in(context, [_looked(context, listed, credential, fresh=fresh)])[0]


@dataclass(frozen=True)
class _Look:
    """What a look at a feed brought: news and its items, or nothing new (no ``announced``), or an
    error. ``last`` is the good look before it.
    """

    feed: Feed
    at: datetime
    answer: Fetched | None = None
    announced: Announced | None = None
    items: Items = field(default_factory=dict)
    last: asking.LastLook = field(default_factory=asking.LastLook)
    error: FeedError | None = None

    @property
    def products(self) -> set[str]:
        return {a.product for a in self.announced.announcements} if self.announced else set()


def _looked(context: Context, feed: Feed, credential: Credential | None, *, fresh: bool) -> _Look:
    """Ask a feed and read what it answers. Writes nothing."""
    now = context.clock()
    try:
        answer = asking.ask(context, feed, feed.url, credential, conditional=not fresh)
        if answer.unchanged:
            return _Look(feed, now, answer)
        last = asking.last_looks(context).get(feed.id, asking.LastLook())
        announced, items = _read(context, feed, credential, answer, last.items)
        return _Look(feed, now, answer, announced, items, last)
    except FeedError as error:
        return _Look(feed, now, error=error)


def _taken_in(context: Context, looks: Sequence[_Look]) -> list[PollResult]:
    """Take in what some looks brought, all of it or nothing. Writes."""
    listed_by = Counter(product for look in looks for product in look.products)
    with context.store.transaction():
        ids = {look.feed.id for look in looks}
        current = {feed.id: feed for feed in context.store.feeds.all(id=ids)}
        events: list[Noted] = []
        results = [_take_in(context, k, current.get(k.feed.id), events) for k in looks]
        news = [r.model_dump(include={"feed", "taken", "text"}) for r in results if r.taken]
        outward.tell(context, "release", *news)
        context.note_all(events)
        generation = context.store.database.coming_generation()
    for look, result in zip(looks, results, strict=True):
        if look.announced is not None and result.state == "fresh":
            # What two of them list was changed by both in one generation: it is compared anew.
            alone = all(listed_by[product] == 1 for product in look.products)
            announced = look.announced if alone else None
            kept = asking.LastLook(look.items, announced, generation)
            asking.last_looks(context)[look.feed.id] = kept
    context.wake()
    return results


def _take_in(
    context: Context, look: _Look, current: Feed | None, events: list[Noted]
) -> PollResult:
    """Take in what one look brought, and add what is to be noted. Within a transaction."""
    feed, now, answer, announced = look.feed, look.at, look.answer, look.announced
    if current is None or (current.url, current.reading) != (feed.url, feed.reading):
        became = "dropped" if current is None else "changed"
        text = f"{feed.label}: it was {became} while it was asked; nothing was taken in."
        return PollResult(feed=feed.id, at=now, state="failing", text=text)
    if answer is None:
        assert look.error is not None  # a look brings an answer or an error
        return _failed(context, current, now, look.error, events)
    if announced is None:
        _note(context, current, now, answer)
        text = f"{feed.label}: nothing new."
        return PollResult(feed=feed.id, at=now, state="fresh", unchanged=True, text=text)
    try:
        catalogue.refuse_emptied(context, feed, announced)
    except FeedError as error:
        return _failed(context, current, now, error, events)
    before = look.last.announced if _untouched_since(context, look.last) else None
    taken = catalogue.take_in(context, feed, announced, now, before)
    _note(
        context,
        current,
        now,
        answer,
        **({"changed_at": now} if taken.ids else {}),  # another look may have set it meanwhile
        check_url=announced.check_url,
        needs=announced.needs,
        faults=taken.faults,
        products=taken.products,
        disagreements=catalogue.disagreements(context, feed, announced),
    )
    result = _result(feed, now, announced, taken)
    if taken.ids or taken.noted:
        events.append(("release", feed.id, result.text))
    return result


def _untouched_since(context: Context, last: asking.LastLook) -> bool:
    """Whether nothing was written of the products that a look listed since it was taken in."""
    if last.announced is None:
        return False
    own = {a.product for a in last.announced.announcements}
    return context.store.database.unchanged_since(last.generation, "product", own)


def _result(feed: Feed, now: datetime, announced: Announced, taken: catalogue.Taken) -> PollResult:
    if feed.kind == "advisories":
        count = len(announced.advisories)
        text = f"{feed.label}: {len(taken.ids)} new or changed of {count} advisories."
    else:
        text = f"{feed.label}: {len(taken.ids)} new of {len(announced.announcements)} releases."
    if taken.faults:
        count = len(taken.faults)
        passed_over = "1 item was passed over" if count == 1 else f"{count} items were passed over"
        text += f" {passed_over}; the first: {taken.faults[0]}"
    if taken.again:
        text += f" {'; '.join(taken.again)}."
    return PollResult(
        feed=feed.id,
        at=now,
        state="fresh",
        taken=taken.ids,
        faults=taken.faults,
        again=taken.again,
        text=text,
    )


def _read(
    context: Context, feed: Feed, credential: Credential | None, answer: Fetched, before: Items
) -> tuple[Announced, Items]:
    """A feed's answer and the pages it goes on to, as announcements; and its items. Raises
    FeedError.
    """
    items: Items = {}
    recipe = None
    if feed.kind == "recipe" and feed.reading.recipe:
        try:
            recipe = recipes.recipe_of(context, feed.reading.recipe)
        except Refused as error:
            raise FeedUnreadable(str(error)) from None

    def read(page: Fetched) -> Announced:
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
        page = asking.ask(context, feed, announced.next_url, credential)
        announced = announced.and_more(read(page))
    return announced, items


def _note(context: Context, feed: Feed, now: datetime, answer: Fetched, **more: object) -> None:
    spread = random.uniform(0.9, 1.1)  # so that feeds of one maker are not asked all at once
    good = min(timedelta(seconds=good_for(answer.headers)), LONGEST_WAIT)
    wait = max(timedelta(minutes=feed.every_minutes) * spread, good)
    context.store.feeds.revise(
        feed,
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


def _failed(
    context: Context,
    feed: Feed,
    now: datetime,
    error: FeedError,
    events: list[Noted],
) -> PollResult:
    state = "refused" if isinstance(error, FeedRefused) else "failing"
    failures = feed.failures + 1
    wait = min(timedelta(minutes=feed.every_minutes) * 2 ** min(failures - 1, 8), LONGEST_WAIT)
    wait *= random.uniform(1.0, 1.1)
    if isinstance(error, FeedUnreachable) and error.retry_after is not None:
        wait = min(timedelta(seconds=error.retry_after), LONGEST_WAIT)
    reason = f"{error}".rstrip(".") + "."
    context.store.feeds.revise(
        feed,
        state=state,
        reason=reason,
        polled_at=now,
        failures=failures,
        next_poll_at=now + wait,
    )
    events.append(("feed", feed.id, reason))
    return PollResult(
        feed=feed.id,
        at=now,
        state="refused" if state == "refused" else "failing",
        text=f"{feed.label}: {reason} What was known before stands.",
    )
