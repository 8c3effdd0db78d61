"""Web hooks, and what is on its way to them."""

from __future__ import annotations

import peewee

from windbreak.core.values.hooks import Delivery, Hook
from windbreak.store.documents import Documents, Row


class HookRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "hook"


class DeliveryRow(Row):
    id = peewee.IntegerField(primary_key=True)
    hook = peewee.TextField(index=True)
    state = peewee.TextField(index=True)

    class Meta:
        table_name = "delivery"


class Hooks(Documents[Hook]):
    model, value = HookRow, Hook


class Deliveries(Documents[Delivery]):
    model, value = DeliveryRow, Delivery

    def forget_before(self, instant: str) -> int:
        """Drop the deliveries that ended and were made before an instant; how many. Writes."""
        return self.database.tell(
            "DELETE FROM delivery WHERE state != 'waiting' AND json_extract(body, '$.made_at') < ?",
            [instant],
        )
