"""The database of one service: a SQLite file, opened, migrated, and asked.

``Documents`` is the one place where values become rows and rows become values. Every aggregate
is an instance of it; no row leaves this package.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Generic, TypeVar, cast

import peewee
from pydantic import BaseModel

from windbreak.store.errors import AlreadyThere, NotFound
from windbreak.store.migrations import migrate

T = TypeVar("T", bound=BaseModel)
Id = str | int


class Database:
    """A SQLite file in WAL mode. Each thread has a connection of its own.

    Writes of one process are taken one at a time by a lock, so that they wait in order instead
    of running into the file's own lock.
    """

    def __init__(self, path: Path) -> None:
        self._peewee = peewee.SqliteDatabase(
            str(path),
            pragmas={"journal_mode": "wal", "foreign_keys": 1, "synchronous": "normal"},
            timeout=20,
        )
        self._writing = threading.RLock()
        with self._writing:
            self.migrated = migrate(self._peewee)

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """All writes inside happen, or none. May be nested."""
        with self._writing:
            if self._peewee.in_transaction():
                yield
                return
            with self._peewee.atomic("IMMEDIATE"):
                yield

    def ask(self, sql: str, parameters: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        """The rows of a query. Reads."""
        cursor = self._peewee.execute_sql(sql, tuple(parameters))
        return cast("list[tuple[Any, ...]]", cursor.fetchall())

    def tell(self, sql: str, parameters: Sequence[object] = ()) -> int:
        """Carry out a statement; the id of the row it inserted. Writes.

        Raises peewee.IntegrityError where a rule of the tables forbids it.
        """
        with self.transaction():
            return int(self._peewee.execute_sql(sql, tuple(parameters)).lastrowid or 0)

    def close(self) -> None:
        """Close this thread's connection."""
        self._peewee.close()


class Documents(Generic[T]):
    """Values of one kind: each a row with its id, the columns asked for, and its JSON.

    ``columns`` are names of fields that have a column of their own; they are written from the
    value and never read back, so that the JSON alone is the value.
    """

    def __init__(
        self, database: Database, table: str, model: type[T], columns: Sequence[str] = ()
    ) -> None:
        self.database = database
        self.table = table
        self.model = model
        self.columns = tuple(columns)
        self.changes = 0  # counts writes of this process, so that what was made of it can be kept

    def get(self, id: Id) -> T:
        """The value of an id. Reads. Raises NotFound."""
        found = self.find(id)
        if found is None:
            raise NotFound(self.table, id)
        return found

    def find(self, id: Id) -> T | None:
        """The value of an id, or None. Reads."""
        rows = self.database.ask(f"SELECT body FROM {self.table} WHERE id = ?", [id])
        return self.model.model_validate_json(rows[0][0]) if rows else None

    def all(self, *, newest_first: bool = False, limit: int = -1, **equal: object) -> list[T]:
        """The values whose columns equal what is given, by id. Reads."""
        where = " AND ".join(f"{name} = ?" for name in equal)
        sql = f"SELECT body FROM {self.table}"
        sql += f" WHERE {where}" if where else ""
        sql += f" ORDER BY id {'DESC' if newest_first else 'ASC'} LIMIT ?"
        rows = self.database.ask(sql, [*equal.values(), limit])
        return [self.model.model_validate_json(row[0]) for row in rows]

    def add(self, value: T, extra: Mapping[str, object] | None = None) -> T:
        """Keep a new value. Writes. Raises AlreadyThere when its id is taken.

        A value with a numbered id and 0 in its place gets the next number.
        """
        cells = self._cells(value, extra)
        id = cast(Id, getattr(value, "id"))  # noqa: B009
        if id == 0:
            with self.database.transaction():
                rows = self.database.ask(f"SELECT coalesce(max(id), 0) + 1 FROM {self.table}")
                numbered = value.model_copy(update={"id": rows[0][0]})
                return self.add(numbered, extra)
        self.changes += 1
        names = ", ".join(["id", *cells])
        marks = ", ".join("?" * (len(cells) + 1))
        try:
            self.database.tell(
                f"INSERT INTO {self.table} ({names}) VALUES ({marks})", [id, *cells.values()]
            )
        except peewee.IntegrityError as error:
            if "UNIQUE" in str(error):
                raise AlreadyThere(self.table, id) from None
            raise
        return value

    def put(self, value: T, id: Id | None = None, extra: Mapping[str, object] | None = None) -> T:
        """Keep a value in the place of the one with its id, or as a new one. Writes."""
        cells = self._cells(value, extra)
        key = id if id is not None else cast(Id, getattr(value, "id"))  # noqa: B009
        self.changes += 1
        names = ", ".join(["id", *cells])
        marks = ", ".join("?" * (len(cells) + 1))
        changes = ", ".join(f"{name} = excluded.{name}" for name in cells)
        self.database.tell(
            f"INSERT INTO {self.table} ({names}) VALUES ({marks}) "
            f"ON CONFLICT(id) DO UPDATE SET {changes}",
            [key, *cells.values()],
        )
        return value

    def change(self, id: Id, **fields: object) -> T:
        """Set some fields of a value. Reads and writes in one transaction. Raises NotFound."""
        with self.database.transaction():
            return self.put(self.get(id).model_copy(update=fields), id)

    def drop(self, id: Id) -> None:
        """Keep a value no longer; nothing happens when it is not there. Writes."""
        self.changes += 1
        self.database.tell(f"DELETE FROM {self.table} WHERE id = ?", [id])

    def _cells(self, value: T, extra: Mapping[str, object] | None) -> dict[str, object]:
        cells: dict[str, object] = {name: getattr(value, name) for name in self.columns}
        cells.update(extra or {})
        cells["body"] = value.model_dump_json()
        return cells
