"""The ledger narrowed, and what a client is told of a month."""

import csv
import io
from datetime import UTC, datetime, timedelta

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA
from windbreak.core.values.holds import NewHold
from windbreak.core.values.ledger import LedgerAsked
from windbreak.core.values.sites import NewNote
from windbreak.operations.administration import exports
from windbreak.operations.errors import Refused
from windbreak.operations.planning import policy
from windbreak.operations.scheduling import bookings
from windbreak.operations.sites import marks
from windbreak.operations.views import ledger, reports

SITE, SHOP, OTHER = "skerry-light", "seapink-florists", "tarnsey-harbour"


class Narrowed(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        for site in (SITE, SHOP):
            self.site(site)
        record = self.context.record
        record("Rhona Vale", "Skerry booked", SITE, why="They asked for Friday")
        record("Windbreak", "backup proved", SHOP, result="whole")
        record("Owen Pell", "seat given", SHOP, why="100% sure_of it")

    def whats(self, **asked: object) -> list[str]:
        wanted = ledger.asked(self.context, **asked)  # type: ignore[arg-type]
        lines = ledger.lines(self.context, wanted)
        self.assertEqual(ledger.summary(self.context, wanted).wanted, len(lines))
        return [x.what for x in lines if x.what in ("Skerry booked", "backup proved", "seat given")]

    def test_each_word_narrows_and_all_together(self) -> None:
        self.context.store.sites.change(SHOP, label="Thrift & Sons")
        label = "thrift"
        client = self.context.store.sites.get(SITE).client
        for asked, whats in (
            ({}, ["seat given", "backup proved", "Skerry booked"]),
            ({"subject": SITE}, ["Skerry booked"]),
            ({"client": client}, ["Skerry booked"]),
            ({"client": "nobody"}, []),
            ({"who": "Owen Pell"}, ["seat given"]),
            ({"part": "acts"}, ["backup proved"]),
            ({"part": "decisions"}, ["seat given", "Skerry booked"]),
            ({"words": "friday"}, ["Skerry booked"]),
            ({"words": "FRIDAY asked"}, ["Skerry booked"]),
            ({"words": "friday sure"}, []),
            ({"words": label}, ["seat given", "backup proved"]),  # by the name of its site
            ({"words": f"{label} given"}, ["seat given"]),
            ({"words": "0% sure_"}, ["seat given"]),
            ({"words": "sure%it"}, []),  # a sign of the database's is a letter like others
            ({"words": "why"}, []),  # the names of fields are no words of a line
            ({"wrong": True}, []),
        ):
            with self.subTest(asked=asked):
                self.assertEqual(self.whats(**asked), whats)

    def test_since_and_until_are_instants_whatever_their_zone(self) -> None:
        now = self.context.clock()
        self.assertEqual(len(self.whats(since=now - timedelta(minutes=5))), 3)
        self.assertEqual(self.whats(since=now + timedelta(minutes=5)), [])
        self.assertEqual(self.whats(until=now - timedelta(minutes=5)), [])

    def test_a_page_goes_on_before_a_line_and_nothing_comes_twice(self) -> None:
        wanted, seen, after = LedgerAsked(), list[int](), None
        while page := self.context.store.ledger.asked(wanted, after=after, limit=2):
            seen += [entry.id for entry in page]
            after = page[-1].id
        every = [entry.id for entry in self.context.store.ledger.all(newest_first=True)]
        self.assertEqual(seen, every)

    def test_as_csv_it_is_what_is_asked_for_and_no_formula(self) -> None:
        self.context.record("Owen Pell", "=1+1", SHOP)
        wanted = ledger.asked(self.context, who="Owen Pell")
        rows = list(csv.DictReader(io.StringIO(exports.ledger_csv(self.context, wanted))))
        self.assertEqual([row["what"] for row in rows], ["'=1+1", "seat given"])
        self.assertEqual(rows[1]["why"], "100% sure_of it")

    def test_the_end_of_a_run_says_which_and_what_it_came_to(self) -> None:
        run = self.carried_out(self.approved(SITE))
        (end,) = [x for x in self.context.store.ledger.all() if x.came is not None]
        self.assertEqual((end.run, end.came, end.subject), (run.id, "done", SITE))
        begun = [x for x in self.context.store.ledger.all() if x.run == run.id]
        self.assertGreater(len(begun), 1)


class Reports(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        for site in (SITE, SHOP, OTHER):
            self.site(site)
        self.month = f"{self.context.clock():%Y-%m}"
        self.client = self.context.store.sites.get(SITE).client

    def test_a_month_tells_what_was_done_what_comes_and_what_is_left(self) -> None:
        plan = self.approved(SITE)
        self.carried_out(plan)
        marks.note(self.context, SITE, "client", NewNote(text="Tell us of the concert."), RHONA)
        hold = NewHold(product="plugin/netloft", site=SITE, reason="it drops captions.")
        policy.hold(self.context, hold, RHONA)
        (told,) = reports.report(self.context, self.client, self.month).sites
        self.assertIn(f"{len(plan.targets)} updates in one night. None had", told.head)
        done = " ".join(line.text for line in told.done)
        for product, version in plan.targets.items():
            known = self.context.store.products.get(product)
            self.assertIn(f"{known.name} {version}", done)
        self.assertEqual(told.asked, ("Tell us of the concert.",))
        self.assertEqual(told.seen, ())
        looked = reports.report(self.context, self.client, self.month, looks=True)
        self.assertEqual(len(looked.sites[0].seen), len(plan.plan.steps))
        self.assertIn("as before on", looked.text)

    def test_what_was_put_back_is_told_and_counts_as_no_update(self) -> None:
        self.faults(SITE, white=["plugin/oarlock"])
        plan = self.approved(SITE)
        run = self.carried_out(plan)
        self.assertEqual(run.state, "put back", run.text)
        (told,) = reports.report(self.context, self.client, self.month).sites
        self.assertIn("had to be put back, and was.", told.head)
        self.assertNotIn("Oarlock", " ".join(line.text for line in told.done))
        self.assertTrue(told.head.startswith(f"{run.step - 1} update") or run.step == 1, told.head)

    def test_what_is_booked_comes(self) -> None:
        plan = self.approved(OTHER)
        bookings.book_all(self.context, RHONA)
        client = self.context.store.sites.get(OTHER).client
        (told,) = reports.report(self.context, client, self.month).sites
        self.assertEqual(told.head, "Nothing was updated.")
        (coming,) = told.to_come
        self.assertIn(f"and {len(plan.targets) - 1} more", coming)

    def test_it_names_no_other_client_and_no_account(self) -> None:
        others = [n for n in self.context.store.sites.notes().values() if n.client != self.client]
        for reason in (f"as at {others[0].label}", f"{others[0].client} wants it so", "Rhona Vale"):
            hold = NewHold(product="plugin/lee", reason=reason)
            policy.hold(self.context, hold, RHONA)
        text = reports.report(self.context, self.client, self.month).text
        self.assertIn("Lee stays at", text)
        names = {n.label for n in others} | {n.client for n in others if n.client}
        names |= {account.name for account in self.context.store.accounts.all()}
        self.assertEqual([name for name in names if name in text], [])

    def test_another_month_tells_nothing_of_this_one(self) -> None:
        self.carried_out(self.approved(SITE))
        before = (self.context.clock().replace(day=1) - timedelta(days=1)).strftime("%Y-%m")
        report = reports.report(self.context, self.client, before)
        self.assertEqual(report.sites[0].head, "Nothing was updated.")
        self.assertEqual(report.last.strftime("%Y-%m"), before)

    def test_who_and_when_are_refused_with_what_would_be_right(self) -> None:
        label = self.context.store.sites.get(SHOP).label
        client = self.context.store.sites.get(SHOP).client
        following = datetime.now(UTC) + timedelta(days=70)
        for who, when, why in (
            (label, self.month, f"it may be {client!r}"),
            (self.client, "November", "write it as 2026-11"),
            (self.client, "2026-13", "write it as 2026-11"),
            (self.client, f"{following:%Y-%m}", "has not begun"),
        ):
            with self.subTest(who=who, when=when), self.assertRaises(Refused) as caught:
                reports.report(self.context, who, when)
            self.assertIn(why, str(caught.exception))
