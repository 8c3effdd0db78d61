"""The ledger in a real browser: narrowed, unfolded, exported; a client's month."""

from playwright.sync_api import expect

from tests.console.test_console import WithBrowser

SITE, SHOP = "skerry-light", "seapink-florists"  # the shop's update is restored


class LedgerPage(WithBrowser):
    def test_it_is_narrowed_by_words_and_a_run_is_unfolded_there(self) -> None:
        plan = self.windbreak.draft_plan(SHOP)
        self.windbreak.approve_plan(plan.id, "they asked for it")
        run = self.windbreak.run_plan(plan.id, outside_window=True).id
        self.windbreak.wait(run, timeout=90)
        page = self.open("/ledger")
        entries = page.get_by_role("region", name="Entries")
        page.get_by_label("Site, product, person or word").fill("seapink asked")
        expect(entries.get_by_role("row").filter(has_text="“they asked for it”")).to_have_count(2)
        expect(page).to_have_url(f"{self.demo.address}/ledger?words=seapink+asked")
        page.get_by_role("button", name="put back or failed").click()
        end = entries.get_by_role("button", name=f"run {run} on Seapink Florists")
        expect(end).to_have_count(1)
        end.click()
        expect(entries.get_by_text("may go because")).to_be_visible()
        expect(entries.get_by_text("pages white").first).to_be_visible()
        page.reload()
        expect(entries.get_by_text("may go because")).to_be_visible()  # the address keeps it
        with page.expect_download() as told:
            page.get_by_role("link", name="Export as CSV").click()
        rows = told.value.path().read_text().splitlines()
        self.assertEqual(len(rows), 2)
        self.assertIn("they asked for it", rows[1])
        page.get_by_role("link", name="Open the run").click()
        expect(page).to_have_url(f"{self.demo.address}/runs/{run}")
        self.assertEqual(self.said, [])

    def test_a_clients_month_is_told_and_kept_as_a_file(self) -> None:
        plan = self.windbreak.draft_plan(SITE)
        self.windbreak.approve_plan(plan.id, "a test")
        self.windbreak.wait(self.windbreak.run_plan(plan.id, outside_window=True).id, timeout=90)
        page = self.open("/ledger?client=Skerry+Light+Trust")
        report = page.get_by_role("complementary", name="Report for a client")
        expect(report).to_contain_text("updates in one night. None had to be put back.")
        expect(report).not_to_contain_text("as before on")
        report.get_by_label("with what was seen after each step").check()
        expect(report).to_contain_text("as before on")
        with page.expect_download() as told:
            report.get_by_role("link", name="Keep it as a file").click()
        self.assertTrue(told.value.suggested_filename.startswith("Skerry Light Trust 20"))
        self.assertIn("None had to be put back", told.value.path().read_text())
        report.get_by_role("button", name="Skerry Light Trust").click()
        page.get_by_role("option", name="Tarnsey Borough").click()
        expect(report.get_by_role("heading", name="Tarnsey Borough")).to_be_visible()
        page.emulate_media(media="print")
        expect(report.get_by_role("heading", name="Tarnsey Borough")).to_be_visible()
        expect(page.get_by_role("heading", name="Ledger")).to_be_hidden()
        self.assertEqual(self.said, [])
