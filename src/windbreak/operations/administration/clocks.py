"""A clock that can be put ahead, for demos and trials: time comes in as a file.

The file holds by how many seconds the clock is ahead; while it is not there, it goes right.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

_NOTE = "clock-file"


def shifted(file: Path) -> Callable[[], datetime]:
    """The time by a clock that a file puts ahead; the file is read again when it was written."""
    seen: tuple[int, timedelta] = (-1, timedelta())

    def now() -> datetime:
        nonlocal seen
        try:
            written = file.stat().st_mtime_ns
            if written != seen[0]:
                seen = (written, timedelta(seconds=float(file.read_text())))
        except (OSError, ValueError):
            pass  # it is just being written, or not there
        return datetime.now(UTC) + seen[1]

    return now


def tell(data: Path, file: str) -> None:
    """Write into a data directory by which clock its service goes, for whoever works beside it."""
    note = data / _NOTE
    if file:
        note.write_text(file)
    else:
        note.unlink(missing_ok=True)


def of(data: Path) -> Callable[[], datetime]:
    """The clock by which the service of a data directory goes."""
    note = data / _NOTE
    return shifted(Path(note.read_text())) if note.exists() else lambda: datetime.now(UTC)


def put_ahead(file: Path, by: timedelta) -> None:
    """Put the clock ahead by so much, or back, in one go."""
    new = file.with_suffix(".new")
    new.write_text(str(by.total_seconds()))
    new.replace(file)
