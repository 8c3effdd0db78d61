"""What the house has decided: holds, rules, lockstep groups, clashes."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.holds import StandingHold
from windbreak.core.values.policy import Rule
from windbreak.core.values.ties import KnownClash, KnownLockstep
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class HoldRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "hold"


class RuleRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "rule"


class LockstepRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "lockstep"


class ClashRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "clash"


class Holds(Documents[StandingHold]):
    model, value = HoldRow, StandingHold

    def marks(self, before: StandingHold | None, after: StandingHold | None) -> Iterable[Mark]:
        for value in (before, after):
            if value is not None:
                yield "hold", f"{value.product} {value.site or ''}"


class Rules(Documents[Rule]):
    model, value = RuleRow, Rule

    def marks(self, before: Rule | None, after: Rule | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("rule", value.id),)


class Locksteps(Documents[KnownLockstep]):
    model, value = LockstepRow, KnownLockstep

    def marks(self, before: KnownLockstep | None, after: KnownLockstep | None) -> Iterable[Mark]:
        for group in (before, after):
            for product in group.products if group else ():
                yield "tie", product


class Clashes(Documents[KnownClash]):
    model, value = ClashRow, KnownClash

    def marks(self, before: KnownClash | None, after: KnownClash | None) -> Iterable[Mark]:
        for clash in (before, after):
            for product in clash.products if clash else ():
                yield "tie", product
