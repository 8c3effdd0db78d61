"""Changes out of a maker's free text: one line, one change, its kind found by patterns.

Patterns are a person's, text is a maker's: each match may take a moment and no longer.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import regex

from windbreak.core.values.releases import Change, ChangeKind
from windbreak.feeds.errors import FeedUnreadable
from windbreak.outside.markup import bare

MOST_LINES = 400
LONGEST = 500
SECONDS = 0.5

USUAL: dict[ChangeKind, str] = {
    "security": r"(?i)\bsecur|\bvulnerab|\bCVE-\d",
    "breaking": r"(?i)\bbreaking\b|\bno longer\b|\bremoved?\b|\bgone\b",
    "feature": r"(?i)^(add|new|feature|introduc)",
}
_ADVISORY = regex.compile(r"\b(?:CVE-\d{4}-\d{4,7}|A-\d{4}-\d+|GHSA(?:-[0-9a-z]{4}){3})\b")


def pattern(text: str) -> regex.Pattern[str]:
    """A pattern that is ready. Raises ValueError for one that can't be read."""
    try:
        return regex.compile(text)
    except regex.error as error:
        raise ValueError(f"the pattern {text!r} can't be read: {error}") from None


def first_match(ready: regex.Pattern[str], text: str) -> regex.Match[str] | None:
    """The first match in a text. Raises FeedUnreadable when it takes too long."""
    try:
        return ready.search(text[:LONGEST], timeout=SECONDS)
    except TimeoutError:
        raise FeedUnreadable(f"the pattern {ready.pattern!r} takes too long on this text") from None


def entries(text: str, patterns: Mapping[ChangeKind, str]) -> tuple[Change, ...]:
    """The changes a text tells of; a line that no pattern finds is a fix."""
    ready = [(kind, pattern(words)) for kind, words in (patterns or USUAL).items()]
    return tuple(_changes(_lines(text), ready))


def _changes(
    lines: Iterable[str], ready: list[tuple[ChangeKind, regex.Pattern[str]]]
) -> Iterable[Change]:
    for line in lines:
        kind: ChangeKind = "fix"
        for change, words in ready:
            match = first_match(words, line)
            if match is not None:
                kind = change
                if match.start() == 0 and match.group().endswith(":"):
                    line = line[match.end() :].strip() or line  # the kind is told by ours
                break
        advisory = _ADVISORY.search(line)
        yield Change(kind=kind, text=line, advisory=advisory.group() if advisory else None)


def _lines(text: str) -> list[str]:
    """The lines of a plain or marked-up text, without marks of lists and of markup."""
    lines = (line.strip(" \t\r*-•–") for line in bare(text[: 2**18]).splitlines())
    return [line[:LONGEST] for line in lines if line][:MOST_LINES]
