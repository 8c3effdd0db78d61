"""Runs in a real browser: one that waits for its site, errands, a twin made as its site is."""

from datetime import UTC, datetime, timedelta

from playwright.sync_api import expect

from tests.console.test_console import WithBrowser
from windbreak.standins import faults

SITE = "skerry-light"
SHOP = "seapink-florists"  # a white page after its update; putting back does not help


class Runs(WithBrowser):
    def ended_run(self) -> int:
        plan = self.windbreak.draft_plan(SITE)
        self.windbreak.approve_plan(plan.id, "a test")
        run = self.windbreak.run_plan(plan.id, outside_window=True).id
        self.windbreak.wait(run, timeout=90)
        return run

    def test_a_run_that_waits_says_what_is_known_and_can_be_asked_now_or_ended(self) -> None:
        run = self.ended_run()
        now = self.now()

        story = self.http("GET", f"/runs/{run}").json()
        story["run"] |= {
            "state": "running",
            "phase": "steps",
            "waiting_since": (now - timedelta(minutes=18)).isoformat(),
            "waiting": "No answer of its agent.",
            "asked": [(now - timedelta(minutes=m)).isoformat() for m in (17, 12, 3)],
            "ask_at": (now + timedelta(seconds=12)).isoformat(),
            "meanwhile": [{"at": now.isoformat(), "fine": 5, "of": 6}],
        }
        story["told_at"] = (now + timedelta(minutes=12)).isoformat()
        page = self.open("/runs")
        page.route(f"**/api/v1/runs/{run}", lambda route: route.fulfill(json=story))
        page.goto(f"{self.demo.address}/runs/{run}")
        told = page.get_by_role("region", name="Waiting for the site")
        expect(told).to_contain_text("no sign for 18 min")
        expect(told).to_contain_text("Visitors notice it: 5 of 6 pages as before")
        expect(told.get_by_role("img")).to_have_accessible_name(
            "No sign since "
            f"{(now - timedelta(minutes=18)).astimezone():%H:%M}. Asked 3 times since, with no "
            f"answer. 5 of 6 pages were as before at {now.astimezone():%H:%M}. "
            f"At {(now + timedelta(minutes=12)).astimezone():%H:%M} a person is told."
        )
        expect(page.get_by_role("region", name="What happens next")).to_contain_text(
            "sent again under the same id"
        )
        with page.expect_request(f"**/runs/{run}/ask"):
            page.get_by_role("button", name="Ask it now").click()
        with page.expect_request(f"**/runs/{run}/stop"):
            page.get_by_role("button", name="End it when it answers").click()

    def test_an_errand_stands_on_its_sites_page_and_is_closed_there(self) -> None:
        errand = self.windbreak.add_errand(SITE, "Ask them for the new logo")
        page = self.open(f"/sites/{SITE}")
        row = page.get_by_role("region", name="Errands").get_by_role("row")
        expect(row).to_contain_text("Ask them for the new logo")
        row.get_by_role("button", name="It is done…").click()
        page.get_by_label("How, for the ledger").fill("sent by mail")
        page.get_by_role("dialog").get_by_role("button", name="It is done").click()
        self.dialog_ended(page)
        expect(row).to_have_count(0)
        closed = self.windbreak.errand(errand.id)
        self.assertEqual((closed.closed_by, closed.how), ("Rhona Vale", "sent by mail"))
        self.assertEqual(self.said, [])

    def test_a_twin_is_made_as_its_site_is_and_a_backup_is_proved(self) -> None:
        page = self.open(f"/sites/{SITE}-twin")
        expect(page.get_by_text("never refreshed")).to_be_visible()
        page.get_by_role("button", name="Refresh from its site…").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("its link and its seats stay its own")
        dialog.get_by_role("button", name="Refresh from its site").click()
        expect(page.get_by_text("as its site on")).to_be_visible(timeout=30_000)
        page.goto(f"{self.demo.address}/sites/{SITE}")
        page.get_by_role("button", name="Prove its backup…").click()
        page.get_by_role("dialog").get_by_role("button", name="Prove its backup").click()
        expect(page.get_by_text("restored on the twin,")).to_be_visible(timeout=30_000)
        self.assertEqual(self.said, [])

    def test_many_sites_are_asked_anew_and_those_that_are_silent_are_named(self) -> None:
        told = self.folder(SITE).parent / "agent/faults.json"
        faults.put(told, {"silent": True})
        self.addCleanup(faults.put, told, {})
        page = self.open("/sites")
        page.get_by_role("button", name="Ask all anew").click()
        expect(page.get_by_text("answered; not Skerry Light Trust.")).to_be_visible(timeout=30_000)
        page.get_by_label("Name, client, tag or address").fill("Seapink")
        page.get_by_role("button", name="Ask 1 site anew").click()
        expect(page.get_by_text("1 of 1 answered.")).to_be_visible(timeout=30_000)
        self.assertEqual(self.said, [])

    def test_a_matter_tells_what_happened_and_what_each_way_loses_and_a_way_is_taken(self) -> None:
        told = self.folder(SHOP).parent / "agent/faults.json"
        faults.put(told, {"order": "put-back"})
        plan = self.windbreak.draft_plan(SHOP)
        self.windbreak.approve_plan(plan.id, "a test")
        run = self.windbreak.run_plan(plan.id, outside_window=True).id
        self.assertEqual(self.windbreak.wait(run, timeout=90).run.state, "alarm")
        page = self.open(f"/runs/{run}")
        expect(page.get_by_role("heading", level=1)).to_contain_text(
            "visitors see the maintenance page"
        )
        for fact in ("503, the maintenance page", "4 of 4 pages answer 500", "1 order"):
            expect(page.locator("dl").get_by_text(fact, exact=True)).to_be_visible()
        followed = page.get_by_role("list", name="What followed").get_by_role("listitem")
        kinds = ["broken", "put back", "broken", "page up"]
        expect(followed).to_have_count(len(kinds))
        for line, kind in zip(followed.all(), kinds, strict=True):
            expect(line.get_by_role("img", name=kind)).to_be_visible()
        ways = page.get_by_role("region", name="Ways out")
        expect(ways.get_by_role("list", name="What is lost")).to_contain_text("order")
        expect(ways.get_by_text("Put back the step: No step is left")).to_be_visible()
        ways.get_by_role("button", name="Restore and lose 1…").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("Lost by it: 1 order.")
        dialog.get_by_label("Why, for the ledger").fill("the owner knows")
        dialog.get_by_role("button", name="Restore and lose 1").click()
        expect(page.get_by_text("Closed by Rhona Vale")).to_be_visible(timeout=30_000)
        with page.expect_download() as download:
            page.get_by_role("link", name="The list, for its owner").click()
        head, row = download.value.path().read_text().splitlines()
        self.assertEqual((head, row.count("orders")), ("at,kind,name,text,amount", 1))
        self.assertEqual(self.said, [])
