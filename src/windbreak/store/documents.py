"""Values of one kind as rows: columns for what is asked, JSON for what is carried.

A repository is made from a peewee model. Its fields beside ``id`` and ``body`` are columns that are
filled from the value and asked by; the value itself is read from ``body`` alone. No model and no
row leaves this package.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, ClassVar, Generic, TypeVar, cast

import peewee
from pydantic import BaseModel

from windbreak.store.database import Database, Mark
from windbreak.store.errors import AlreadyThere, NotFound

T = TypeVar("T", bound=BaseModel)
Id = str | int


class Row(peewee.Model):
    """What every table of documents has. Models are bound to no database: two services of one
    process have each their own.
    """

    id: ClassVar[Any]
    body = peewee.TextField()

    class Meta:
        legacy_table_names = False


class Documents(Generic[T]):
    """The values of one table. A subclass names its model and its value, and what it marks."""

    model: ClassVar[type[Row]]
    value: type[T]
    outside: ClassVar[tuple[str, ...]] = ()  # columns that are no part of the value

    def __init__(self, database: Database) -> None:
        self.database = database
        self.table = str(self.model._meta.table_name)
        names = [field.name for field in self.model._meta.sorted_fields]
        self.columns = tuple(n for n in names if n not in ("id", "body", *self.outside))
        # The statements that are wanted most are made once; values go in by place.
        id = self.model.id
        self._places = [n for n in names if n not in self.outside]
        cells = dict.fromkeys(self._places, "")
        kept = [getattr(self.model, name) for name in (*self.columns, "body")]
        insert = self.model.insert(cells)
        upsert = self.model.insert(cells).on_conflict(conflict_target=[id], preserve=kept)
        self._statements: dict[object, str] = {}
        self._find_sql = str(self.model.select(self.model.body).where(id == "").sql()[0])
        self._insert_sql = str(insert.bind(database.peewee).sql()[0])
        self._upsert_sql = str(upsert.bind(database.peewee).sql()[0])

    def column(self, value: T, name: str) -> object:
        """What a column holds of a value: the field of its name, unless a subclass says else."""
        return getattr(value, name)

    def marks(self, before: T | None, after: T | None) -> Iterable[Mark]:
        """What a change of a value touches that views hang on. None: it was or is not there."""
        return ()

    # Reading.

    def get(self, id: Id) -> T:
        """The value of an id. Reads. Raises NotFound."""
        value = self.find(id)
        if value is None:
            raise NotFound(self.table, id)
        return value

    def find(self, id: Id) -> T | None:
        """The value of an id, or None. Reads."""
        rows = self.database.ask(self._find_sql, [id])
        return self._parsed(rows[0][0]) if rows else None

    def all(self, *, newest_first: bool = False, limit: int = -1, **equal: object) -> list[T]:
        """The values whose columns equal what is given, by id. Reads.

        A tuple, list or set asks for those whose column equals one of it.
        """
        sql, given = self._asked("body", equal, newest_first=newest_first, limited=limit >= 0)
        return self._read(sql, [*given, limit] if limit >= 0 else given)

    def page(
        self,
        *,
        after: Id | None = None,
        limit: int = 100,
        newest_first: bool = False,
        **equal: object,
    ) -> list[T]:
        """So many values after one, by id; with ``newest_first`` those before it. Reads."""
        sql, given = self._asked(
            "body", equal, newest_first=newest_first, limited=True, after=after is not None
        )
        return self._read(sql, [*given, *([] if after is None else [after]), limit])

    def count(self, **equal: object) -> int:
        """How many values have these columns. Reads."""
        sql, given = self._asked("count", equal)
        return int(self.database.ask(sql, given)[0][0])

    def _asked(
        self, what: str, equal: Mapping[str, object], **shape: bool
    ) -> tuple[str, list[object]]:
        """The statement of a question, made once for each shape, and what goes into it."""
        names: list[tuple[str, int]] = []
        given: list[object] = []
        for name, wanted in equal.items():
            if isinstance(wanted, (tuple, list, set, frozenset)):
                names.append((name, len(wanted)))
                given += sorted(wanted) if isinstance(wanted, (set, frozenset)) else wanted
            else:
                names.append((name, -1))
                given.append(wanted)
        key = (what, tuple(names), tuple(shape.items()))
        if key not in self._statements:
            self._statements[key] = self._statement(what, names, **shape)
        return self._statements[key], given

    def _statement(
        self,
        what: str,
        names: Sequence[tuple[str, int]],
        newest_first: bool = False,
        limited: bool = False,
        after: bool = False,
    ) -> str:
        model = self.model
        query = model.select(peewee.fn.count(model.id) if what == "count" else model.body)
        for name, count in names:
            field = getattr(model, name)
            query = query.where(field.in_([""] * count) if count >= 0 else field == "")
        if after:
            query = query.where(model.id < "" if newest_first else model.id > "")
        if what != "count":
            query = query.order_by(model.id.desc() if newest_first else model.id)
        return str((query.limit(1) if limited else query).sql()[0])

    def _read(self, sql: str, given: Sequence[object]) -> list[T]:
        return [self._parsed(row[0]) for row in self.database.ask(sql, given)]

    def _parsed(self, body: str) -> T:
        """The value of a body: parsed once where what is read is remembered."""
        memory = self.database.memory
        if memory is None:
            return self.value.model_validate_json(body)
        value = memory.get((self.table, body))
        if value is None:
            value = memory[self.table, body] = self.value.model_validate_json(body)
        return cast(T, value)

    # Writing.

    def add(self, value: T) -> T:
        """Keep a new value. Writes. Raises AlreadyThere when its id is taken.

        A value with a numbered id and 0 in its place gets the next number, one never used before.
        """
        with self.database.transaction():
            if self._id(value) == 0:
                number = self.database.next_number(self.table)
                value = value.model_copy(update={"id": number})
            try:
                self._carry_out(self._insert_sql, value, self._id(value))
            except peewee.IntegrityError as error:
                if "UNIQUE" in str(error):
                    raise AlreadyThere(self.table, self._id(value)) from None
                raise
            self.database.mark(self.marks(None, value))
        return value

    def add_all(self, values: Sequence[T]) -> None:
        """Keep new values with numbered ids; they get the next numbers, in their order. Writes."""
        if not values:
            return
        with self.database.transaction():
            first = self.database.next_number(self.table, len(values))
            added = [
                value.model_copy(update={"id": number})
                for number, value in enumerate(values, first)
            ]
            rows = [self._cells(value, self._id(value)) for value in added]
            self.database.tell_many(self._insert_sql, rows)
            for value in added:
                self.database.mark(self.marks(None, value))

    def put(self, value: T, id: Id | None = None) -> T:
        """Keep a value in the place of the one with its id, or as a new one. Writes."""
        key = id if id is not None else self._id(value)
        with self.database.transaction():
            before = self.find(key)
            self._carry_out(self._upsert_sql, value, key)
            self.database.mark(self.marks(before, value))
        return value

    def change(self, id: Id, **fields: object) -> T:
        """Set some fields of a value. Reads and writes in one transaction. Raises NotFound."""
        with self.database.transaction():
            return self.revise(self.get(id), **fields)

    def revise(self, before: T, **fields: object) -> T:
        """Set some fields of a value that was just read. Writes. Within ``transaction`` only."""
        value = before.model_copy(update=fields)
        self._carry_out(self._upsert_sql, value, self._id(before))
        self.database.mark(self.marks(before, value))
        return value

    def drop(self, id: Id) -> None:
        """Keep a value no longer; nothing happens when it is not there. Writes."""
        with self.database.transaction():
            before = self.find(id)
            self.database.tell(f'DELETE FROM "{self.table}" WHERE id = ?', [id])
            if before is not None:
                self.database.mark(self.marks(before, None))

    def _carry_out(self, sql: str, value: T, id: Id) -> None:
        self.database.peewee.execute_sql(sql, self._cells(value, id))

    def _cells(self, value: T, id: Id) -> tuple[object, ...]:
        """What stands in a row of a value, in the order of the statements' places."""
        cells = {name: self.column(value, name) for name in self.columns}
        cells |= {"id": id, "body": value.model_dump_json()}
        return tuple([cells[name] for name in self._places])

    def _id(self, value: T) -> Id:
        return cast(Id, getattr(value, "id"))  # noqa: B009


def ids(rows: Sequence[tuple[Any, ...]]) -> list[str]:
    """The first column of some rows, as text."""
    return [str(row[0]) for row in rows]
