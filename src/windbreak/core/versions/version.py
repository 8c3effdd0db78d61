"""Versions as the trade writes them: their order, ranges of them, and the jump between two.

Source of the rules: docs/reasoning.md, "Versions and ranges". This module compares and
matches text; it knows nothing of products or releases.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

from windbreak.core.errors import VersionError

Jump = Literal["major", "minor", "patch"]


_RUNS = re.compile(r"[0-9]+|[^\W\d_]+")


# Places after the release part, lowest first; a missing place counts as the number 0.
_NUMBER = 5


_RANKS = {"dev": 1, "alpha": 2, "a": 2, "beta": 3, "b": 3, "rc": 4, "pl": 6, "p": 6}


_OTHER_WORD = 0


_MOST_DIGITS = 40


@dataclass(frozen=True, slots=True, eq=False)
class Version:
    """One version: the text as it was written, and the key that orders it.

    ``release`` is the numbers before the first word without trailing zeros: ``(6, 3)`` for
    "6.3", "v6.3.0" and "6.3-rc1" alike; ``()`` for "0". Equality follows the order, not the
    text: ``parse_version("6.3") == parse_version("6.3.0")``.
    """

    text: str
    release: tuple[int, ...]
    prerelease: bool
    key: tuple[object, ...]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and self.key == other.key

    def __hash__(self) -> int:
        return hash(self.key)

    def __lt__(self, other: Version) -> bool:
        return self.key < other.key

    def __le__(self, other: Version) -> bool:
        return self.key <= other.key

    def __gt__(self, other: Version) -> bool:
        return self.key > other.key

    def __ge__(self, other: Version) -> bool:
        return self.key >= other.key

    def __str__(self) -> str:
        return self.text

    def place(self, index: int) -> int:
        """The number at a place of the release part, counted from 0; 0 where it is missing."""
        return self.release[index] if index < len(self.release) else 0


@lru_cache(maxsize=65536)
def parse_version(text: str) -> Version:
    """Read a version: "v4.6.93", "6.0-5", "1.0rc1-dev", "2.0+build7".

    Raises VersionError, which names the text, when there is no number in it.
    """
    bare = text.strip()
    if bare[:1] in ("v", "V"):
        bare = bare[1:]
    bare = bare.split("+", 1)[0]
    runs = _RUNS.findall(bare)
    if not any(run[0] in "0123456789" for run in runs):
        raise VersionError(text, "there is no number in it")
    if any(len(run) > _MOST_DIGITS for run in runs):
        raise VersionError(text, f"a number or word in it is longer than {_MOST_DIGITS} signs")
    release: list[int] = []
    tail: list[tuple[int, int]] = []
    for run in runs:
        if run[0] in "0123456789":
            if tail:
                tail.append((_NUMBER, int(run)))
            else:
                release.append(int(run))
        else:
            tail.append((_RANKS.get(run.lower(), _OTHER_WORD), 0))
    while release and release[-1] == 0:
        release.pop()
    prerelease = any(rank < _NUMBER for rank, _ in tail)
    return Version(text, tuple(release), prerelease, _key(release, tail))


def _key(release: list[int], tail: list[tuple[int, int]]) -> tuple[object, ...]:
    """The order's key: the release part, then the tail place by place.

    The release part has no trailing zeros, so plain tuple order pads it with 0. In the tail a
    missing place ranks as the number 0, which may be below or above what another version has
    there, so each run of zeros is written as one entry that says what follows it:
    ``(5, 0, -1, k)`` for k zeros before something lower, ``(5, 0, 1, -k)`` before something
    higher, and ``(5, 0, 0, 0)`` for "zeros for ever", which ends every tail. Lower-after-zeros
    sorts below the end and rises with k; higher-after-zeros sorts above it and falls with k.
    """
    zero = (_NUMBER, 0)
    places: list[tuple[int, int, int, int]] = []
    zeros = 0
    for entry in tail:
        if entry == zero:
            zeros += 1
            continue
        if zeros:
            places.append((*zero, -1, zeros) if entry < zero else (*zero, 1, -zeros))
            zeros = 0
        places.append((*entry, 0, 0))
    places.append((*zero, 0, 0))
    return (tuple(release), tuple(places))


def jump(start: Version, end: Version, major_place: int = 1) -> Jump:
    """How far a move goes: by the first place of the release parts that differs.

    With ``major_place`` 2 the second number counts as major too: 6.3 to 6.4 is major, 6.3.1 to
    6.3.2 minor, 6.3.1.1 to 6.3.1.2 patch. A difference in the words alone is "patch".
    """
    for place in range(max(len(start.release), len(end.release))):
        if start.place(place) != end.place(place):
            if place < major_place:
                return "major"
            return "minor" if place == major_place else "patch"
    return "patch"
