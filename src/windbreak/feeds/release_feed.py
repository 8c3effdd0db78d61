"""The ``release-feed`` format: JSON Feed 1.1 whose items carry a ``_release`` object.

Source: docs/formats.md. An item that says something wrongly is reported with its place and
costs that item only; a document that is no JSON Feed at all is refused.
"""

from __future__ import annotations

from datetime import date
from typing import Any
from urllib.parse import urljoin

from pydantic import TypeAdapter, ValidationError
from pydantic_core import to_json

from windbreak.core.values.releases import (
    Announcement,
    Attachment,
    PlainProductId,
    ReleaseFacts,
    SaidVersion,
)
from windbreak.feeds.announced import Announced, Asked
from windbreak.feeds.errors import FeedUnreadable
from windbreak.feeds.loading import load_json

LONGEST = 20_000
_PRODUCT = TypeAdapter[str](PlainProductId)
_VERSION = TypeAdapter[str](SaidVersion)
_TEXT = TypeAdapter[str](str)


def read(asked: Asked) -> Announced:
    """Read a feed's answer. Raises FeedUnreadable when the whole is not such a feed."""
    answer = asked.answer
    document = load_json(answer.body)
    if not isinstance(document, dict) or not isinstance(document.get("items"), list):
        raise FeedUnreadable("the answer is no JSON Feed: it has no list of items")
    if not str(document.get("version", "")).startswith("https://jsonfeed.org/version/1"):
        raise FeedUnreadable("the answer does not say that it is JSON Feed 1.1")
    own = _object(document.get("_release"))
    credential = _object(own.get("credential"))
    check = credential.get("check_url")
    needs = credential.get("needs")
    next_url = document.get("next_url")
    announcements, faults, unread = [], [], []
    for index, item in enumerate(document["items"]):
        key = str(item.get("id") or index) if isinstance(item, dict) else str(index)
        listed, announcement = asked.before.get(key, (b"", None))
        as_listed = to_json(item)
        try:
            if announcement is None or listed != as_listed:
                announcement = _item(item, answer.url)
        except ValidationError as error:
            faults += [f"items[{index}]{_place(e['loc'])}: {e['msg']}" for e in error.errors()]
            unread.append(_product_of(item))
        except ValueError as error:
            faults.append(f"items[{index}]: {error}")
            unread.append(_product_of(item))
        else:
            if announcement is not None:
                announcements.append(announcement)
                asked.items[key] = (as_listed, announcement)
    return Announced(
        maker=str(document.get("title") or "")[:120] or None,
        announcements=tuple(announcements),
        faults=tuple(faults),
        unread=tuple(product for product in unread if product is not None),
        whole=None not in unread,
        headline=_by_product(own.get("headline"), _VERSION),
        withdrawn=_by_product(_listed(own.get("withdrawn")), _TEXT),
        check_url=_joined(answer.url, check),
        needs=tuple(str(need) for need in needs) if isinstance(needs, list) else (),
        next_url=_joined(answer.url, next_url),
    )


def _joined(url: str, address: object) -> str | None:
    """An address beside the document's own; None for what is none."""
    try:
        return urljoin(url, address) if isinstance(address, str) else None
    except ValueError:
        return None


def _object(value: object) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _listed(products: object) -> object:
    """Products by themselves count as products with nothing said of them."""
    return dict.fromkeys(map(str, products), "") if isinstance(products, list) else products


def _by_product(words: object, kind: TypeAdapter[str]) -> dict[str, str]:
    """What is said product by product; what names no product or says nothing is passed by."""
    texts = {}
    for product, value in _object(words).items():
        try:
            texts[_PRODUCT.validate_python(product)] = kind.validate_python(value)
        except ValidationError:
            continue
    return texts


def _product_of(item: object) -> str | None:
    """The product of an item that can't be read otherwise; None where not even that is told."""
    product = _object(_object(item).get("_release")).get("product")
    return product if isinstance(product, str) else None


def _item(item: object, url: str) -> Announcement | None:
    """One item; None for one that speaks of no release. Raises ValueError."""
    if not isinstance(item, dict):
        raise ValueError("an item is an object")
    if "_release" not in item:
        return None
    facts = ReleaseFacts.model_validate(_without_private(item["_release"]))
    return Announcement.model_construct(
        **dict(facts),
        title=str(item.get("title") or f"{facts.product} {facts.version}")[:300],
        text=str(item.get("content_text") or "")[:LONGEST],
        published=_day(item.get("date_published")),
        package=_attachment(item.get("attachments"), url),
    )


def _day(published: object) -> date:
    try:
        return date.fromisoformat(published[:10] if isinstance(published, str) else "")
    except ValueError:
        raise ValueError("date_published is required, as 2026-11-14T09:00:00Z") from None


def _without_private(value: object) -> object:
    """Without keys that begin with "_": those are the maker's own, by the rule of JSON Feed."""
    if isinstance(value, dict):
        return {k: _without_private(v) for k, v in value.items() if not str(k).startswith("_")}
    if isinstance(value, list):
        return [_without_private(part) for part in value]
    return value


def _attachment(attachments: object, url: str) -> Attachment | None:
    for attachment in attachments if isinstance(attachments, list) else ():
        if isinstance(attachment, dict) and isinstance(attachment.get("url"), str):
            try:
                where = urljoin(url, attachment["url"])
            except ValueError:
                raise ValueError(f"attachments: {attachment['url'][:80]!r} is no address") from None
            return Attachment.model_validate(
                {
                    "url": where,
                    "size": attachment.get("size_in_bytes"),
                    "sha256": attachment.get("_sha256"),
                }
            )
    return None


def _place(loc: tuple[str | int, ...]) -> str:
    return "._release" + "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in loc)
