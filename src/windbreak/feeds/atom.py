"""The ``atom`` format: Atom (RFC 4287) or RSS; version and changes by the feed's own patterns.

Enclosures are packages. Feeds of this kind list the newest entries only, so what is missing is
not gone. A document with entities of its own is refused: they are a known way to do harm.
"""

from __future__ import annotations

import calendar
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urljoin

import feedparser
from defusedxml import DefusedXmlException, ElementTree
from pydantic import ValidationError

from windbreak.core.values.feeds import Reading
from windbreak.core.values.releases import Announcement, Attachment
from windbreak.feeds.announced import Announced, Asked
from windbreak.feeds.changelog import entries, first_match, pattern
from windbreak.feeds.errors import FeedUnreadable
from windbreak.feeds.recipes import name_of

LONGEST = 300


def read(asked: Asked) -> Announced:
    """Read a feed's answer. Raises FeedUnreadable when the whole is no Atom or RSS."""
    reading = asked.reading
    if reading.product is None:
        raise FeedUnreadable("the feed's settings do not say what product its entries are of")
    faults = _safe(asked.answer.body)
    document = feedparser.parse(
        asked.answer.body,
        response_headers={"content-type": asked.answer.headers.get("content-type", "")},
        sanitize_html=False,
        resolve_relative_uris=False,
    )
    if not document.get("version"):
        raise FeedUnreadable("the answer is neither Atom nor RSS")
    announcements = []
    for index, entry in enumerate(document.entries):
        try:
            announcement = _entry(entry, reading, asked.answer.url)
        except ValidationError as error:
            faults.append(f"entry {index}: {error.errors()[0]['msg']}")
        except ValueError as error:
            faults.append(f"entry {index}: {error}")
        else:
            announcements.append(announcement)
    return Announced(announcements=tuple(announcements), faults=tuple(faults), whole=False)


def _safe(body: bytes) -> list[str]:
    """Refuse what may do harm; what is only ill-formed is said, and read as far as it goes."""
    try:
        ElementTree.fromstring(body)
    except DefusedXmlException:
        raise FeedUnreadable(
            "the document declares entities of its own, which may do harm"
        ) from None
    except ElementTree.ParseError as error:
        return [f"it is not well-formed XML ({error}); it was read as far as it goes"]
    except (ValueError, LookupError, RecursionError) as error:
        raise FeedUnreadable(f"the document can't be read: {error}") from None
    return []


def _entry(entry: Any, reading: Reading, url: str) -> Announcement:
    title = str(entry.get("title", ""))
    match = first_match(pattern(reading.version), title)
    if match is None:
        raise ValueError(f"no version in its title, {title[:80]!r}")
    version = match.groupdict().get("version") or match.group()
    when = entry.get("published_parsed") or entry.get("updated_parsed")
    if when is None:
        raise ValueError(f"{title[:80]!r} has no date")
    content = " \n".join(str(c.get("value", "")) for c in entry.get("content", ()))
    text = content or str(entry.get("summary", ""))
    enclosure = next((e for e in entry.get("enclosures", ()) if e.get("href")), None)
    return Announcement.model_validate(
        {
            "product": reading.product,
            "version": version,
            "published": datetime.fromtimestamp(calendar.timegm(when), UTC).date(),
            "title": f"{name_of(str(reading.product))} {version}",
            "text": title[:LONGEST],
            "changes": [c.model_dump() for c in entries(text, reading.changes)],
            "package": Attachment(url=urljoin(url, str(enclosure["href"])), size=_size(enclosure))
            if enclosure
            else None,
        }
    )


def _size(enclosure: Any) -> int | None:
    length = str(enclosure.get("length", ""))
    return int(length) if length.isdigit() and len(length) < 13 and int(length) > 0 else None
