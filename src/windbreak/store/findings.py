"""Findings: views too. Each is kept with the cause that saw it and the subject it looked at."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import peewee

from windbreak.core.values.findings import Finding
from windbreak.store.documents import Documents, Row


class FindingRow(Row):
    id = peewee.TextField(primary_key=True)
    kind = peewee.TextField()
    cause = peewee.TextField()
    about = peewee.TextField()

    class Meta:
        table_name = "finding"


class Findings(Documents[Finding]):
    model, value = FindingRow, Finding
    outside = ("cause", "about")

    def seen_by(self, cause: str) -> dict[str, dict[str, Finding]]:
        """What a cause saw, by subject and id. Reads."""
        rows = self.database.ask("SELECT about, body FROM finding WHERE cause = ?", [cause])
        by_cause: dict[str, dict[str, Finding]] = {}
        for about, body in rows:
            value = Finding.model_validate_json(body)
            by_cause.setdefault(str(about), {})[value.id] = value
        return by_cause

    def replace(
        self,
        cause: str,
        about: str,
        seen: Iterable[Finding],
        before: Mapping[str, Finding] | None = None,
    ) -> tuple[list[Finding], list[Finding]]:
        """Keep what a cause sees now of a subject in the place of what it saw ``before``, which is
        read where it is not given; what opened and what closed. Writes.

        A finding that stays keeps the instant at which it opened, and what puts it aside.
        """
        now = {value.id: value for value in seen}
        if before is None:
            before = {value.id: value for value in self.all(cause=cause, about=about)}
        if not now and not before:
            return [], []
        opened, closed = [], []
        with self.database.transaction():
            for id in before.keys() - now.keys():
                self.drop(id)
                closed.append(before[id])
            for id, value in now.items():
                earlier = before.get(id) or self.find(id)
                if earlier is None:
                    opened.append(value)
                else:
                    kept = {"opened_at": earlier.opened_at, "snoozed": earlier.snoozed}
                    value = value.model_copy(update=kept)
                    if earlier == value and id in before:
                        continue
                self.database.tell(
                    "INSERT INTO finding (id, kind, cause, about, body) VALUES (?, ?, ?, ?, ?) "
                    "ON CONFLICT(id) DO UPDATE SET kind = excluded.kind, cause = excluded.cause, "
                    "about = excluded.about, body = excluded.body",
                    [id, value.kind, cause, about, value.model_dump_json()],
                )
        return opened, closed

    def subjects(self, cause: str) -> set[str]:
        """The subjects of which a cause has open findings. Reads."""
        rows = self.database.ask("SELECT DISTINCT about FROM finding WHERE cause = ?", [cause])
        return {str(row[0]) for row in rows}

    def forget_causes(self, causes: Sequence[str]) -> None:
        """Close what was seen by causes that are no more. Writes."""
        marks = ", ".join("?" * len(causes))
        self.database.tell(f"DELETE FROM finding WHERE cause NOT IN ({marks})", list(causes))
