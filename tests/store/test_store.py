"""The store: its migrations, its documents, its secrets."""

import json
import sqlite3
import tempfile
import unittest
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from windbreak.core.values.ledger import LedgerEntry
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.store.errors import AlreadyThere, NewerDatabase, NotFound
from windbreak.store.migrations import MIGRATIONS
from windbreak.store.sealing import SealBroken, Sealer, masked, trimmed
from windbreak.store.store import Store

NOW = datetime(2026, 11, 24, 1, 10, tzinfo=UTC)


def site(id: str, twin_of: str | None = None) -> Site:
    return Site(
        id=id,
        label=id.title(),
        address=f"https://{id}.example",
        environment="staging" if twin_of else "production",
        twin_of=twin_of,
    )


class WithStore(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "windbreak.db"
        self.store = Store(self.path)
        self.addCleanup(self.store.close)


class Migrating(WithStore):
    def test_an_empty_file_gets_every_step_and_a_second_opening_none(self) -> None:
        self.assertEqual(self.store.database.migrated, len(MIGRATIONS))
        again = Store(self.path)
        self.addCleanup(again.close)
        self.assertEqual(again.database.migrated, 0)

    def test_a_file_from_each_earlier_step_is_brought_up_with_its_rows(self) -> None:
        for done in range(len(MIGRATIONS)):
            path = self.path.with_name(f"at-{done}.db")
            with closing(sqlite3.connect(path)) as db:
                for _, statements in MIGRATIONS[:done]:
                    for statement in statements:
                        db.execute(statement)
                db.execute(f"PRAGMA user_version = {done}")
                db.commit()
            store = Store(path)
            self.addCleanup(store.close)
            self.assertEqual(store.database.migrated, len(MIGRATIONS) - done)
            store.sites.add(site("skerry-light"))

    def test_a_file_of_a_newer_program_is_refused_untouched(self) -> None:
        path = self.path.with_name("newer.db")
        with closing(sqlite3.connect(path)) as db:
            db.execute(f"PRAGMA user_version = {len(MIGRATIONS) + 1}")
        with self.assertRaises(NewerDatabase):
            Store(path)
        with closing(sqlite3.connect(path)) as db:
            self.assertEqual(db.execute("SELECT count(*) FROM sqlite_master").fetchone(), (0,))


class Documents(WithStore):
    def test_a_value_comes_back_as_it_went_in(self) -> None:
        one = site("skerry-light")
        self.store.sites.add(one)
        self.assertEqual(self.store.sites.get("skerry-light"), one)

    def test_an_id_is_taken_once(self) -> None:
        self.store.sites.add(site("skerry-light"))
        with self.assertRaises(AlreadyThere):
            self.store.sites.add(site("skerry-light"))

    def test_what_is_not_there_is_named(self) -> None:
        with self.assertRaises(NotFound) as caught:
            self.store.sites.get("nowhere")
        self.assertIn("nowhere", str(caught.exception))

    def test_numbers_are_given_in_order_and_not_again(self) -> None:
        entry = LedgerEntry(id=0, at=NOW, who="Rhona Vale", what="a", subject="s")
        ids = [self.store.ledger.add(entry).id for _ in range(3)]
        self.assertEqual(ids, [1, 2, 3])

    def test_a_site_has_one_twin_at_the_most(self) -> None:
        self.store.sites.add(site("skerry-light"))
        self.store.sites.add(site("first", "skerry-light"))
        with self.assertRaises(AlreadyThere):
            self.store.sites.add(site("second", "skerry-light"))

    def test_a_site_has_one_writer_at_the_most(self) -> None:
        self.store.sites.add(site("skerry-light"))
        from windbreak.core.values.plans import SitePlan
        from windbreak.core.values.reasons import Objective
        from windbreak.core.values.verdicts import Answer, Plan

        zero = Objective(broken=0, exposure=0, behind=0, lag=0, untested=0, moves=0)
        plan = SitePlan(
            id=0,
            site="skerry-light",
            made_at=NOW,
            start={},
            targets={},
            answer=Answer(site="skerry-light", objective=zero, verdicts=()),
            plan=Plan(site="skerry-light", combined=0, steps=()),
        )
        self.store.plans.add(plan)
        run = Run(
            id=0,
            plan=1,
            site="skerry-light",
            state="running",
            phase="before",
            step=0,
            steps=1,
            text="",
            started_at=NOW,
            last_sign_at=NOW,
        )
        first = self.store.runs.add(run)
        with self.assertRaises(AlreadyThere):
            self.store.runs.add(run)
        self.store.runs.change(first.id, state="done")
        self.store.runs.add(run)

    def test_a_transaction_that_fails_leaves_nothing(self) -> None:
        with self.assertRaises(AlreadyThere), self.store.transaction():
            self.store.sites.add(site("gannet-rock"))
            self.store.sites.add(site("gannet-rock"))
        self.assertIsNone(self.store.sites.find("gannet-rock"))

    def test_equal_versions_of_a_product_share_one_release(self) -> None:
        self.assertEqual(self.store.releases.id_of("core/millrace", "6.3"), "core/millrace@6.3")


class Sealing(WithStore):
    def test_a_secret_is_opened_with_its_own_key_only(self) -> None:
        sealer = Sealer(self.path.with_name("seal.key"))
        sealed = sealer.seal("chandlery-token")
        self.assertNotIn(b"chandlery", sealed)
        self.assertEqual(sealer.open(sealed), "chandlery-token")
        self.assertEqual(self.path.with_name("seal.key").stat().st_mode & 0o777, 0o600)
        with self.assertRaises(SealBroken):
            Sealer(self.path.with_name("other.key")).open(sealed)

    def test_a_pasted_secret_loses_what_can_not_be_seen(self) -> None:
        self.assertEqual(trimmed("  ab\u200bc\n\td "), "abcd")

    def test_only_the_last_four_of_a_long_secret_are_shown(self) -> None:
        self.assertEqual(masked("chandlery-token-4b06"), "…4b06")
        self.assertEqual(masked("short"), "…")


class FromTheFirstShape(unittest.TestCase):
    def test_what_a_site_was_licensed_for_is_a_licence_with_one_seat(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "windbreak.db"
            site = {"label": "Tarnsey", "address": "https://tarnsey.example", "id": "tarnsey"}
            part = {"product": "plugin/lee", "version": "5.4", "name": "Lee", "folder": "lee"}
            inventory = {
                "id": "tarnsey",
                "at": "2026-11-01T00:00:00Z",
                "components": [{**part, "active": True}],
                "automatic_updates": False,
                "free_mb": 5,
            }
            licence = {"product": "theme/breakwater", "site": "tarnsey", "expires": "2027-01-31"}
            with closing(sqlite3.connect(path)) as db, db:
                for statement in MIGRATIONS[0][1]:
                    db.execute(statement)
                db.execute("PRAGMA user_version = 1")
                db.execute("INSERT INTO site VALUES ('tarnsey', NULL, ?)", [json.dumps(site)])
                db.execute("INSERT INTO inventory VALUES ('tarnsey', ?)", [json.dumps(inventory)])
                db.execute(
                    "INSERT INTO licence VALUES ('ab12', 'tarnsey', ?)",
                    [json.dumps({**licence, "id": "ab12", "covers_until": None})],
                )
            store = Store(path)
            (kept,) = store.licences.all()
            self.assertEqual(kept.products, ("theme/breakwater",))
            self.assertEqual((str(kept.expires), kept.form, kept.seats), ("2027-01-31", "seats", 1))
            (seat,) = store.seats.all(site="tarnsey")
            self.assertEqual((seat.licence, seat.riding), (kept.id, False))
            self.assertEqual(
                store.inventories.installed("plugin/lee"), [("tarnsey", "plugin/lee", "5.4", True)]
            )
            self.assertEqual(store.rows.stale(10), ["tarnsey"])
            found = store.sites.at("https://tarnsey.example")
            assert found is not None
            self.assertEqual(found.id, "tarnsey")
            store.close()
