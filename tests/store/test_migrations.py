"""The database's shape: named steps, an upgrade of a database with rows in it."""

import json
import sqlite3
import tempfile
import unittest
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from windbreak.core.values.ledger import LedgerAsked
from windbreak.store import migrations
from windbreak.store.errors import NewerDatabase
from windbreak.store.store import Store
from windbreak.store.views import Wanted

NAMES = [step.name for step in migrations.every()]
SITE = {
    "id": "tarnsey",
    "label": "Tarnsey",
    "address": "https://tarnsey.example",
    "client": "Tarnsey Trust",
    "host": "mole",
}
TWIN = {
    **SITE,
    "id": "tarnsey-twin",
    "label": "Tarnsey, twin",
    "address": "https://twin.tarnsey.example",
    "environment": "staging",
    "twin_of": "tarnsey",
}
GONE = {**SITE, "id": "gone", "address": "https://gone.example", "retired_at": "2026-10-01T00:00Z"}
LEE = {"product": "plugin/lee", "version": "5.4", "name": "Lee", "folder": "lee", "active": True}
INVENTORY = {
    "id": "tarnsey",
    "at": "2026-11-01T00:00:00Z",
    "components": [LEE],
    "automatic_updates": False,
    "free_mb": 5,
    "registrations": [{"product": "plugin/lee", "state": "registered"}],
}
ZERO = dict.fromkeys(("broken", "exposure", "behind", "lag", "untested", "moves"), 0)


def plan(id: int, state: str) -> dict[str, Any]:
    return {
        "id": id,
        "site": "tarnsey",
        "made_at": "2026-11-01T00:00:00Z",
        "start": {},
        "answer": {"site": "tarnsey", "objective": ZERO, "verdicts": []},
        "plan": {"site": "tarnsey", "combined": 0, "steps": []},
        "targets": {"plugin/lee": "5.5"},
        "state": state,
    }


def before_columns(path: Path, count: int = 4) -> None:
    """A database of a release that had so many steps, and only numbered them."""
    with closing(sqlite3.connect(path)) as db, db:
        for step in migrations.every()[:count]:
            for statement in step.steps:
                db.execute(statement)
        db.execute(f"PRAGMA user_version = {count}")


