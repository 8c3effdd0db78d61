"""What came of releases in runs."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.outcomes import Outcome
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class OutcomeRow(Row):
    id = peewee.IntegerField(primary_key=True)
    product = peewee.TextField(index=True)
    run = peewee.IntegerField(index=True)

    class Meta:
        table_name = "outcome"


class Outcomes(Documents[Outcome]):
    model, value = OutcomeRow, Outcome

    def marks(self, before: Outcome | None, after: Outcome | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("outcome", value.product),)
