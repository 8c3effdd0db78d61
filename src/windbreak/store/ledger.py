"""The ledger, which stays, and the events, which live pages listen to and which have an end."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from functools import reduce
from operator import and_
from typing import Any

import peewee

from windbreak.core.values.ledger import OURSELVES, Event, LedgerAsked, LedgerEntry
from windbreak.core.values.runs import WENT_WRONG
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row

_WORDED = ("who", "what", "why", "result", "subject")  # what words are looked for in


class LedgerRow(Row):
    id = peewee.IntegerField(primary_key=True)
    subject = peewee.TextField(index=True)
    at = peewee.TextField(index=True)
    who = peewee.TextField(index=True)
    came = peewee.TextField(null=True)

    class Meta:
        table_name = "ledger"


class EventRow(Row):
    id = peewee.IntegerField(primary_key=True)

    class Meta:
        table_name = "event"


class Ledger(Documents[LedgerEntry]):
    model, value = LedgerRow, LedgerEntry

    def marks(self, before: LedgerEntry | None, after: LedgerEntry | None) -> Iterable[Mark]:
        return (("ledger", ""),)

    def column(self, value: LedgerEntry, name: str) -> object:
        return _instant(value.at) if name == "at" else super().column(value, name)

    def asked(
        self, asked: LedgerAsked, *, after: int | None = None, limit: int = 100
    ) -> list[LedgerEntry]:
        """So many lines of those that are wanted, newest first, before one. Reads."""
        query = LedgerRow.select(LedgerRow.body).where(_wanted(asked))
        if after is not None:
            query = query.where(LedgerRow.id < after)
        return self._read(*_statement(query.order_by(LedgerRow.id.desc()).limit(limit)))

    def how_many(self, asked: LedgerAsked) -> int:
        """How many lines are wanted. Reads."""
        query = LedgerRow.select(peewee.fn.count(LedgerRow.id)).where(_wanted(asked))
        return int(self.database.ask(*_statement(query))[0][0])

    def people(self) -> list[str]:
        """Everybody who ever decided or did something, by name. Reads."""
        rows = self.database.ask(
            "SELECT DISTINCT who FROM ledger WHERE who != ? ORDER BY who", [OURSELVES]
        )
        return [str(row[0]) for row in rows]


class Events(Documents[Event]):
    model, value = EventRow, Event

    def after(self, id: int, limit: int = 200) -> list[Event]:
        """The events after one, oldest first. Reads."""
        return self.page(after=id, limit=limit)

    def last(self) -> int:
        """The id of the newest event there ever was; 0 when there was none. Reads."""
        rows = self.database.ask("SELECT last FROM number WHERE name = 'event'")
        return int(rows[0][0]) if rows else 0

    def forget_before(self, instant: str) -> int:
        """Drop the events from before an instant; how many. Writes."""
        return self.database.tell(
            "DELETE FROM event WHERE json_extract(body, '$.at') < ?", [instant]
        )


def _instant(when: datetime) -> str:
    """An instant as the column holds it, so that the order of texts is that of time."""
    return when.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S")


def _wanted(asked: LedgerAsked) -> Any:
    """What is wanted, as a condition on rows."""
    row = LedgerRow
    terms: list[Any] = [row.id > 0]
    if asked.subjects is not None:
        terms.append(row.subject.in_(asked.subjects))
    if asked.who is not None:
        terms.append(row.who == asked.who)
    if asked.part is not None:
        terms.append(row.who == OURSELVES if asked.part == "acts" else row.who != OURSELVES)
    if asked.since is not None:
        terms.append(row.at >= _instant(asked.since))
    if asked.until is not None:
        terms.append(row.at < _instant(asked.until))
    if asked.wrong:
        terms.append(row.came.in_(WENT_WRONG))
    if asked.words:
        parts = [peewee.fn.json_extract(row.body, f"$.{name}") for name in _WORDED]
        line = peewee.fn.lower(peewee.fn.printf("%s " * len(parts), *parts))
        for word, named in asked.words:
            terms.append((peewee.fn.instr(line, word) > 0) | row.subject.in_(named))
    return reduce(and_, terms)


def _statement(query: Any) -> tuple[str, list[object]]:
    sql, given = query.sql()
    return str(sql), list(given)
