"""The store: its migrations, its documents, its secrets."""

import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

from windbreak.core.values.ledger import Event, LedgerEntry
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.store.database import CHANGES_KEPT
from windbreak.store.errors import AlreadyThere, NotFound
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


def release(product: str, version: str) -> KnownRelease:
    return KnownRelease.model_validate(
        {
            "id": f"{product}@{version}",
            "product": product,
            "version": version,
            "title": version,
            "published": "2026-11-01",
            "feed": "commons",
            "routes": ["commons"],
            "taken_at": NOW,
        }
    )


class WithStore(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "windbreak.db"
        self.store = Store(self.path)
        self.addCleanup(self.store.close)


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
        self.store.ledger.drop(3)
        self.assertEqual(self.store.ledger.add(entry).id, 4)

    def test_what_is_kept_at_once_gets_its_numbers_in_its_order(self) -> None:
        texts = ["first", "second", "third"]
        self.store.events.add_all([])
        for start in (1, 4):
            self.store.events.add_all(
                [Event(id=0, at=NOW, kind="feed", subject="s", text=text) for text in texts]
            )
            after = [(e.id, e.text) for e in self.store.events.after(start - 1)]
            self.assertEqual(after, list(enumerate(texts, start)))
        self.assertEqual(self.store.events.last(), 6)

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
        self.store.releases.add(release("core/millrace", "6.3.0"))
        for version in ("6.3", "v6.3", "6.3.0", "6.3.0.0"):
            with self.subTest(version=version):
                id = self.store.releases.id_of("core/millrace", version)
                self.assertEqual(id, "core/millrace@6.3.0")
        other = self.store.releases.id_of("core/millrace", "6.3.1")
        self.assertEqual(other, "core/millrace@6.3.1")

    def test_a_page_goes_on_after_the_last_value_of_the_one_before(self) -> None:
        for n in range(7):
            self.store.sites.add(site(f"site-{n}"))
        first = self.store.sites.page(limit=3)
        more = self.store.sites.page(limit=3, after=first[-1].id)
        self.assertEqual([s.id for s in first + more], [f"site-{n}" for n in range(6)])
        back = self.store.sites.page(limit=2, newest_first=True, after="site-4")
        self.assertEqual([s.id for s in back], ["site-3", "site-2"])

    def test_values_are_asked_by_their_columns(self) -> None:
        self.store.sites.add(site("skerry-light"))
        self.store.sites.add(site("gannet-rock"))
        self.store.sites.change("gannet-rock", retired_at=NOW, host="mole")
        self.assertEqual([s.id for s in self.store.sites.live()], ["skerry-light"])
        self.assertEqual([s.id for s in self.store.sites.all(host="mole")], ["gannet-rock"])
        self.assertEqual(self.store.sites.count(retired=True), 1)


class Changes(WithStore):
    def changed(self, kind: str, subject: str) -> int:
        database = self.store.database
        with database.transaction():
            database.mark([(kind, subject)])
            coming = database.coming_generation()
        self.assertEqual(coming, database.generation())
        return coming

    def test_what_did_not_change_is_told_apart(self) -> None:
        unchanged_since = self.store.database.unchanged_since
        first = self.changed("product", "plugin/lee")
        self.changed("site", "plugin/lee")
        self.assertTrue(unchanged_since(first, "product", {"plugin/lee", "plugin/oarlock"}))
        self.changed("product", "plugin/oarlock")
        self.assertFalse(unchanged_since(first, "product", {"plugin/lee", "plugin/oarlock"}))
        self.assertTrue(unchanged_since(first, "product", {"plugin/lee"}))

    def test_a_change_of_everything_and_changes_of_long_ago_leave_nothing_unchanged(self) -> None:
        first = self.changed("product", "plugin/lee")
        last = self.changed("everything", "")
        self.assertFalse(self.store.database.unchanged_since(first, "product", {"plugin/lee"}))
        self.assertTrue(self.store.database.unchanged_since(last, "product", {"plugin/lee"}))
        for _ in range(CHANGES_KEPT + 1):
            self.changed("host", "mole")
        self.assertFalse(self.store.database.unchanged_since(last, "product", {"plugin/lee"}))

    def test_nothing_marked_is_no_change(self) -> None:
        with self.store.database.transaction():
            before = self.store.database.generation()
            self.assertEqual(self.store.database.coming_generation(), before)
        self.assertEqual(self.store.database.generation(), before)


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
