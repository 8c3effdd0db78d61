"""Ranges in the ``vers:`` notation of package URLs, read and written at the edges.

Source: the notation is one row of versions in their order, each with a comparator, that mark
where a range begins and ends: ``vers:generic/>=5.0|<6|6.3``. What it can't say (pre-releases shut
out of ``<6``) is lost on the way out; nothing is guessed on the way in.
"""

from __future__ import annotations

from itertools import pairwise

from windbreak.core.errors import RangeError, VersionError
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version, parse_version

SCHEME = "generic"


_EXPECTED = "expected one of >= > <= < = != and a version"


def to_vers(text: str, scheme: str = SCHEME) -> str:
    """A range as ``vers:``: ">=5.0,<6 || =6.3" is "vers:generic/>=5.0|<6|6.3".

    Raises RangeError for a range whose alternatives overlap, which the notation has no way to say.
    """
    parse_range(text)
    parts: list[tuple[Version, int, str]] = []
    ends: list[tuple[Version, Version]] = []
    for alternative in text.split("||"):
        clauses = [clause.strip() for clause in alternative.split(",")]
        if "*" in clauses:
            return f"vers:{scheme}/*"
        bounds = []
        for clause in clauses:
            if clause.endswith(".*"):
                bounds += _prefix(clause)
            else:
                operator = clause.rstrip(clause.lstrip("<>=!"))
                bounds.append(({"==": "=", "": "="}.get(operator, operator), clause.lstrip("<>=!")))
        marks = [(parse_version(v.strip()), op) for op, v in bounds]
        for version, op in marks:
            parts.append((version, 0 if op.startswith(">") else 1, op))
        lows = [v for v, op in marks if op in (">", ">=", "=")]
        highs = [v for v, op in marks if op in ("<", "<=", "=")]
        if lows and highs:
            ends.append((max(lows), min(highs)))
    ends.sort(key=lambda e: e[0].key)
    if any(a[1] > b[0] for a, b in pairwise(ends)):
        raise RangeError(text, 0, "its alternatives overlap, which vers: can't say")
    parts.sort(key=lambda f: (f[0].key, f[1]))
    marks_text = [f"{'' if op == '=' else op}{version}" for version, _, op in parts]
    return f"vers:{scheme}/{'|'.join(dict.fromkeys(marks_text))}"


def _prefix(clause: str) -> list[tuple[str, str]]:
    """Where "6.3.*" begins and ends: ">=6.3", "<6.4"."""
    numbers = [int(n) for n in clause.lstrip("vV")[:-2].split(".")]
    after = [*numbers[:-1], numbers[-1] + 1]
    return [(">=", ".".join(map(str, numbers))), ("<", ".".join(map(str, after)))]


def from_vers(text: str) -> str:
    """A ``vers:`` range as ours: "vers:generic/>=5.0|<6|6.3" is ">=5.0,<6 || =6.3".

    Raises RangeError that quotes the text, where it is not in the notation.
    """
    head, slash, row = text.strip().partition("/")
    if not slash or not head.startswith("vers:") or len(head) < 6:
        raise RangeError(text, 0, "a vers: range begins as vers:generic/")
    marks = [mark.strip() for mark in row.split("|")]
    if marks == ["*"]:
        return "*"
    place = len(head) + 1
    alternatives: list[list[str]] = []
    excluded: list[str] = []
    begun: str | None = None
    last: Version | None = None
    for mark in marks:
        version_text = mark.lstrip("<>=!")
        operator = mark[: len(mark) - len(version_text)]
        if operator not in ("", "=", "!=", "<", "<=", ">", ">="):
            raise RangeError(text, place, _EXPECTED)
        try:
            version = parse_version(version_text if version_text[:1].isalnum() else "")
        except VersionError:
            raise RangeError(text, place, _EXPECTED) from None
        if last is not None and version < last:
            raise RangeError(text, place, "its versions must rise")
        last = version
        place += len(mark) + 1
        if operator == "!=":
            excluded.append(f"!={version_text}")
        elif operator in ("", "="):
            alternatives.append([f"={version_text}"])
        elif operator.startswith(">"):
            if begun is not None:
                raise RangeError(text, place, f"{begun} begins a stretch that does not end")
            begun = mark
        else:
            alternatives.append([begun, mark] if begun else [mark])
            begun = None
    if begun is not None:
        alternatives.append([begun])
    if not alternatives:
        alternatives.append([])
    joined = [",".join([*clauses, *excluded]) for clauses in alternatives]
    return " || ".join(joined)
