"""Plans, bookings, rollouts, and what a timetable goes by: freezes, watching, lengths of runs."""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import NamedTuple

import peewee

from windbreak.core.values.bookings import Booking
from windbreak.core.values.estimates import Took
from windbreak.core.values.freezes import FreezeCalendar, SiteFreeze
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.rollouts import FailedMove, Rollout
from windbreak.core.values.watching import WatchHours
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
    plan = peewee.IntegerField(index=True)
    rollout = peewee.IntegerField(null=True, index=True)

    class Meta:
        table_name = "booking"


class RolloutRow(Row):
    id = peewee.IntegerField(primary_key=True)
    state = peewee.TextField(index=True)

    class Meta:
        table_name = "rollout"


class PlanStanding(NamedTuple):
    """Of a plan: its site and state, what each product is to reach, and what it starts from."""

    site: str
    state: str
    targets: dict[str, str]
    start: dict[str, str]


class Plans(Documents[SitePlan]):
    model, value = PlanRow, SitePlan

    def marks(self, before: SitePlan | None, after: SitePlan | None) -> Iterable[Mark]:
        value = after or before
        if value is not None:
            yield "plan", value.site
            if "approved" in (before.state if before else "", after.state if after else ""):
                for product in value.targets:
                    yield "approval", product

    def to_book(self) -> list[int]:
        """The approved plans that are to be booked and are not, by number. Reads."""
        rows = self.database.ask(
            "SELECT id FROM plan WHERE state = 'approved' AND json_extract(body, '$.to_book') "
            "AND id NOT IN (SELECT plan FROM booking WHERE state = 'waiting') "
            "AND id NOT IN (SELECT plan FROM run WHERE state IN ('running', 'waiting')) "
            "ORDER BY id"
        )
        return [int(row[0]) for row in rows]

    def by_rules(self) -> list[SitePlan]:
        """The approved plans that rules of the house let go. Reads."""
        rows = self.database.ask(
            "SELECT body FROM plan WHERE state = 'approved' "
            "AND json_array_length(body, '$.approval.rules') > 0 ORDER BY id"
        )
        return [SitePlan.model_validate_json(row[0]) for row in rows]

    def standing(self, ids: Iterable[int]) -> dict[int, PlanStanding]:
        """The few things of some plans that a timetable goes by. Reads."""
        wanted = list(ids)
        rows = self.database.ask(
            "SELECT id, site, state, json_extract(body, '$.targets'), "
            "json_extract(body, '$.start') FROM plan "
            f"WHERE id IN ({', '.join('?' * len(wanted))})",
            wanted,
        )
        return {
            int(id): PlanStanding(str(site), str(state), json.loads(targets), json.loads(start))
            for id, site, state, targets, start in rows
        }

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


class FreezeCalendarRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "freeze_calendar"


class WatchRow(Row):
    id = peewee.IntegerField(primary_key=True)

    class Meta:
        table_name = "watch"


class FailedMoveRow(Row):
    id = peewee.TextField(primary_key=True)
    open = peewee.BooleanField()

    class Meta:
        table_name = "failed_move"


class TookRow(Row):
    id = peewee.IntegerField(primary_key=True)
    run = peewee.IntegerField(index=True)

    class Meta:
        table_name = "took"


class Freezes(Documents[SiteFreeze]):
    model, value = FreezeRow, SiteFreeze

    def marks(self, before: SiteFreeze | None, after: SiteFreeze | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("freeze", value.where),)


class FreezeCalendars(Documents[FreezeCalendar]):
    model, value = FreezeCalendarRow, FreezeCalendar

    def marks(self, before: FreezeCalendar | None, after: FreezeCalendar | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("freeze-calendar", value.id),)


class Watches(Documents[WatchHours]):
    model, value = WatchRow, WatchHours

    def marks(self, before: WatchHours | None, after: WatchHours | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("watch", value.who),)


class FailedMoves(Documents[FailedMove]):
    """Moves that failed; ``open`` ones wait for a person's word."""

    model, value = FailedMoveRow, FailedMove

    def column(self, value: FailedMove, name: str) -> object:
        return value.decided_by is None

    def marks(self, before: FailedMove | None, after: FailedMove | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("failed-move", value.product),)


class Tooks(Documents[Took]):
    model, value = TookRow, Took

    def forget(self, keep: int) -> None:
        """Keep the newest so many. Writes."""
        self.database.tell("DELETE FROM took WHERE id <= (SELECT max(id) FROM took) - ?", [keep])


class Bookings(Documents[Booking]):
    model, value = BookingRow, Booking

    def marks(self, before: Booking | None, after: Booking | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("booking", value.site),)


class Rollouts(Documents[Rollout]):
    model, value = RolloutRow, Rollout

    def marks(self, before: Rollout | None, after: Rollout | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("rollout", str(value.id)),)
