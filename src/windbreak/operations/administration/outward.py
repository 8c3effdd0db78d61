"""What goes out by itself: web hooks, and each message to them until it is taken."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from windbreak.core.values.accounts import Principal
from windbreak.core.values.hooks import Delivery, Hook, NewHook, News
from windbreak.feeds.fetching import host_of, origin
from windbreak.links import signing
from windbreak.notices import web_hook
from windbreak.notices.errors import NoticeError
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.outside import way_out

GIVE_UP = timedelta(days=1)
_FIRST_WAIT = timedelta(seconds=30)
_MOST_AT_ONCE = 50


def add_hook(context: Context, new: NewHook, by: Principal) -> Hook:
    """Register a web hook. Writes. Raises Refused for a place we may not tell."""
    host = origin(new.url)[1]
    if way_out.is_private(host) and not context.allowed:
        raise Refused(
            "private-network",
            f"{host} lies on a private network; the setting private_networks can allow it",
        )
    for site in context.store.sites.live():
        if origin(site.address) == origin(new.url):
            raise Refused(
                "site-address",
                f"{new.url} lies at {site.label}, a site that is worked on; news go elsewhere",
            )
    key = signing.public_text(instance.key(context))
    hook = Hook(**dict(new), made_by=by.name, made_at=context.clock(), public_key=key)
    with context.store.transaction():
        context.store.hooks.add(hook)
        context.record(by.name, f"web hook {hook.id} registered", hook.id, result=host_of(new.url))
    return hook


def drop_hook(context: Context, hook: str, by: Principal) -> None:
    """Tell a web hook no more. Writes."""
    context.store.hooks.get(hook)
    with context.store.transaction():
        for delivery in context.store.deliveries.all(hook=hook):
            context.store.deliveries.drop(delivery.id)
        context.store.hooks.drop(hook)
        context.record(by.name, f"web hook {hook} dropped", hook)


def tell(context: Context, news: News, *messages: Mapping[str, Any]) -> None:
    """Put news in the way of every web hook that wants it; the driver sends it. Writes."""
    now = context.clock()
    for hook in context.store.hooks.all() if messages else ():
        for what in messages if news in hook.news else ():
            body = json.dumps({"news": news, "at": now.isoformat(), "what": dict(what)})
            context.store.deliveries.add(
                Delivery(id=0, hook=hook.id, news=news, body=body, made_at=now, next_at=now)
            )


def deliver(context: Context) -> int:
    """Send what is due, each message until it is taken or a day has passed; how many. Writes.

    A receiver may be told the same message twice, never another one under its id.
    """
    now = context.clock()
    due = [d for d in context.store.deliveries.all(state="waiting") if d.next_at <= now]
    for delivery in due[:_MOST_AT_ONCE]:
        hook = context.store.hooks.get(delivery.hook)
        body = json.dumps({"id": delivery.id, **json.loads(delivery.body)}).encode()
        try:
            web_hook.send(context.out, hook.url, body, instance.key(context), now)
        except NoticeError as error:
            tries = delivery.tries + 1
            over = now - delivery.made_at > GIVE_UP
            context.store.deliveries.change(
                delivery.id,
                tries=tries,
                text=str(error),
                state="given up" if over else "waiting",
                next_at=now + min(_FIRST_WAIT * 2 ** min(tries, 8), timedelta(hours=2)),
            )
            outcome = f"Not taken, {error}; {'given up' if over else 'it is tried again'}."
            context.store.hooks.change(hook.id, state="failing", text=outcome, last_at=now)
        else:
            context.store.deliveries.change(delivery.id, state="taken", tries=delivery.tries + 1)
            context.store.hooks.change(
                hook.id, state="taken", text="It takes our news.", last_at=now
            )
    return len(due)
