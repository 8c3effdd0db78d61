"""Tasks: work of the service that outlives a request."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.tasks import Task
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row


class TaskRow(Row):
    id = peewee.IntegerField(primary_key=True)
    state = peewee.TextField(index=True)

    class Meta:
        table_name = "task"


class Tasks(Documents[Task]):
    model, value = TaskRow, Task

    def marks(self, before: Task | None, after: Task | None) -> Iterable[Mark]:
        """That one was begun or has ended; how far it has come changes no view."""
        task = after or before
        states = [value.state if value else None for value in (before, after)]
        return () if task is None or states[0] == states[1] else (("task", str(task.id)),)