class Migrating(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "windbreak.db"

    def opened(self) -> Store:
        store = Store(self.path)
        self.addCleanup(store.close)
        return store

    def test_an_empty_file_gets_every_step_and_a_second_opening_none(self) -> None:
        self.assertEqual(self.opened().database.migrated, NAMES)
        again = self.opened()
        self.assertEqual(again.database.migrated, [])
        self.assertEqual(migrations.pending(again.database.peewee), [])
        applied = migrations.applied(again.database.peewee)
        self.assertEqual(list(applied), NAMES)
        self.assertTrue(all(at.startswith("20") for at in applied.values()))

    def test_a_file_from_each_earlier_step_is_brought_up(self) -> None:
        for done in range(1, len(NAMES)):
            self.path = self.path.with_name(f"at-{done}.db")
            before_columns(self.path, done)
            with self.subTest(done=done):
                self.assertEqual(self.opened().database.migrated, NAMES[done:])

    def test_a_file_of_a_newer_program_is_refused_untouched(self) -> None:
        with closing(sqlite3.connect(self.path)) as db:
            db.execute(f"PRAGMA user_version = {len(NAMES) + 1}")
        with self.assertRaises(NewerDatabase):
            Store(self.path)
        with closing(sqlite3.connect(self.path)) as db:
            self.assertEqual(db.execute("SELECT count(*) FROM sqlite_master").fetchone(), (0,))

    def test_a_step_that_nobody_here_knows_is_named(self) -> None:
        store = self.opened()
        store.database.tell("INSERT INTO migration VALUES ('m0099_of_tomorrow', '2030-01-01')")
        store.close()
        with self.assertRaises(NewerDatabase) as caught:
            Store(self.path)
        self.assertIn("m0099_of_tomorrow", str(caught.exception))

    def test_a_step_that_fails_leaves_the_file_as_it_was(self) -> None:
        before_columns(self.path)
        with closing(sqlite3.connect(self.path)) as db, db:
            # A column of the next step is there already: it can't be added.
            db.execute("ALTER TABLE site ADD COLUMN client TEXT")
        with self.assertRaises(Exception):  # noqa: B017
            Store(self.path)
        with closing(sqlite3.connect(self.path)) as db:
            self.assertEqual(db.execute("PRAGMA user_version").fetchone(), (4,))
            tables = {row[0] for row in db.execute("SELECT name FROM sqlite_master")}
        self.assertNotIn("number", tables)


class WithRows(Migrating):
    """The last release's database, with rows in it."""

    def test_what_was_kept_is_asked_by_its_new_columns(self) -> None:
        before_columns(self.path)
        with closing(sqlite3.connect(self.path)) as db, db:
            for one in (SITE, TWIN, GONE):
                db.execute(
                    "INSERT INTO site (id, twin_of, body) VALUES (?, ?, ?)",
                    [one["id"], one.get("twin_of"), json.dumps(one)],
                )
            db.execute("INSERT INTO inventory VALUES ('tarnsey', ?)", [json.dumps(INVENTORY)])
            db.execute("INSERT INTO component VALUES ('tarnsey', 'plugin/lee', '5.4', 1)")
            for n, state in ((1, "carried out"), (2, "approved")):
                db.execute(
                    "INSERT INTO plan VALUES (?, 'tarnsey', ?)", [n, json.dumps(plan(n, state))]
                )
            db.execute("INSERT INTO row VALUES ('tarnsey', 0, 3, 'Tarnsey', 'tarnsey', 0, 1, '{}')")
        store = self.opened()
        self.assertEqual([s.id for s in store.sites.live()], ["tarnsey", "tarnsey-twin"])
        self.assertEqual([s.id for s in store.sites.all(host="mole", retired=True)], ["gone"])
        at = store.sites.at("https://tarnsey.example")
        self.assertEqual(at.id if at else None, "tarnsey")
        self.assertIsNone(store.sites.at("https://gone.example"))
        self.assertEqual(store.plans.approved(), {"tarnsey": {"plugin/lee": "5.5"}})
        self.assertEqual([p.id for p in store.plans.all(state="carried out")], [1])
        self.assertEqual([i.id for i in store.inventories.of_note()], ["tarnsey"])
        self.assertEqual(
            store.inventories.signatures(),
            {"tarnsey": store.inventories.get("tarnsey").signature},
        )
        self.assertEqual(store.plans.add(store.plans.get(2).model_copy(update={"id": 0})).id, 3)
        # Views are made anew by the projector: what there was is no row of the new shape.
        self.assertEqual(store.views.rows(Wanted({})), ([], 0, None))
        self.assertEqual(store.views.reached()[0], 0)
        self.assertIn(("everything", ""), [mark for _, mark in store.database.changes_after(0)])


class FromTheFirstShape(Migrating):
    def test_lines_of_an_old_ledger_are_asked_by_time_and_by_who(self) -> None:
        before_columns(self.path, NAMES.index("m0016_ledger_asked"))
        times = ("2026-11-01T09:00:00Z", "2026-11-01T10:30:00.250000+01:00", "2026-11-02T00:00:00Z")
        with closing(sqlite3.connect(self.path)) as db, db:
            for n, at in enumerate(times, start=1):
                line = {"id": n, "at": at, "who": f"P{n}", "what": "x", "subject": "tarnsey"}
                db.execute("INSERT INTO ledger VALUES (?, 'tarnsey', ?)", [n, json.dumps(line)])
        ledger = self.opened().ledger
        since = datetime(2026, 11, 1, 9, 15, tzinfo=UTC)
        self.assertEqual([x.id for x in ledger.asked(LedgerAsked(since=since))], [3, 2])
        until = datetime(2026, 11, 1, 9, 30, tzinfo=UTC)
        self.assertEqual([x.id for x in ledger.asked(LedgerAsked(until=until))], [1])
        self.assertEqual([x.id for x in ledger.asked(LedgerAsked(who="P2"))], [2])
        self.assertEqual(ledger.people(), ["P1", "P2", "P3"])

    def test_what_a_site_was_licensed_for_is_a_licence_with_one_seat(self) -> None:
        licence = {"product": "theme/breakwater", "site": "tarnsey", "expires": "2027-01-31"}
        before_columns(self.path, 1)
        with closing(sqlite3.connect(self.path)) as db, db:
            db.execute("INSERT INTO site VALUES ('tarnsey', NULL, ?)", [json.dumps(SITE)])
            db.execute("INSERT INTO inventory VALUES ('tarnsey', ?)", [json.dumps(INVENTORY)])
            db.execute(
                "INSERT INTO licence VALUES ('ab12', 'tarnsey', ?)",
                [json.dumps({**licence, "id": "ab12", "covers_until": None})],
            )
        store = self.opened()
        (kept,) = store.licences.all()
        self.assertEqual(kept.products, ("theme/breakwater",))
        self.assertEqual((str(kept.expires), kept.form, kept.seats), ("2027-01-31", "seats", 1))
        (seat,) = store.seats.all(site="tarnsey")
        self.assertEqual((seat.licence, seat.riding), (kept.id, False))
        self.assertEqual(
            store.inventories.installed("plugin/lee"), [("tarnsey", "plugin/lee", "5.4", True)]
        )


if __name__ == "__main__":
    unittest.main()
