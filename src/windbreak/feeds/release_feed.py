"""The ``release-feed`` format: JSON Feed 1.1 whose items carry a ``_release`` object.

Source: docs/formats.md. An item that says something wrongly is reported with its place and
costs that item only; a document that is no JSON Feed at all is refused.
"""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import urljoin

from pydantic import ValidationError

from windbreak.core.fleet import Value
from windbreak.core.tracking import Announcement, Attachment, Told
from windbreak.feeds.errors import FeedUnreadable
from windbreak.feeds.fetching import Answer


class Announced(Value):
    """What a feed's document says: releases, what was passed over, and about the feed itself."""

    announcements: tuple[Announcement, ...]
    faults: tuple[str, ...] = ()
    headline: dict[str, str] = {}
    check_url: str | None = None
    needs: tuple[str, ...] = ()


def read(answer: Answer) -> Announced:
    """Read a feed's answer. Raises FeedUnreadable when the whole is not such a feed."""
    try:
        document = json.loads(answer.body)
    except (ValueError, RecursionError) as error:
        raise FeedUnreadable(f"the answer is not JSON: {error}") from error
    if not isinstance(document, dict) or not isinstance(document.get("items"), list):
        raise FeedUnreadable("the answer is no JSON Feed: it has no list of items")
    if not str(document.get("version", "")).startswith("https://jsonfeed.org/version/1"):
        raise FeedUnreadable("the answer does not say that it is JSON Feed 1.1")
    own = document.get("_release")
    own = own if isinstance(own, dict) else {}
    credential = own.get("credential")
    credential = credential if isinstance(credential, dict) else {}
    check = credential.get("check_url")
    announcements, faults = [], []
    for index, item in enumerate(document["items"]):
        try:
            found = _item(item, answer.url)
        except ValidationError as error:
            faults += [f"items[{index}]{_place(e['loc'])}: {e['msg']}" for e in error.errors()]
        except ValueError as error:
            faults.append(f"items[{index}]: {error}")
        else:
            if found is not None:
                announcements.append(found)
    headline = own.get("headline")
    return Announced(
        announcements=tuple(announcements),
        faults=tuple(faults),
        headline=headline if isinstance(headline, dict) else {},
        check_url=urljoin(answer.url, check) if isinstance(check, str) else None,
        needs=tuple(str(need) for need in credential.get("needs", ())),
    )


def _item(item: object, url: str) -> Announcement | None:
    """One item; None for one that speaks of no release. Raises ValueError."""
    if not isinstance(item, dict):
        raise ValueError("an item is an object")
    if "_release" not in item:
        return None
    told = Told.model_validate(item["_release"])
    published = item.get("date_published")
    if not isinstance(published, str) or len(published) < 10:
        raise ValueError("date_published is required, as 2026-11-14T09:00:00Z")
    fields: dict[str, Any] = told.model_dump(by_alias=False)
    return Announcement(
        **fields,
        title=str(item.get("title") or f"{told.product} {told.version}"),
        published=published[:10],
        package=_attachment(item.get("attachments"), url),
    )


def _attachment(attachments: object, url: str) -> Attachment | None:
    for one in attachments if isinstance(attachments, list) else ():
        if isinstance(one, dict) and isinstance(one.get("url"), str):
            return Attachment(
                url=urljoin(url, one["url"]),
                size=one.get("size_in_bytes"),
                sha256=one.get("_sha256"),
            )
    return None


def _place(loc: tuple[str | int, ...]) -> str:
    return "._release" + "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in loc)
