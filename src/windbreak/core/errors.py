"""What the core refuses.

CoreError
  VersionError     a text is not a version
  RangeError       a text is not a range of versions
  CaseError        a case file has faults; all of them, each with its path
  BookError        the same of a night book
"""

from __future__ import annotations

from dataclasses import dataclass


class CoreError(ValueError):
    """Something the core was given can't be read."""

    code = "unreadable"


class VersionError(CoreError):
    """A text is not a version."""

    code = "not-a-version"

    def __init__(self, text: str, reason: str) -> None:
        self.text, self.reason = text, reason
        super().__init__(f"{_short(text)!r} is not a version: {reason}")


class RangeError(CoreError):
    """A text is not a range of versions; ``place`` counts its signs from 0."""

    code = "not-a-range"

    def __init__(self, text: str, place: int, reason: str) -> None:
        self.text, self.place, self.reason = text, place, reason
        super().__init__(f"range {_short(text)!r}, at sign {place + 1}: {reason}")


@dataclass(frozen=True, slots=True)
class Fault:
    """One thing wrong in a document: ``$.releases[3].version``, and what is wrong there."""

    path: str
    reason: str

    def __str__(self) -> str:
        return f"{self.path}: {self.reason}"


class CaseError(CoreError):
    """A case file is refused; ``faults`` holds every fault of the document."""

    code = "case-refused"
    document = "the case"

    def __init__(self, faults: list[Fault]) -> None:
        self.faults = faults
        count = "1 fault" if len(faults) == 1 else f"{len(faults)} faults"
        super().__init__(f"{self.document} has {count}: " + "; ".join(str(f) for f in faults))


class BookError(CaseError):
    """A night book is refused; ``faults`` holds every fault of the document."""

    code = "book-refused"
    document = "the night book"


def _short(text: str) -> str:
    return text if len(text) <= 80 else text[:77] + "…"
