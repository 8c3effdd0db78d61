"""What gives cause for a finding in feeds and credentials."""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.values.feeds import Feed
from windbreak.core.values.findings import Finding
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.wording.words import counted


def of_feeds(context: Context, id: str) -> Iterator[Finding]:
    listed = context.store.feeds.find(id)
    for feed in [listed.aged(context.clock())] if listed else []:
        yield from _of_feed(context, feed)
        account = context.store.accounts.find(feed.set_up_by) if feed.set_up_by else None
        if account is not None and account.closed_at is not None:
            yield finding(
                context,
                f"setter:{feed.id}",
                "blocked",
                "low",
                None,
                f"**{feed.label}**’s credential was set up by {account.name}, "
                "whose account is closed.",
                "It may end with that person’s account at the maker. Set it up anew under "
                "somebody who is here.",
                act("Replace it", "replace-credential", feed=feed.id),
            )
        for disagreement in feed.disagreements:
            yield finding(
                context,
                f"sources:{feed.id}:{disagreement.product}",
                "waiting",
                "low",
                None,
                f"**{feed.label}** disagrees with itself on what is newest.",
                disagreement.text,
                act("Open the product", "see-product", product=disagreement.product),
            )


def _of_feed(context: Context, feed: Feed) -> Iterator[Finding]:
    check = act("Check it", "check-credential", feed=feed.id)
    poll = act("Look again", "poll", feed=feed.id)
    if feed.state == "refused":
        yield finding(
            context,
            f"feed:{feed.id}",
            "blocked",
            "high",
            None,
            f"**{feed.label}** "
            + (
                "refuses our credential."
                if feed.credential
                else "wants a credential, and has none."
            ),
            f"{feed.reason} What was known before stands; nothing newer is seen.",
            act("Replace it", "replace-credential", feed=feed.id),
        )
    elif feed.state in ("failing", "stale") and feed.polled_at is not None:
        since = feed.fresh_at
        last = f" Last read well {since:%d %b %H:%M} UTC." if since else " It was never read well."
        yield finding(
            context,
            f"feed:{feed.id}",
            "blocked",
            "medium",
            None,
            f"**{feed.label}** can’t be read.",
            f"{feed.reason} What was known before stands.{last}",
            poll,
        )
    elif feed.faults:
        rest = f" and {len(feed.faults) - 1} more" if len(feed.faults) > 1 else ""
        yield finding(
            context,
            f"items:{feed.id}",
            "waiting",
            "low",
            None,
            f"**{feed.label}**: {counted(len(feed.faults), 'item')} could not be taken as told.",
            f"{feed.faults[0]}{rest}. The others were taken.",
            poll,
        )
    if feed.check is not None and feed.check.sure and (feed.check.lacks or not feed.check.valid):
        lacks = ", ".join(f"`{p}`" for p in feed.check.lacks)
        headline = f"**{feed.label}**’s credential lacks {lacks}."
        if not feed.check.valid:
            headline = f"**{feed.label}** turned our credential away when it was checked."
        yield finding(
            context,
            f"credential:{feed.id}",
            "blocked",
            "low",
            None,
            headline,
            feed.check.text,
            check,
        )
