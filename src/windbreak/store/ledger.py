"""The ledger, which stays, and the events, which live pages listen to and which have an end."""

from __future__ import annotations

import peewee

from windbreak.core.values.ledger import Event, LedgerEntry
from windbreak.store.documents import Documents, Row


class LedgerRow(Row):
    id = peewee.IntegerField(primary_key=True)
    subject = peewee.TextField(index=True)

    class Meta:
        table_name = "ledger"


class EventRow(Row):
    id = peewee.IntegerField(primary_key=True)

    class Meta:
        table_name = "event"


class Ledger(Documents[LedgerEntry]):
    model, value = LedgerRow, LedgerEntry


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
