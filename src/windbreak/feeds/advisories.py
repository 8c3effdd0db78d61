"""The ``advisories`` format: OSV JSON, one advisory or a list of them.

An affected package is matched by its name to a product id through the feed's settings; a name
that is a product id already stands for itself, and other names are nobody's of ours. Ranges are
read by their events (``introduced``, ``fixed``, ``last_affected``); ``versions`` add to them.
"""

from __future__ import annotations

from typing import Any

from cvss import CVSS2, CVSS3, CVSS4
from cvss.exceptions import CVSSError
from pydantic import ValidationError

from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import Severity
from windbreak.core.values.feeds import Reading
from windbreak.core.versions.vers import from_vers
from windbreak.feeds.announced import Announced, Asked
from windbreak.feeds.errors import FeedUnreadable
from windbreak.feeds.loading import load_json

_WORDS: dict[str, Severity] = {
    "low": "low",
    "moderate": "medium",
    "medium": "medium",
    "high": "high",
    "important": "high",
    "critical": "critical",
}
_VECTORS: dict[str, Any] = {"CVSS_V2": CVSS2, "CVSS_V3": CVSS3, "CVSS_V4": CVSS4}


def read(asked: Asked) -> Announced:
    """Read a feed's answer. Raises FeedUnreadable when the whole is no OSV."""
    document = load_json(asked.answer.body)
    if isinstance(document, dict) and isinstance(document.get("vulns"), list):
        document = document["vulns"]
    listed = document if isinstance(document, list) else [document]
    advisories: list[KnownAdvisory] = []
    faults: list[str] = []
    for index, item in enumerate(listed):
        try:
            advisories += _advisory(item, asked.reading, asked.feed)
        except ValidationError as error:
            faults.append(f"advisory {index}: {error.errors()[0]['msg']}")
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            faults.append(f"advisory {index}: {error}")
    if listed and not advisories and faults:
        raise FeedUnreadable(f"none of its advisories could be read; {faults[0]}")
    return Announced(advisories=tuple(advisories), faults=tuple(faults))


def _advisory(item: Any, reading: Reading, feed: str) -> list[KnownAdvisory]:
    if not isinstance(item, dict) or not isinstance(item.get("id"), str):
        raise ValueError("an advisory is an object with an id")
    ranges = []
    for affected in item.get("affected", ()):
        name = str(affected.get("package", {}).get("name", ""))
        product = reading.packages.get(name, name)
        if not product.startswith(("core/", "theme/", "plugin/", "runtime/")):
            continue
        ranges.append(
            KnownAdvisory.model_validate(
                {
                    "id": item["id"],
                    "product": product,
                    "affected": _range(affected),
                    "severity": _severity(item, affected),
                    "summary": str(item.get("summary") or item.get("details") or "")[:500],
                    "aliases": tuple(str(a) for a in item.get("aliases", ())),
                    "feed": feed,
                    "published": str(item["published"])[:10] if item.get("published") else None,
                    "withdrawn": bool(item.get("withdrawn")),
                }
            )
        )
    return ranges


def _range(affected: dict[str, Any]) -> str:
    """The affected versions as a range of ours: ">=1.0,<2.3 || =2.5"."""
    parts = []
    for part in affected.get("ranges", ()):
        if part.get("type") == "GIT":
            continue
        start: str | None = None
        for event in part.get("events", ()):
            if "introduced" in event:
                start = str(event["introduced"])
            elif "fixed" in event and start is not None:
                parts.append(_between(start, f"<{event['fixed']}"))
                start = None
            elif "last_affected" in event and start is not None:
                parts.append(_between(start, f"<={event['last_affected']}"))
                start = None
        if start is not None:
            parts.append(_between(start, ""))
    for version in affected.get("versions", ()):
        parts.append(from_vers(version) if version.startswith("vers:") else f"={version}")
    if not parts:
        raise ValueError("it says of no version that it is affected")
    return " || ".join(dict.fromkeys(parts))


def _between(start: str, end: str) -> str:
    low = "" if start == "0" else f">={start}"
    return ",".join(part for part in (low, end) if part) or "*"


def _severity(item: dict[str, Any], affected: dict[str, Any]) -> Severity:
    """Its weight by the database's word, else by its CVSS vector; high where neither is told."""
    for level in (affected.get("database_specific"), item.get("database_specific")):
        word = str(level.get("severity", "")).lower() if isinstance(level, dict) else ""
        if word in _WORDS:
            return _WORDS[word]
    for rating in (*affected.get("severity", ()), *item.get("severity", ())):
        read = _VECTORS.get(str(rating.get("type")))
        if read is not None:
            try:
                word = str(read(str(rating.get("score"))).severities()[0]).lower()
            except CVSSError:
                continue
            return _WORDS.get(word, "low")
    return "high"
