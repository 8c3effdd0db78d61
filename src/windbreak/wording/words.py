"""Words that sentences are made of: days, numbers with their nouns, lists, ranges as said."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from windbreak.core.values.basics import Match


def day(when: date, now: date | None = None) -> str:
    """A day as people say it: "Thu 26 Nov", with the year where it is not that of ``now``."""
    year = "" if now is not None and when.year == now.year else f" {when.year}"
    return f"{when:%a} {when.day} {when:%b}{year}"


def in_words(text: str) -> str:
    """A range as people say it: ">=8.1" is "8.1 or newer", ">=2,<3" is "from 2 to below 3"."""
    if text.strip() == "*":
        return "on the site"
    return " or ".join(_alternative_in_words(word) for word in text.split("||"))


def versions_in_words(text: str) -> str:
    """The versions in a range: "6 or newer", "any version"."""
    return "any version" if text.strip() == "*" else in_words(text)


def _alternative_in_words(text: str) -> str:
    clauses = [clause.strip() for clause in text.split(",")]
    if len(clauses) == 2 and clauses[0].startswith(">=") and clauses[1].startswith("<"):
        end = "up to" if clauses[1].startswith("<=") else "to below"
        return f"from {clauses[0][2:].strip()} {end} {clauses[1].lstrip('<=').strip()}"
    return " and ".join(_clause_in_words(clause) for clause in clauses)


_CLAUSES = (
    (">=", "{} or newer"),
    ("<=", "up to {}"),
    ("!=", "other than {}"),
    ("==", "{}"),
    (">", "above {}"),
    ("<", "below {}"),
    ("=", "{}"),
)


def _clause_in_words(clause: str) -> str:
    for sign, words in _CLAUSES:
        if clause.startswith(sign):
            return words.format(clause.removeprefix(sign).strip())
    return clause


def match_in_words(match: Match) -> str:
    """What a level of lockstep asks of versions: "be exactly equal"."""
    match match:
        case "exact":
            return "be exactly equal"
        case "minor":
            return "match in their first two numbers"
        case "major":
            return "match in their first number"


def listed(names: Sequence[str]) -> str:
    if len(names) < 2:
        return "".join(names)
    return f"{', '.join(names[:-1])} and {names[-1]}"


def joined(labels: Sequence[str]) -> str:
    """Some acts as one sentence: "Renew Breakwater 5 and lift the hold"."""
    first, *rest = labels
    return " and ".join([first, *(text[:1].lower() + text[1:] for text in rest)])


def counted(count: int, noun: str) -> str:
    """A number with its noun: "1 step", "2 steps"."""
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"


def first_up(text: str) -> str:
    """The text with a capital first, unless it begins with a product id."""
    bare = text.split(" ", 1)[0].rstrip("'s")
    return text if "/" in bare else text[:1].upper() + text[1:]
