"""Facts of this service, as its instance id, and its sealed secrets."""

from __future__ import annotations

from windbreak.store.database import Database


class Facts:
    """Single values by name."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def get(self, name: str) -> str | None:
        """A fact. Reads."""
        rows = self.database.ask("SELECT value FROM fact WHERE name = ?", [name])
        return str(rows[0][0]) if rows else None

    def set(self, name: str, value: str) -> None:
        """Keep a fact. Writes."""
        with self.database.transaction():
            self.database.tell(
                "INSERT INTO fact VALUES (?, ?) "
                "ON CONFLICT(name) DO UPDATE SET value = excluded.value",
                [name, value],
            )
            self.database.mark([(name if name in ("day", "hour") else "fact", name)])


class Secrets:
    """Sealed secrets by name; only the sealer can open them."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def get(self, name: str) -> bytes | None:
        """A sealed secret. Reads."""
        rows = self.database.ask("SELECT sealed FROM secret WHERE name = ?", [name])
        return bytes(rows[0][0]) if rows else None

    def set(self, name: str, sealed: bytes) -> None:
        """Keep a sealed secret. Writes."""
        self.database.tell(
            "INSERT INTO secret VALUES (?, ?) "
            "ON CONFLICT(name) DO UPDATE SET sealed = excluded.sealed",
            [name, sealed],
        )

    def drop(self, name: str) -> None:
        """Forget a sealed secret. Writes."""
        self.database.tell("DELETE FROM secret WHERE name = ?", [name])
