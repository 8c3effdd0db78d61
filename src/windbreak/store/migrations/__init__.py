"""The database's shape, in named steps; each runs once, in order, in one transaction.

A step is a module of this folder, ``m0005_columns_and_changes``, whose STEPS are statements, or
functions of the database where a statement can't say it. It is never changed after it was released:
a new shape is a new step. The table ``migration`` says which were applied, and when; ``pending``
which are to come.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import peewee

from windbreak.store.errors import NewerDatabase


@dataclass(frozen=True)
class Migration:
    """One step: its name, and its statements."""

    name: str
    steps: tuple[str | Callable[[peewee.SqliteDatabase], None], ...]

    def carry_out(self, database: peewee.SqliteDatabase) -> None:
        """Bring a database from the shape before to this one. Writes."""
        for statement in self.steps:
            if callable(statement):
                statement(database)
            else:
                database.execute_sql(statement)


def every() -> tuple[Migration, ...]:
    """All steps that this program has, in their order."""
    names = sorted(info.name for info in pkgutil.iter_modules(__path__) if info.name[0] == "m")
    return tuple(
        Migration(name, importlib.import_module(f"{__name__}.{name}").STEPS) for name in names
    )


def applied(database: peewee.SqliteDatabase) -> dict[str, str]:
    """When each step was applied, by its name. Reads."""
    if not database.table_exists("migration"):
        return {}
    rows = database.execute_sql("SELECT name, applied_at FROM migration ORDER BY name").fetchall()
    return {str(name): str(at) for name, at in rows}


def pending(database: peewee.SqliteDatabase) -> Sequence[Migration]:
    """The steps that are still to be applied. Reads.

    Raises NewerDatabase when the file is ahead of this program.
    """
    steps = every()
    numbered = int(database.execute_sql("PRAGMA user_version").fetchone()[0])
    names = set(applied(database)) or {step.name for step in steps[:numbered]}
    unknown = sorted(names - {step.name for step in steps})
    if unknown or numbered > len(steps):
        raise NewerDatabase(numbered, len(steps), unknown)
    return [step for step in steps if step.name not in names]


def migrate(database: peewee.SqliteDatabase) -> list[str]:
    """Bring a database to the newest shape; the names of the steps that ran. Writes."""
    waiting = pending(database)
    if not waiting:
        return []
    # Databases from before steps had names only counted them.
    older = [step for step in every() if step not in waiting]
    for number, step in enumerate(waiting, start=len(older) + 1):
        with database.atomic("EXCLUSIVE"):
            database.execute_sql(
                "CREATE TABLE IF NOT EXISTS migration "
                "(name TEXT PRIMARY KEY, applied_at TEXT NOT NULL) WITHOUT ROWID"
            )
            now = datetime.now(UTC).isoformat(timespec="seconds")
            for migration in (*older, step):
                database.execute_sql(
                    "INSERT OR IGNORE INTO migration VALUES (?, ?)", [migration.name, now]
                )
            step.carry_out(database)
            database.execute_sql(f"PRAGMA user_version = {number}")
    return [step.name for step in waiting]
