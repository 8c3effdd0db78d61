"""Runs and their journals."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.journal import JournalEntry
from windbreak.core.values.runs import Run
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class RunRow(Row):
    id = peewee.IntegerField(primary_key=True)
    site = peewee.TextField(index=True)
    state = peewee.TextField(index=True)
    plan = peewee.IntegerField(null=True)

    class Meta:
        table_name = "run"


class JournalRow(Row):
    id = peewee.IntegerField(primary_key=True)
    run = peewee.IntegerField(index=True)
    kind = peewee.TextField()
    step = peewee.IntegerField(null=True)
    product = peewee.TextField(null=True)
    name = peewee.TextField(null=True)
    leg = peewee.IntegerField()
    turn = peewee.IntegerField()
    state = peewee.TextField()
    change = peewee.TextField(null=True)
    at = peewee.TextField()

    class Meta:
        table_name = "journal"


class Runs(Documents[Run]):
    model, value = RunRow, Run

    def marks(self, before: Run | None, after: Run | None) -> Iterable[Mark]:
        """A sign of life alone changes no view."""
        shown = [
            (
                (value.state, value.phase, value.step, value.text, value.waiting)
                + (value.pace, value.surprises, value.errand)
                if value
                else None
            )
            for value in (before, after)
        ]
        value = after or before
        return () if value is None or shown[0] == shown[1] else (("run", value.site),)

    def last(self, site: str | None = None) -> dict[str, Run]:
        """The newest run of each site that has had one, or of one site. Reads."""
        where, given = ("WHERE site = ?", [site]) if site else ("", [])
        rows = self.database.ask(
            f"SELECT body FROM run WHERE id IN (SELECT max(id) FROM run {where} GROUP BY site)",
            given,
        )
        runs = (Run.model_validate_json(row[0]) for row in rows)
        return {run.site: run for run in runs}

    def running_on_host(self, host: str) -> int:
        """How many runs are under way on the sites of a host. Reads."""
        rows = self.database.ask(
            "SELECT count(*) FROM run r JOIN site s ON s.id = r.site "
            "WHERE r.state = 'running' AND s.host = ?",
            [host],
        )
        return int(rows[0][0])


class Journals(Documents[JournalEntry]):
    model, value = JournalRow, JournalEntry

    def column(self, value: JournalEntry, name: str) -> object:
        return value.at.isoformat() if name == "at" else super().column(value, name)

    def forget_before(self, instant: str) -> int:
        """Drop the journals of runs that ended before an instant, but for each site's last run; how
        many lines. Writes.
        """
        return self.database.tell(
            "DELETE FROM journal WHERE run IN (SELECT id FROM run WHERE state != 'running' "
            "AND json_extract(body, '$.ended_at') < ? "
            "AND id NOT IN (SELECT max(id) FROM run GROUP BY site))",
            [instant],
        )
