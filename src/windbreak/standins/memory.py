"""What an agent remembers: facts, nonces, looking passes, and what became of each change.

It lies beside the site's folder, not in it: no snapshot covers it and no restore undoes it.
"""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from windbreak.standins import clock

_CHANGE = ("state", "result", "code", "detail", "phase", "since", "sign", "done", "of")


def _now() -> str:
    return clock.now().isoformat()


class Memory:
    """The database of one agent."""

    def __init__(self, path: Path) -> None:
        self.path = path
        with self._database() as db:
            db.executescript(
                "CREATE TABLE IF NOT EXISTS fact (name TEXT PRIMARY KEY, value TEXT);"
                "CREATE TABLE IF NOT EXISTS nonce (nonce TEXT PRIMARY KEY, until TEXT);"
                "CREATE TABLE IF NOT EXISTS pass (pass TEXT PRIMARY KEY, until TEXT);"
                "CREATE TABLE IF NOT EXISTS act (id TEXT PRIMARY KEY, call TEXT, state TEXT,"
                " result TEXT, code TEXT, detail TEXT, phase TEXT, since TEXT, sign TEXT,"
                " done INTEGER, of INTEGER);"
            )
            # What was under way when the agent died did not end; it is looked at, never trusted.
            db.execute(
                "UPDATE act SET state = 'failed', code = 'timed-out', "
                "detail = 'the agent stopped while it was under way' WHERE state = 'running'"
            )

    @contextmanager
    def _database(self) -> Iterator[sqlite3.Connection]:
        with closing(sqlite3.connect(self.path, timeout=10)) as connection, connection:
            yield connection

    def fact(self, name: str) -> str | None:
        with self._database() as db:
            row = db.execute("SELECT value FROM fact WHERE name = ?", (name,)).fetchone()
        return str(row[0]) if row else None

    def set(self, name: str, value: str | None) -> None:
        with self._database() as db:
            if value is None:
                db.execute("DELETE FROM fact WHERE name = ?", (name,))
            else:
                db.execute("INSERT OR REPLACE INTO fact VALUES (?, ?)", (name, value))

    def seen(self, nonce: str, until: datetime) -> bool:
        """Whether a nonce was there already; it is from now on."""
        with self._database() as db:
            db.execute("DELETE FROM nonce WHERE until < ?", (_now(),))
            try:
                db.execute("INSERT INTO nonce VALUES (?, ?)", (nonce, until.isoformat()))
            except sqlite3.IntegrityError:
                return True
        return False

    def make_pass(self, minutes: int) -> str:
        made = secrets.token_urlsafe(18)
        until = clock.now() + timedelta(minutes=minutes)
        with self._database() as db:
            db.execute("DELETE FROM pass WHERE until < ?", (_now(),))
            db.execute("INSERT INTO pass VALUES (?, ?)", (made, until.isoformat()))
        return made

    def holds_pass(self, text: str) -> bool:
        """Whether a pass is good; it stays so for its minutes."""
        with self._database() as db:
            sql = "SELECT 1 FROM pass WHERE pass = ? AND until > ?"
            return db.execute(sql, (text, _now())).fetchone() is not None

    def take_pass(self, text: str) -> bool:
        """Whether a looking pass is good; it is good once."""
        with self._database() as db:
            gone = db.execute("DELETE FROM pass WHERE pass = ? AND until > ?", (text, _now()))
            return gone.rowcount == 1

    def begin(self, change: str, call: str) -> bool:
        """A change is under way from now on; False where its id is in use already."""
        with self._database() as db:
            begun = db.execute(
                "INSERT OR IGNORE INTO act VALUES (?,?,'running','{}','','',?,?,?,0,0)",
                (change, call, call, _now(), _now()),
            )
            return begun.rowcount == 1

    def void(self, change: str) -> dict[str, Any]:
        """A change that was not begun will never be; one that was stays as it is. Its state."""
        with self._database() as db:
            db.execute(
                "INSERT OR IGNORE INTO act VALUES (?,'void','void','{}','','','',?,?,0,0)",
                (change, _now(), _now()),
            )
        return self.change(change)

    def sign(self, change: str, phase: str, done: int, of: int) -> None:
        """A sign of life of a change under way."""
        with self._database() as db:
            db.execute(
                "UPDATE act SET phase = ?, sign = ?, done = ?, of = ? WHERE id = ?",
                (phase, _now(), done, of, change),
            )

    def end(self, change: str, result: dict[str, Any]) -> None:
        with self._database() as db:
            db.execute(
                "UPDATE act SET state = 'done', result = ? WHERE id = ?",
                (json.dumps(result), change),
            )

    def fail(self, change: str, code: str, detail: str) -> None:
        with self._database() as db:
            db.execute(
                "UPDATE act SET state = 'failed', code = ?, detail = ? WHERE id = ?",
                (code, detail, change),
            )

    def change(self, change: str) -> dict[str, Any]:
        """What became of a change: unknown, void, running with its signs of life, done,
        failed."""
        with self._database() as db:
            row = db.execute(
                f"SELECT {', '.join(_CHANGE)} FROM act WHERE id = ?", (change,)
            ).fetchone()
        if row is None:
            return {"state": "unknown", "result": {}, "code": None, "detail": ""}
        read = dict(zip(_CHANGE, row, strict=True))
        return {**read, "result": json.loads(read["result"]), "code": read["code"] or None}
