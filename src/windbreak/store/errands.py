"""Errands: work for a person."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.errands import Errand
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class ErrandRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField()
    open = peewee.BooleanField()

    class Meta:
        table_name = "errand"


class Errands(Documents[Errand]):
    model, value = ErrandRow, Errand

    def column(self, value: Errand, name: str) -> object:
        return value.closed_at is None if name == "open" else super().column(value, name)

    def marks(self, before: Errand | None, after: Errand | None) -> Iterable[Mark]:
        errand = after or before
        return () if errand is None else (("run", errand.site),)
