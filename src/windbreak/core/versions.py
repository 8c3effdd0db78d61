"""Versions as the trade writes them: their order, ranges of them, and the jump between two.

Source of the rules: docs/reasoning.md, "Versions and ranges". This module compares and
matches text; it knows nothing of products or releases.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

from windbreak.core.errors import RangeError, VersionError

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


@dataclass(frozen=True, slots=True)
class _Clause:
    operator: str  # one of >= > <= < == != and "prefix" for 6.*, "any" for *
    version: Version | None
    prefix: tuple[int, ...] = ()

    def admits(self, version: Version) -> bool:
        if self.version is None:
            return self.operator == "any" or all(
                version.place(index) == number for index, number in enumerate(self.prefix)
            )
        bound = self.version
        match self.operator:
            case ">=":
                return version >= bound
            case ">":
                return version > bound
            case "<=":
                return version <= bound
            case "<":
                # 7.0-beta1 is not in <7: who writes <7 means "before anything of 7".
                own = version.prerelease and not bound.prerelease
                return version < bound and not (own and version.release == bound.release)
            case "!=":
                return version != bound
            case _:
                return version == bound


@dataclass(frozen=True, slots=True)
class Range:
    """Alternatives of clauses: ">=5.0,<6 || 6.3.*". ``version in range`` tells membership."""

    text: str
    alternatives: tuple[tuple[_Clause, ...], ...]

    def __contains__(self, version: Version) -> bool:
        return any(all(c.admits(version) for c in clauses) for clauses in self.alternatives)

    def __str__(self) -> str:
        return self.text


class Ladder:
    """Versions lowest first, in which ranges are found by halves; ``mask`` has bit k for rung k."""

    def __init__(self, versions: Sequence[Version]) -> None:
        self.versions = tuple(versions)
        self._keys = [v.key for v in self.versions]
        self._every = (1 << len(self.versions)) - 1
        self._prerelease = sum(1 << k for k, v in enumerate(self.versions) if v.prerelease)

    def find(self, version: Version) -> int | None:
        """The rung of a version, None where it is not there."""
        k = bisect_left(self._keys, version.key)
        return k if k < len(self._keys) and self._keys[k] == version.key else None

    def above(self, version: Version) -> int:
        """The rungs above a version, as bits."""
        return self._every & -(1 << bisect_right(self._keys, version.key))

    def mask(self, wanted: Range) -> int:
        """The rungs in a range, as bits: exactly those for which ``version in wanted``."""
        found = 0
        for clauses in wanted.alternatives:
            inside = self._every
            for clause in clauses:
                inside &= self._admitted(clause)
            found |= inside
        return found

    def _admitted(self, clause: _Clause) -> int:
        bound = clause.version
        if bound is None:
            return sum(1 << k for k, v in enumerate(self.versions) if clause.admits(v))
        above = self.above(bound)
        from_ = self._every & -(1 << bisect_left(self._keys, bound.key))
        match clause.operator:
            case ">=":
                return from_
            case ">":
                return above
            case "<=":
                return self._every & ~above
            case "<":
                below = self._every & ~from_
                if not bound.prerelease:
                    # Only the last rungs below the bound can be pre-releases of it.
                    for k in reversed(range(below.bit_length())):
                        if self.versions[k].release != bound.release:
                            break
                        below &= ~(self._prerelease & 1 << k)
                return below
            case "!=":
                return self._every & ~(from_ & ~above)
            case _:
                return from_ & ~above


_CLAUSE = re.compile(r"\s*(?P<operator>>=|<=|==|!=|>|<|=)?\s*(?P<version>.*?)\s*\Z", re.DOTALL)
_PREFIX = re.compile(r"[vV]?([0-9]+(?:\.[0-9]+)*)\.\*\Z")
_NOT_IN_VERSION = re.compile(r"[\s<>=!~^|*&]")


@lru_cache(maxsize=65536)
def parse_range(text: str) -> Range:
    """Read a range; "*" admits every version.

    Raises RangeError, which quotes the range and points at the place, for an empty clause, an
    unknown operator, an operator before ``.*``, or a missing or unreadable version.
    """
    alternatives = []
    place = 0
    for alternative in text.split("||"):
        clauses = []
        for clause in alternative.split(","):
            clauses.append(_clause(text, place, clause))
            place += len(clause) + 1
        place += 1  # the second sign of ||
        alternatives.append(tuple(clauses))
    return Range(text, tuple(alternatives))


def _clause(text: str, place: int, clause: str) -> _Clause:
    found = _CLAUSE.match(clause)
    assert found is not None  # every part of the pattern may be empty
    operator, written = found["operator"], found["version"]
    at = place + found.start("version")
    if not written:
        if operator:
            raise RangeError(text, at, f"there is no version after {operator}")
        raise RangeError(text, place, "a clause is empty")
    if written == "*" or written.endswith(".*"):
        if operator:
            raise RangeError(text, at, f"{operator} can't stand before {written}")
        if written == "*":
            return _Clause("any", None)
        prefix = _PREFIX.match(written)
        if prefix is None:
            raise RangeError(text, at, f"only numbers may stand before .*, not {written!r}")
        return _Clause("prefix", None, tuple(int(n) for n in prefix[1].split(".")))
    odd = _NOT_IN_VERSION.search(written)
    if odd is not None or not written[0].isalnum():
        where = odd.start() if odd is not None else 0
        raise RangeError(
            text, at + where, "expected one of >= > <= < == = != and a version, or 6.*, or *"
        )
    try:
        version = parse_version(written)
    except VersionError as error:
        raise RangeError(text, at, f"{written!r} is not a version: {error.reason}") from error
    return _Clause({None: "==", "=": "=="}.get(operator, operator or "=="), version)
