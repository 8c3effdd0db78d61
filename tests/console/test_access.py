"""Every page by the rules of WCAG 2.2 AA: light, dark and narrow; and how much the first view is."""

import gzip
import json
from pathlib import Path

from playwright.sync_api import expect

from tests.console.test_console import WithBrowser
from windbreak.core.values.rollouts import NewRollout

AXE = Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js"
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
EVERY = {"type": "tag", "values": RULES}
# Of a theme nothing but its colours is another.
COLOURS = {"type": "rule", "values": ["color-contrast"]}
PLACES: tuple[tuple[str, int, str, dict[str, object]], ...] = (
    ("wide", 1280, "light", {**EVERY}),
    ("dark", 1280, "dark", {**COLOURS}),
    ("narrow", 390, "light", {**EVERY}),
)
MOST_KB = 150


class Access(WithBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        plan = cls.windbreak.draft_plan("skerry-light")
        cls.windbreak.approve_plan(plan.id, "a test")
        run = cls.windbreak.run_plan(plan.id, outside_window=True)
        cls.windbreak.wait(run.id, timeout=60)
        cls.windbreak.draft_plan("whinchat-radio")
        new = NewRollout(sites=("seapink-florists", "tarnsey-harbour"), why="a test")
        rollout = cls.windbreak.approve_rollout(new)
        cls.pages = (
            *("/", "/sites", "/sites/tarnsey-harbour", "/sites/whinchat-radio/plan"),
            *("/sites/skerry-light/plan", "/products", "/products/plugin/trestle"),
            *("/products/theme/breakwater", "/licences", "/runs", f"/runs/{run.id}", "/nowhere"),
            *("/calendar", f"/rollouts/{rollout.id}", f"/ledger?entry={cls.end_of(run.id)}"),
        )

    @classmethod
    def end_of(cls, run: int) -> int:
        """The line of the ledger that tells of a run's end."""
        return next(x.id for x in cls.windbreak.ledger() if x.run == run and x.came is not None)

    def test_no_page_breaks_a_rule_or_scrolls_sideways(self) -> None:
        axe = AXE.read_text()
        for name, width, theme, rules in PLACES:
            page = self.open("/", width, color_scheme=theme)
            for path in (*self.pages, "/sign-in"):
                with self.subTest(path=path, as_=name):
                    page.goto(self.demo.address + path)
                    page.wait_for_selector("main h1, main .head, main form")
                    page.wait_for_timeout(250)
                    page.evaluate(axe)
                    told = page.evaluate("rules => axe.run({runOnly: rules})", rules)
                    broken = [
                        (v["id"], [(n["target"], n["failureSummary"]) for n in v["nodes"]][:4])
                        for v in told["violations"]
                    ]
                    self.assertEqual(broken, [], json.dumps(broken, indent=1))
                    wide = page.evaluate("document.documentElement.scrollWidth")
                    self.assertLessEqual(wide, width, "it scrolls sideways")

    def test_the_first_view_is_small(self) -> None:
        bodies: dict[str, int] = {}
        context = self.browser.new_context(storage_state=self.session)
        self.addCleanup(context.close)
        page = context.new_page()
        page.on(
            "response",
            lambda r: bodies.__setitem__(r.url, len(gzip.compress(r.body(), 9)))
            if r.url.endswith((".js", ".css"))
            else None,
        )
        page.goto(self.demo.address)
        page.wait_for_selector("main h1")
        page.wait_for_timeout(500)
        self.assertLessEqual(sum(bodies.values()), MOST_KB * 1000, bodies)
        self.assertGreater(len(bodies), 3)

    def test_the_box_and_the_menu_are_there_when_they_are_gone_to(self) -> None:
        page = self.open("/")
        page.wait_for_selector("main h1")
        page.keyboard.press("/")
        page.keyboard.type("whinchat")
        options = page.locator(".menu [role=option]")
        expect(options).to_have_text(["waitingWhinchat Radio"])
        page.keyboard.press("Escape")
        expect(options).to_have_count(0)
        page.get_by_role("button", name="Rhona Vale").click()
        page.get_by_role("menuitem", name="Sign out").wait_for()
        page.keyboard.press("Escape")
        page.locator("h1").click()
        page.keyboard.press("?")
        page.get_by_role("heading", name="Keys").wait_for()
        self.assertEqual(self.said, [])
