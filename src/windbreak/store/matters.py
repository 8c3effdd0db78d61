"""What is owed to sites, and matters that wait for a person."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.matters import Debt, Matter
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class DebtRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField()
    run = peewee.IntegerField()
    paid = peewee.BooleanField()

    class Meta:
        table_name = "debt"


class MatterRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField()
    open = peewee.BooleanField()

    class Meta:
        table_name = "matter"


class Debts(Documents[Debt]):
    model, value = DebtRow, Debt

    def column(self, value: Debt, name: str) -> object:
        return value.paid_at is not None if name == "paid" else super().column(value, name)

    def marks(self, before: Debt | None, after: Debt | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("run", value.site),)

    def sites_owed(self) -> set[str]:
        """The sites to which something is owed. Reads."""
        rows = self.database.ask("SELECT DISTINCT site FROM debt WHERE paid = 0")
        return {str(row[0]) for row in rows}


class Matters(Documents[Matter]):
    model, value = MatterRow, Matter

    def column(self, value: Matter, name: str) -> object:
        return value.closed_at is None if name == "open" else super().column(value, name)

    def marks(self, before: Matter | None, after: Matter | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("run", value.site),)
