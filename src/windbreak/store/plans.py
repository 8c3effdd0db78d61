"""Plans, bookings, rollouts."""

from __future__ import annotations

import json
from collections.abc import Iterable

import peewee

from windbreak.core.values.bookings import Booking, Rollout
from windbreak.core.values.freezes import SiteFreeze
from windbreak.core.values.plans import SitePlan
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class PlanRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField(index=True)
    state = peewee.TextField(index=True)

    class Meta:
        table_name = "plan"


class BookingRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField()
    state = peewee.TextField(index=True)
    plan = peewee.IntegerField()
    rollout = peewee.IntegerField(null=True, index=True)

    class Meta:
        table_name = "booking"


class RolloutRow(Row):
    id = peewee.IntegerField(primary_key=True)
    state = peewee.TextField(index=True)
    site = peewee.TextField()

    class Meta:
        table_name = "rollout"


class Plans(Documents[SitePlan]):
    model, value = PlanRow, SitePlan

    def marks(self, before: SitePlan | None, after: SitePlan | None) -> Iterable[Mark]:
        one = after or before
        if one is not None:
            yield "plan", one.site
            if "approved" in (before.state if before else "", after.state if after else ""):
                for product in one.targets:
                    yield "approval", product

    def approved(self, site: str | None = None) -> dict[str, dict[str, str]]:
        """What is approved, for one site or each: its products with their targets. Reads."""
        where, given = ("AND site = ?", [site]) if site else ("", [])
        rows = self.database.ask(
            "SELECT site, json_extract(body, '$.targets') FROM plan "
            f"WHERE state = 'approved' {where} ORDER BY id",
            given,
        )
        return {str(site): dict(json.loads(targets)) for site, targets in rows}


class FreezeRow(Row):
    id = peewee.IntegerField(primary_key=True)

    class Meta:
        table_name = "freeze"


class Freezes(Documents[SiteFreeze]):
    model, value = FreezeRow, SiteFreeze


class Bookings(Documents[Booking]):
    model, value = BookingRow, Booking

    def marks(self, before: Booking | None, after: Booking | None) -> Iterable[Mark]:
        one = after or before
        return () if one is None else (("booking", one.site),)


class Rollouts(Documents[Rollout]):
    model, value = RolloutRow, Rollout

    def marks(self, before: Rollout | None, after: Rollout | None) -> Iterable[Mark]:
        one = after or before
        return () if one is None else (("rollout", one.site),)
