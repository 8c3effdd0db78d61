"""The nights in a real browser: the calendar, approving for many, a rollout's page, paper."""

import re
from datetime import timedelta

from playwright.sync_api import expect

from tests.console.test_console import WithBrowser
from windbreak.core.values.freezes import NewFreeze
from windbreak.core.values.rollouts import NewRollout


class Nights(WithBrowser):
    def test_everything_ready_is_drafted_approved_seen_and_stopped(self) -> None:
        page = self.open("/calendar")
        bars = page.locator(".over-bar")
        expect(bars.first).to_be_visible()
        count = bars.count()
        self.assertEqual(count, len(self.windbreak.nights().bookings))
        page.get_by_role("button", name="Approve what is ready").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text(re.compile(r"\d+ moves on \d+ sites"))
        expect(dialog).to_contain_text("each opens its own site")
        self.assertEqual(self.windbreak.rollouts(), [])  # it was only drafted
        dialog.get_by_label("Why").fill("a test")
        dialog.get_by_role("button", name=re.compile(r"Approve \d+ sites")).click()
        expect(page).to_have_url(re.compile(r"/rollouts/\d+$"))
        expect(page.get_by_role("heading", level=1)).to_contain_text("Everything ready")
        expect(page.locator(".wave-trees li")).to_have_count(count)
        grounds = page.locator(".wave-nights section")
        expect(grounds.first).to_contain_text(re.compile(r"\d+ [A-Z][a-z]{2}"))
        expect(page.locator(".gate .marks .g").first).to_be_visible()
        expect(page.locator(".gate .results path").first).to_be_visible()
        expect(page.get_by_text("“a test”")).to_be_visible()
        page.goto(f"{self.demo.address}/calendar")
        expect(page.locator(".bar.wave").first).to_be_visible()
        first = page.locator(".picked-bar h2").inner_text()
        page.locator(".over-bar[tabindex='0']").focus()
        page.keyboard.press("ArrowDown")
        expect(page.locator(".picked-bar h2")).not_to_have_text(first)
        expect(page.locator(".picked-bar")).to_contain_text("Why then.")
        expect(page.locator(".picked-bar")).to_contain_text("Reckoned at")
        page.get_by_role("button", name="As a table").click()
        expect(page.get_by_role("row").nth(1)).to_contain_text("approved")
        page.get_by_role("button", name="Take it out").click()
        page.get_by_role("dialog").get_by_role("button", name="Take it out").click()
        expect(page.get_by_role("dialog")).to_have_count(0)
        self.assertEqual(len(self.windbreak.bookings()), count - 1)
        (rollout,) = self.windbreak.rollouts()
        page.goto(f"{self.demo.address}/rollouts/{rollout.id}")
        page.get_by_role("button", name="Stop…").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("wait until you say go on")
        dialog.get_by_role("button", name="Stop it").click()
        expect(page.get_by_role("button", name="Go on…")).to_be_visible()
        self.assertEqual(self.windbreak.bookings(), [])
        self.assertEqual(self.said, [])

    def test_what_changed_since_a_draft_was_shown_is_told_and_asked(self) -> None:
        page = self.open("/calendar")
        page.get_by_role("button", name="Approve what is ready").click()
        dialog = page.get_by_role("dialog")
        approve = dialog.get_by_role("button", name=re.compile(r"Approve \d+ sites"))
        expect(approve).to_be_enabled()
        shown = self.windbreak.draft_rollout(NewRollout())
        first = min(m.starts_at for m in shown.members if m.starts_at is not None)
        member = next(m for m in shown.members if m.starts_at == first)
        freeze = NewFreeze(from_=first, to=first + timedelta(hours=9), site=member.site, reason="x")
        frozen = self.windbreak.add_freeze(freeze).freeze
        before = len(self.windbreak.rollouts())
        approve.click()
        alert = dialog.get_by_role("alert")
        expect(alert).to_contain_text("Something changed since this was shown. Nothing was approved.")
        expect(alert).to_contain_text(f"{member.label} can’t go")
        self.assertEqual(len(self.windbreak.rollouts()), before)
        approve.click()
        expect(page).to_have_url(re.compile(r"/rollouts/\d+$"))
        booked = next(b for b in self.windbreak.bookings() if b.site == member.site)
        self.assertGreaterEqual(booked.starts_at, freeze.to)
        self.windbreak.stop_rollout(self.windbreak.rollouts()[0].id)
        self.windbreak.lift_freeze(frozen.id)

    def test_canaries_are_changed_before_it_is_approved(self) -> None:
        page = self.open("/calendar")
        page.get_by_role("button", name="Approve what is ready").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Change them").click()
        box = dialog.get_by_role("checkbox", name="Tarnsey Harbour Museum")
        expect(box).to_be_visible()
        was = box.is_checked()
        box.click()
        expect(box).to_be_checked(checked=not was)
        expect(dialog.get_by_role("button", name=re.compile(r"Approve \d+ sites"))).to_be_enabled()
        page.keyboard.press("Escape")
        expect(dialog).to_have_count(0)

    def test_a_plan_on_paper_is_the_checklist_and_nothing_else(self) -> None:
        self.windbreak.draft_plan("tarnsey-harbour")
        page = self.open("/sites/tarnsey-harbour/plan")
        expect(page.get_by_text("Print it as a checklist")).to_be_visible()
        sheet = page.locator(".paper-sheet")
        expect(sheet).to_be_hidden()
        page.emulate_media(media="print")
        expect(sheet).to_be_visible()
        expect(page.locator(".mast")).to_be_hidden()
        expect(page.locator(".belt")).to_be_hidden()
        for text in ("Checklist: Tarnsey Harbour Museum", "Not booked", "must read", "What if"):
            expect(sheet).to_contain_text(text)
        steps = self.windbreak.plans("tarnsey-harbour")[0].plan.steps
        expect(sheet.locator(".no")).to_have_count(len(steps))

    def test_a_narrow_page_lists_the_nights(self) -> None:
        page = self.open("/calendar", 390)
        expect(page.locator(".nightlist .fold").first).to_be_visible()
        night = page.locator(".nl").first
        night.click()
        expect(page.locator(".nl-about")).to_contain_text("Why then.")
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
