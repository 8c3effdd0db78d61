"""Licences and their seats."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.licences import Licence, Seat
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class LicenceRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "licence"


class SeatRow(Row):
    id = peewee.TextField(primary_key=True)
    licence = peewee.TextField(index=True)
    site = peewee.TextField(index=True)

    class Meta:
        table_name = "seat"


class Licences(Documents[Licence]):
    model, value = LicenceRow, Licence

    def marks(self, before: Licence | None, after: Licence | None) -> Iterable[Mark]:
        for value in (before, after):
            if value is not None:
                yield "licence", value.id
                # Whatever a maker has may be covered.
                for product in ("*",) if value.maker else value.products:
                    yield "entitlement", product


class Seats(Documents[Seat]):
    model, value = SeatRow, Seat

    def marks(self, before: Seat | None, after: Seat | None) -> Iterable[Mark]:
        value = after or before
        if value is not None:
            yield "seat", value.site
            yield "licence", value.licence
