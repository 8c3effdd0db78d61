"""The database of one service: a SQLite file, opened, migrated, asked, and its changes numbered.

A transaction that changes what views hang on *marks* it: "site tarnsey-harbour", "product
plugin/lee". When it commits it gets the next *generation*, and its marks are written with that
number in the same transaction (tables ``change`` and ``newest_change``). So a number that can be
read stands for a change that can be read, whichever process made it.
"""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, cast

import peewee

from windbreak.store.migrations import migrate

Mark = tuple[str, str]  # kind, subject
_MOMENT, _TICK = 0.01, 0.0005  # seconds for which work behind requests stands back, and looks again
CHANGES_KEPT = 1000  # generations whose changes stay listed at least


class Database:
    """A SQLite file in WAL mode. Each thread has a connection of its own.

    Writes of one process are taken one at a time by a lock, so that they wait in order instead
    of running into the file's own lock.
    """

    def __init__(self, path: Path) -> None:
        self.peewee = peewee.SqliteDatabase(
            str(path),
            pragmas={"journal_mode": "wal", "foreign_keys": 1, "synchronous": "normal"},
            timeout=20,
        )
        self._writing = threading.RLock()
        self._local = threading.local()
        self.in_front = 0  # requests that are under way
        self.awaited = 0  # requests that wait for what is done behind them
        self._counting = threading.Lock()
        self._marks: dict[Mark, None] = {}  # of the transaction under way, which holds the lock
        with self._writing:
            self.migrated = migrate(self.peewee)

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """All writes inside happen, or none. May be nested."""
        with self._writing:
            if self.peewee.in_transaction():
                yield
                return
            self._marks = {}
            self._local.writes = True
            try:
                with self.peewee.atomic("IMMEDIATE"):
                    yield
                    if self._marks:
                        self._number_changes()
            finally:
                self._local.writes = False

    @contextlib.contextmanager
    def snapshot(self) -> Iterator[None]:
        """All that is read inside is of one instant. Reads."""
        if self.peewee.in_transaction():
            yield
            return
        with self.peewee.atomic("DEFERRED"):
            yield

    @contextlib.contextmanager
    def remembered(self) -> Iterator[None]:
        """The same, and each value is read and parsed once, however often it is asked for. Reads;
        nothing is written inside.
        """
        if self.memory is not None:
            yield
            return
        with self.snapshot():
            self._local.memory = {}
            try:
                yield
            finally:
                self._local.memory = None

    @property
    def memory(self) -> dict[object, object] | None:
        """What this thread has read inside ``remembered``, by question; None outside of it."""
        return getattr(self._local, "memory", None)

    def behind(self) -> None:
        """Let what this thread does from now on stand back behind requests: before each question it
        waits until none is under way, for a moment at the most.
        """
        self._local.behind = True

    def _stand_back(self) -> None:
        if getattr(self._local, "writes", False):
            return  # others wait for what it holds
        until = time.monotonic() + _MOMENT
        while self.in_front and not self.awaited and time.monotonic() < until:
            time.sleep(_TICK)

    @contextlib.contextmanager
    def waiting(self) -> Iterator[None]:
        """While somebody waits for what is done behind requests: it stands back no more."""
        with self._counting:
            self.awaited += 1
        try:
            yield
        finally:
            with self._counting:
                self.awaited -= 1

    def mark(self, marks: Iterable[Mark]) -> None:
        """Note what the transaction under way changes. Within ``transaction`` only."""
        self._marks.update(dict.fromkeys(marks))

    def _number_changes(self) -> None:
        generation = self.coming_generation()
        marks, self._marks = list(self._marks), {}
        kinds = {"": None, **dict.fromkeys(kind for kind, _ in marks)}
        self.peewee.execute_sql(
            f"INSERT INTO newest_change VALUES {', '.join(['(?, ?)'] * len(kinds))} "
            "ON CONFLICT(kind) DO UPDATE SET generation = excluded.generation",
            tuple([cell for kind in kinds for cell in (kind, generation)]),
        )
        self.peewee.connection().executemany(
            "INSERT INTO change VALUES (?, ?, ?)",
            [(generation, kind, subject) for kind, subject in marks],
        )

    def generation(self, *kinds: str) -> int:
        """The newest committed generation, of changes of some kinds or of any. Reads."""
        wanted = kinds or ("",)
        marks = ", ".join("?" * len(wanted))
        rows = self.ask(
            f"SELECT coalesce(max(generation), 0) FROM newest_change WHERE kind IN ({marks})",
            wanted,
        )
        return int(rows[0][0])

    def newest(self) -> dict[str, int]:
        """The newest committed generation of each kind of change. Reads."""
        return dict(self.ask("SELECT kind, generation FROM newest_change"))

    def coming_generation(self) -> int:
        """The generation of which the transaction under way will be, if it ends now. Within
        ``transaction`` only.
        """
        return self.generation() + bool(self._marks)

    def changes_after(self, generation: int, kind: str | None = None) -> list[tuple[int, Mark]]:
        """What changed after a generation, oldest first. Reads."""
        where, given = ("AND kind = ?", [kind]) if kind is not None else ("", [])
        rows = self.ask(
            f"SELECT generation, kind, subject FROM change WHERE generation > ? {where} "
            "ORDER BY generation, rowid",
            [generation, *given],
        )
        return [(int(number), (str(k), str(subject))) for number, k, subject in rows]

    def unchanged_since(self, generation: int, kind: str, subjects: Iterable[str]) -> bool:
        """Whether none of some subjects changed after a generation, nor changes in the transaction
        under way, and that can be told: the changes of long ago are no longer listed. Within
        ``transaction`` only.
        """
        some = sorted(subjects)
        if any((kind, subject) in self._marks for subject in some):
            return False
        marks = ", ".join("?" * len(some))
        changed = self.ask(
            "SELECT 1 FROM newest_change WHERE (kind = '' AND generation > ?) "
            "OR (kind = 'everything' AND generation > ?) UNION ALL "
            f"SELECT 1 FROM change WHERE kind = ? AND subject IN ({marks}) AND generation > ? "
            "LIMIT 1",
            [generation + CHANGES_KEPT, generation, kind, *some, generation],
        )
        return not changed

    def next_number(self, table: str, count: int = 1) -> int:
        """A number for a new row, or the first of so many, which no row of the table ever had.
        Writes.
        """
        rows = self.ask(
            "INSERT INTO number VALUES (?, ?) "
            "ON CONFLICT(name) DO UPDATE SET last = last + excluded.last RETURNING last",
            [table, count],
        )
        return int(rows[0][0]) - count + 1

    def ask(self, sql: str, parameters: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        """The rows of a query. Reads."""
        if self.in_front and not self.awaited and getattr(self._local, "behind", False):
            self._stand_back()
        memory, given = self.memory, tuple(parameters)
        if memory is not None and (sql, given) in memory:
            return list(cast("list[tuple[Any, ...]]", memory[sql, given]))
        cursor = self.peewee.execute_sql(sql, given)
        rows = cast("list[tuple[Any, ...]]", cursor.fetchall())
        if memory is not None:
            memory[sql, given] = tuple(rows)
        return rows

    def tell(self, sql: str, parameters: Sequence[object] = ()) -> int:
        """Carry out a statement; how many rows it touched. Writes.

        Raises peewee.IntegrityError where a rule of the tables forbids it.
        """
        with self.transaction():
            return int(self.peewee.execute_sql(sql, tuple(parameters)).rowcount)

    def tell_many(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """Carry out a statement for each row of parameters. Writes."""
        with self.transaction():
            self.peewee.connection().executemany(sql, rows)

    def close(self) -> None:
        """Close this thread's connection."""
        self.peewee.close()
