"""The database's shape: named steps, an upgrade of a database with rows in it."""

import json
import sqlite3
import tempfile
import unittest
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import peewee

from windbreak.core.values import journal as acts
from windbreak.core.values.journal import ActKind, RunAct
from windbreak.core.values.ledger import LedgerAsked
from windbreak.store import migrations
from windbreak.store.errors import NewerDatabase
from windbreak.store.migrations.m0017_typed_journal import typed
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
    database = peewee.SqliteDatabase(path)
    with closing(database), database.atomic("EXCLUSIVE"):
        for step in migrations.every()[:count]:
            step.carry_out(database)
        database.execute_sql(f"PRAGMA user_version = {count}")


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


LEE_ACT = "plugin/lee"
# An act as it was written, and what it is now.
OLD_ACTS = {
    "inventory": acts.inventory(1),
    "inventory, leg 2": acts.inventory(2),
    "own files": acts.own_files(1),
    "cache off page cache": acts.cache_off("page cache", 1),
    "step 3": acts.step(3),
    "overrun 2": acts.overrun(2),
    "page up 2": acts.page_up(2),
    "page up for help": acts.page_up(why=acts.FOR_HELP),
    "page up for restore": acts.page_up(why="restore"),
    "page up for restore 1796000001": acts.page_up(why="restore by hand", turn=2),
    "page up again put-back-step 1796000000": acts.page_up(why=acts.FOR_HELP_AGAIN),
    "page down after the restore": acts.page_down(why=acts.AFTER_RESTORE),
    f"off 1 {LEE_ACT}": acts.switch(1, LEE_ACT, on=False),
    f"on again 1 {LEE_ACT}": acts.switch(1, LEE_ACT, on=True).again,
    f"on at the end {LEE_ACT}": acts.switch(None, LEE_ACT, on=True),
    f"apply 2 {LEE_ACT}": acts.apply(2, LEE_ACT),
    f"apply 2 {LEE_ACT} again": acts.apply(2, LEE_ACT).again,
    f"apply 2 {LEE_ACT} mended": acts.apply(2, LEE_ACT).about(ActKind.MENDED),
    f"apply 2 {LEE_ACT} given up": acts.apply(2, LEE_ACT).about(ActKind.GIVEN_UP),
    f"clear apply 2 {LEE_ACT}": acts.apply(2, LEE_ACT).about(ActKind.CLEAR),
    f"migrate 1 {LEE_ACT}": acts.migrate(1, LEE_ACT),
    f"regenerate back 1 {LEE_ACT}": acts.bring("regenerate", 1, LEE_ACT, back=True),
    f"left register 1 {LEE_ACT}": acts.bring("register", 1, LEE_ACT).about(ActKind.LEFT_TO_PERSON),
    "read back after putting back 1": acts.read_back(1, acts.AFTER_PUTTING_BACK),
    "apply 1 plugin/link-probe": acts.apply(1, "plugin/link-probe"),
    "probe 1": acts.probe(1),
    "probe 1, first look": acts.probe(1).about(ActKind.FIRST_LOOK),
    "probe after putting back 2": acts.probe(2, acts.AFTER_PUTTING_BACK),
    "probe after putting back 2, first look": acts.probe(2, acts.AFTER_PUTTING_BACK).about(
        ActKind.FIRST_LOOK
    ),
    "probe after restore": acts.probe(when=acts.AFTER_RESTORE),
    "probe after put-back-step 1796000000": acts.probe(when=acts.BY_HAND),
    "last probe": acts.probe(when=acts.AT_THE_END),
    "whole inventory 1": acts.whole_inventory(1),
    "planned anew 2, after step 1": acts.planned_anew(1, 2),
    f"put back 1 {LEE_ACT}": acts.put_back(1, LEE_ACT),
    f"put back 1 {LEE_ACT}, nothing kept": acts.put_back(1, LEE_ACT).about(ActKind.NOTHING_KEPT),
    "written since the snapshot": acts.written_since(),
    "restore": acts.restore(),
    "restore 1796000001": acts.restore(2),
    "lost by restore": acts.lost_by(acts.restore()),
    "lost by restore 1796000001": acts.lost_by(acts.restore(2)),
    "left out of restore": acts.restore().about(ActKind.NOT_MADE_ANEW),
    "snapshot again": acts.snapshot(1).again,
    f"fetch {LEE_ACT} 3": acts.fetched_again(LEE_ACT, 2),
    "what nobody knows": RunAct(ActKind.OTHER, name="what nobody knows"),
}


class OldJournals(Migrating):
    def test_every_act_of_before_is_what_is_written_now(self) -> None:
        ways = {"1796000000": 1, "1796000001": 2}
        for old, act in OLD_ACTS.items():
            with self.subTest(old):
                self.assertEqual(RunAct(**{**typed(old, ways), "kind": act.kind}), act)
                self.assertEqual(typed(old, ways)["kind"], act.kind)

    def test_what_acts_brought_is_read_by_its_kind(self) -> None:
        before_columns(self.path, NAMES.index("m0017_typed_journal"))
        lines = [
            ("inventory", "done", {"changed": [], "free_mb": 70, "active": ["plugin/lee"]}),
            ("usual lengths", "done", {"apply": 12.0, "put back": 4.0, "cache off W3": 2.0}),
            ("snapshot", "done", {"snapshot": "s1", "files": 9, "bytes": 100}),
            ("read back 1", "done", {"plugin/lee": "5.5"}),
            ("step 1", "failed", {"code": "breaks-site"}),
            ("waits for errand 7", "noted", {}),
            ("restore 1796000001", "done", {"left": ["a view"]}),
            ("probe 1", "done", {"of": "another time"}),
        ]
        with closing(sqlite3.connect(self.path)) as db, db:
            db.execute("INSERT INTO site (id, body) VALUES ('tarnsey', ?)", [json.dumps(SITE)])
            db.execute("INSERT INTO run (id, site, state, body) VALUES (4, 'tarnsey', 'done', '')")
            for n, (act, state, detail) in enumerate(lines, start=1):
                at = "2026-11-01T09:00:00Z"
                line = {"id": n, "run": 4, "at": at, "step": None, "act": act, "state": state}
                line |= {"text": act, "detail": detail}
                db.execute("INSERT INTO journal VALUES (?, 4, ?)", [n, json.dumps(line)])
        journal = self.opened().journal.all(run=4)
        there, usual, snapshot, read, failed, waits, restored, probe = journal
        self.assertEqual(acts.inventory(1).brought_by(there).active, ("plugin/lee",))
        lengths = acts.usual_lengths().brought_by(usual).seconds
        self.assertEqual(lengths, {ActKind.APPLY: 12.0, ActKind.PUT_BACK: 4.0})
        self.assertEqual(acts.snapshot(1).brought_by(snapshot).snapshot, "s1")
        self.assertEqual(acts.read_back(1).brought_by(read).versions, {"plugin/lee": "5.5"})
        self.assertEqual((failed.act, failed.code), (acts.step(1), "breaks-site"))
        self.assertEqual(waits.act, acts.waits_for_errand(1))
        self.assertEqual(acts.waits_for_errand(1).brought_by(waits).errand, 7)
        self.assertEqual(restored.act, acts.restore(1))
        self.assertEqual(acts.restore(1).brought_by(restored).left, ("a view",))
        self.assertEqual((probe.act, probe.is_whole, there.is_whole), (acts.probe(1), False, True))


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
