"""The history of looks at sites: a row for each change."""

from __future__ import annotations

import peewee

from windbreak.core.values.turns import Turn, TurnOf
from windbreak.store.documents import Documents, Row


class TurnRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField(index=True)
    of = peewee.TextField()
    name = peewee.TextField()
    at = peewee.TextField()

    class Meta:
        table_name = "turn"


class Turns(Documents[Turn]):
    model, value = TurnRow, Turn

    def column(self, value: Turn, name: str) -> object:
        return value.at.isoformat() if name == "at" else getattr(value, name)

    def last(self, site: str, of: TurnOf) -> dict[str, Turn]:
        """How each thing of a sort stands on a site since when, by its name. Reads."""
        rows = self.database.ask(
            "SELECT body FROM turn WHERE id IN "
            "(SELECT max(id) FROM turn WHERE site = ? AND of = ? GROUP BY name)",
            [site, of],
        )
        turns = [Turn.model_validate_json(row[0]) for row in rows]
        return {turn.name: turn for turn in turns}

    def since(self, site: str, instant: str) -> list[Turn]:
        """The changes on a site since an instant, and before them how each thing stood then; by
        time. Reads.
        """
        rows = self.database.ask(
            "SELECT body FROM turn WHERE site = ? AND (at >= ? OR id IN "
            "(SELECT max(id) FROM turn WHERE site = ? AND at < ? GROUP BY of, name)) ORDER BY id",
            [site, instant, site, instant],
        )
        return [Turn.model_validate_json(row[0]) for row in rows]

    def forget_before(self, instant: str) -> int:
        """Drop the changes from before an instant that others came after; how many. Writes."""
        return self.database.tell(
            "DELETE FROM turn WHERE at < ? AND id NOT IN "
            "(SELECT max(id) FROM turn GROUP BY site, of, name)",
            [instant],
        )
