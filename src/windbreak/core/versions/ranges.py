"""Ranges of versions, and versions in a row in which ranges are found by halves.

Source of the rules: docs/reasoning.md, "Versions and ranges". A range is alternatives of clauses
that must all hold; what is no range is refused with the place.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from windbreak.core.errors import RangeError, VersionError
from windbreak.core.versions.version import Version, parse_version


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
        matching = 0
        for clauses in wanted.alternatives:
            inside = self._every
            for clause in clauses:
                inside &= self._admitted(clause)
            matching |= inside
        return matching

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
    parts = _CLAUSE.match(clause)
    assert parts is not None  # every part of the pattern may be empty
    operator, written = parts["operator"], parts["version"]
    at = place + parts.start("version")
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
