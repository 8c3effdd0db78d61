"""The console in a real browser: signing in, the belt by keys, a run watched to its end."""

import re
import shutil
import unittest
from pathlib import Path
from typing import ClassVar

import httpx
from playwright.sync_api import (
    Browser,
    BrowserContext,
    Page,
    Route,
    StorageState,
    expect,
    sync_playwright,
)

from tests.running import WithDemo
from windbreak.standins import catalogue
from windbreak.standins.feeds import TOKEN
from windbreak.standins.millrace import MillraceSite, Part

CHECKS = '{"mail": {"name": "Mail", "state": "critical", "text": "Mail can’t be sent."}}'
CHROMIUM = "/usr/bin/chromium"
expect.set_options(timeout=20_000)  # a machine that does much else beside is no fault of a page's
ARGS = [
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
TOKENS = Path(__file__).parents[2] / "console/src/tokens.css"


class WithBrowser(WithDemo):
    """A demo and a browser that is signed in to it."""

    browser: ClassVar[Browser]
    session: ClassVar[StorageState]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.browser = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGS)
        cls.addClassCleanup(cls.browser.close)
        context = cls.browser.new_context()
        page = context.new_page()
        page.goto(cls.demo.link())
        page.wait_for_selector(".mast")
        cls.session = context.storage_state()
        context.close()

    def open(self, path: str, width: int = 1280, height: int = 800, **more: object) -> Page:
        context: BrowserContext = self.browser.new_context(
            viewport={"width": width, "height": height},
            storage_state=self.session,
            **more,  # type: ignore[arg-type]
        )
        self.addCleanup(context.close)
        page = context.new_page()
        self.said: list[str] = []
        page.on("console", lambda m: self.said.append(m.text) if m.type == "error" else None)
        page.on("pageerror", lambda e: self.said.append(str(e)))
        page.goto(self.demo.address + path)
        return page

    def dialog_ended(self, page: Page) -> None:
        """Waits until what a dialog asked for is done. While it is open the page behind it has no
        roles, so nothing of that page can be looked for by role."""
        expect(page.get_by_role("dialog")).to_have_count(0)


class Console(WithBrowser):
    def test_a_link_signs_in_once_and_leaves_the_address(self) -> None:
        context = self.browser.new_context()
        self.addCleanup(context.close)
        page = context.new_page()
        page.goto(self.demo.address)
        expect(page).to_have_url(re.compile("/sign-in$"))
        link = self.demo.link()
        page.get_by_label("Sign-in link").fill(link)
        page.get_by_role("button", name="Sign in", exact=True).click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("want you")
        other = self.browser.new_context().new_page()
        self.addCleanup(other.context.close)
        other.goto(link)
        expect(other.get_by_role("alert")).to_contain_text("used already")
        self.assertNotIn("#", other.url)

    def test_no_page_breaks_the_policy_or_scrolls_sideways(self) -> None:
        paths = ["/", "/sites", "/sites/tarnsey-harbour", "/sites/skerry-light/plan", "/runs"]
        paths += ["/products", "/products/plugin/trestle", "/licences"]
        for path in paths:
            for width in (390, 1280, 2560):
                with self.subTest(path=path, width=width):
                    page = self.open(path, width)
                    page.wait_for_selector("main h1, main .head")
                    page.wait_for_timeout(300)
                    wide = page.evaluate("document.documentElement.scrollWidth")
                    self.assertLessEqual(wide, width)
                    self.assertEqual(self.said, [])
                    page.context.close()

    def test_arrow_keys_walk_the_belt_and_enter_opens(self) -> None:
        page = self.open("/")
        belt = page.get_by_role("listbox", name="The fleet")
        belt.focus()
        page.keyboard.press("End")
        expect(belt.get_by_role("option", selected=True)).to_have_attribute(
            "aria-label", re.compile("Whinchat Radio: 4 moves waiting, waiting")
        )
        page.keyboard.press("ArrowLeft")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1)).to_have_text("Tarnsey Harbour Museum")

    def test_slash_finds_a_site(self) -> None:
        page = self.open("/")
        page.wait_for_selector(".finding")
        page.keyboard.press("/")
        page.keyboard.type("whin")
        page.get_by_role("option", name="waiting Whinchat Radio").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Whinchat Radio")

    def test_a_question_mark_tells_the_keys(self) -> None:
        page = self.open("/")
        page.wait_for_selector(".finding")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("walk the belt")
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)

    def test_filters_live_in_the_address(self) -> None:
        page = self.open("/sites?text=skerry")
        expect(page.locator("tbody tr")).to_have_count(2)
        page.get_by_role("button", name="any state").click()
        page.get_by_role("option", name="waiting").click()
        expect(page).to_have_url(re.compile("state=waiting"))
        page.reload()
        expect(page.get_by_role("button", name="waiting")).to_be_visible()
        page.get_by_label("Name, client, tag or address").fill("nobody")
        expect(page.get_by_text("No site fits")).to_be_visible()

    def test_sites_are_narrowed_by_what_they_run(self) -> None:
        page = self.open("/sites")
        page.get_by_label("that run").fill("trestle<5.0")
        page.keyboard.press("Enter")
        expect(page.locator("tbody tr")).to_have_count(1)
        expect(page).to_have_url(re.compile("runs=trestle"))
        page.get_by_label("that run").fill("trestle<<5")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("write it as trestle<5.1")
        page.get_by_label("that run").fill("")
        expect(page.locator("tbody tr")).to_have_count(5)

    def test_products_show_versions_in_use_and_lead_to_one(self) -> None:
        page = self.open("/products?text=trestle")
        expect(page.get_by_role("img", name="1 on 4.8, 1 on 5.0, 0 on 5.2")).to_be_visible()
        page.get_by_role("link", name="Trestle", exact=True).click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Trestle")
        expect(page.get_by_role("row", name=re.compile("^security 1"))).to_be_visible()
        expect(page.get_by_text("27 days")).to_be_visible()

    def test_a_hold_is_made_on_the_products_page(self) -> None:
        page = self.open("/products/plugin/tidetable")
        page.get_by_role("button", name="Hold…").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_role("button", name="Hold it everywhere")).to_be_disabled()
        dialog.get_by_label("Versions").fill("nonsense")
        dialog.get_by_label("Why").fill("a test")
        dialog.get_by_role("button", name="Hold it everywhere").click()
        expect(dialog.get_by_role("alert")).to_contain_text("range")
        dialog.get_by_label("Versions").fill(">=3.1")
        dialog.get_by_role("button", name="Hold it everywhere").click()
        expect(page.get_by_text("Now: held: a test")).to_be_visible()
        for hold in self.windbreak.holds():
            self.windbreak.lift_hold(hold.id)

    def test_which_of_two_packages_is_right_is_decided_with_a_reason(self) -> None:
        page = self.open("/products/theme/capstan")
        page.get_by_role("button", name="The new one…").click()
        page.get_by_role("dialog").get_by_label("Why").fill("its maker said so")
        page.get_by_role("button", name="Take the new package").click()
        self.dialog_ended(page)
        expect(page.get_by_role("button", name="The new one…")).to_have_count(0)
        known = {r.version: r for r in self.windbreak.releases("theme/capstan")}
        again = known["3.3"].republished
        assert again is not None
        self.assertEqual((again.decided, again.why), ("new", "its maker said so"))

    def test_licences_show_seats_grace_and_take_codes(self) -> None:
        page = self.open("/licences")
        row = page.locator("li.l", has_text="Breakwater 5")
        expect(row).to_contain_text("Tarnsey Harbour Museum, to")
        row.get_by_role("button", name="Enter the code…").click()
        page.get_by_role("button", name=re.compile("^Enter it on")).click()
        expect(page.get_by_role("dialog")).to_contain_text("its code is in place")
        page.get_by_role("button", name="Done").click()
        expect(row).not_to_contain_text("left")

    def test_feeds_show_what_their_credentials_lack_and_take_another(self) -> None:
        page = self.open("/licences")
        row = page.locator("li.f", has_text="The Chandlery")
        expect(row).to_contain_text("licences.read")
        expect(row).to_contain_text("orders.write")
        row.get_by_role("button", name="Replace…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("New credential (bearer)").fill("not-the-token-at-all")
        dialog.get_by_role("button", name="Seal and check it").click()
        expect(dialog.get_by_role("status")).to_contain_text("turned the credential away")
        self.windbreak.replace_credential("chandlery", TOKEN)
        self.windbreak.check_feed("chandlery")

    def test_an_archive_is_put_on_the_shelf_by_dropping_it(self) -> None:
        page = self.open("/products")
        page.get_by_role("button", name="Put a package on the shelf…").click()
        stamps = catalogue.find("plugin/oarlock-stamps", "2.0")
        drop = """([data]) => {
            const moved = new DataTransfer();
            moved.items.add(new File([new Uint8Array(data)], "stamps.zip"));
            const at = document.querySelector(".drop");
            at.dispatchEvent(new DragEvent("drop", { dataTransfer: moved, bubbles: true }));
        }"""
        page.wait_for_selector(".drop")
        page.evaluate(drop, [list(b"this is no archive")])
        page.get_by_role("button", name="Examine and keep it").click()
        expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("a zip archive")
        page.evaluate(drop, [list(catalogue.complete_download(stamps))])
        page.get_by_role("button", name="Examine and keep it").click()
        said = page.get_by_role("dialog").get_by_role("status")
        expect(said).to_contain_text("Oarlock Stamps 2.0 is on the shelf")
        expect(said).to_contain_text("inside the complete download")

    def test_a_finding_is_put_aside_and_brought_back(self) -> None:
        page = self.open("/")
        row = page.locator(".finding", has_text="disagrees with itself")
        row.get_by_role("button", name="Put aside…").click()
        page.get_by_role("dialog").get_by_label("Why").fill("they know")
        page.get_by_role("button", name="Put it aside").click()
        expect(row).to_have_count(0)
        page.get_by_text("1 finding put aside").click()
        expect(page.get_by_text("“they know”")).to_be_visible()
        page.get_by_role("button", name="Bring it back").click()
        expect(row).to_have_count(1)

    def test_a_component_tells_its_four_newest_and_what_lies_between(self) -> None:
        page = self.open("/sites/tarnsey-harbour")
        page.get_by_role("row", name=re.compile("Trestle")).get_by_role("button", name="More").click()
        more = page.locator("td.more")
        expect(more).to_contain_text("carried by this site’s theme")
        expect(more).to_contain_text("Uploads of drawings are cleaned.")

    def test_a_site_says_why_each_component_stands_where_it_does(self) -> None:
        page = self.open("/sites/tarnsey-harbour")
        row = page.get_by_role("row", name=re.compile("Millrace"))
        expect(row).to_contain_text("soaks until")
        expect(page.get_by_role("row", name=re.compile("Trestle"))).to_contain_text(
            "carried by Breakwater"
        )

    def test_sites_are_picked_and_approved_together(self) -> None:
        page = self.open("/sites")
        expect(page.get_by_label("Picked")).to_have_count(0)
        for label in ("Seapink Florists", "Whinchat Radio"):
            page.get_by_label(f"Pick {label}", exact=True).check()
        bar = page.get_by_label("Picked", exact=True)
        expect(bar).to_contain_text("2 picked: ")
        expect(bar).to_contain_text("wait there.")
        bar.get_by_role("button", name="Approve for 2…").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("Approve everything ready, for 2 sites")
        dialog.get_by_role("button", name="Leave it").click()
        bar.get_by_role("button", name="Pick none").click()
        expect(page.get_by_label("Picked", exact=True)).to_have_count(0)

    def test_a_network_stands_with_its_members_and_a_broken_one_by_name(self) -> None:
        place = MillraceSite(self.folder("seapink-florists"))
        self.addCleanup(self.windbreak.refresh_site, "seapink-florists")
        self.addCleanup(place.set_setting, "network", "[]")
        place.found_network((Part("roses", "Roses", ("plugin/oarlock",)), Part("lilies", "Lilies")))
        place.set_setting("checks", CHECKS)
        self.addCleanup(place.set_setting, "checks", "{}")
        self.windbreak.refresh_site("seapink-florists")
        page = self.open("/sites/seapink-florists")
        net = page.get_by_label("On a network")
        expect(net).to_contain_text("2 members: one installation, shared code")
        expect(net.get_by_role("row").nth(1)).to_contain_text("Roses")
        expect(net.get_by_role("row").nth(1)).to_contain_text("Oarlock")
        expect(net.get_by_role("row").nth(2)).to_contain_text("nothing more")
        expect(page.locator(".facts")).to_contain_text("1 of 6 not good, 1 of them critical")
        expect(page.locator(".facts")).to_contain_text("Mail can’t be sent")

    def test_what_a_site_could_do_without_becomes_a_plan_of_its_own(self) -> None:
        copy = self.folder("seapink-florists") / "plugins/oarlock-old"
        copy.mkdir()
        (copy / "component.toml").write_text('name = "Oarlock"\nversion = "6.1"\n')
        self.addCleanup(shutil.rmtree, copy)
        self.windbreak.refresh_site("seapink-florists")
        page = self.open("/sites/seapink-florists")
        row = page.get_by_label("Proposed apart").get_by_role("listitem")
        expect(row.first).to_contain_text("oarlock-old holds Oarlock 6.1 once more")
        row.first.get_by_role("button", name="Plan its removal").click()
        page.wait_for_url("**/plan")
        expect(page.get_by_label("Steps", exact=True)).to_contain_text("Oarlock 6.1")
        expect(page.get_by_label("Steps", exact=True)).to_contain_text("gone")
        expect(page.locator("main")).to_contain_text("It takes away, and moves nothing")
        expect(page.locator("main")).to_contain_text("1 product to leave")
        expect(page.get_by_label("Not in this plan")).to_have_count(0)

    def test_each_credential_stands_with_the_products_and_sites_that_use_it(self) -> None:
        page = self.open("/licences")
        table = page.get_by_label("Where each credential is used")
        expect(table.get_by_role("row").filter(has_text="The Chandlery")).to_contain_text("seen valid")
        own = table.get_by_role("row").filter(has_text="a code for each site").first
        expect(own).to_contain_text("Tarnsey Harbour Museum in grace")

    def test_a_plan_is_approved_run_and_watched_to_its_end_without_a_reload(self) -> None:
        self.slow("skerry-light-twin", apply=0.5)
        page = self.open("/sites/skerry-light-twin/plan")
        page.get_by_role("button", name="Make a plan").click()
        expect(page.locator(".rail li")).to_have_count(8)
        page.get_by_role("button", name=re.compile("Approve 6 steps")).click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("A step that fails is put back")
        dialog.get_by_role("button", name="Leave it").click()
        self.assertEqual(self.windbreak.plans("skerry-light-twin")[0].state, "draft")
        page.get_by_role("button", name=re.compile("Approve 6 steps")).click()
        page.get_by_role("dialog").get_by_role("button", name="Approve 6 steps").click()
        page.get_by_role("button", name="Run it now…").click()
        page.get_by_role("dialog").get_by_role("button", name=re.compile("Change")).click()
        expect(page).to_have_url(re.compile(r"/runs/\d+$"))
        expect(page.get_by_role("status")).to_have_text(
            "6 steps done, each looked at.", timeout=30_000
        )
        expect(page.get_by_role("row", name=re.compile("Editor"))).to_contain_text("as before")
        self.assertEqual(self.version("skerry-light-twin", "plugins/oarlock"), "7.2")
        self.assertEqual(self.said, [])

    def test_a_plan_shows_which_versions_go_together_and_what_would_be(self) -> None:
        page = self.open("/sites/tarnsey-harbour/plan")
        page.get_by_role("button", name=re.compile("Make a plan|Reckon again")).click()
        tabs = page.get_by_role("tab")
        expect(tabs.first).to_have_text("Millrace and Trestle")
        table = page.get_by_role("table", name=re.compile("Millrace across, Trestle down"))
        expect(table).to_contain_text("needs Millrace")
        tabs.nth(1).click()
        expect(page.get_by_role("img", name=re.compile("pairs"))).to_be_visible()
        field = page.get_by_role("textbox", name="What if")
        field.fill("remove lee")
        field.press("Enter")
        expect(page).to_have_url(re.compile(r"if=remove\+lee"))
        expect(page.get_by_text("Lee would be gone.")).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("Approve"))).to_have_count(0)
        field.fill("nonsense")
        field.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("write it as one of")
        page.goto(f"{self.demo.address}/sites/tarnsey-harbour/plan?if=remove+lee")
        page.get_by_role("button", name="Back to how it is").click()
        expect(page.get_by_role("list", name="Steps of the plan")).to_be_visible()

    def test_acts_stand_beside_a_component_and_on_a_products_page(self) -> None:
        page = self.open("/sites/tarnsey-harbour")
        row = page.get_by_role("row", name=re.compile("Trestle"))
        row.get_by_role("link", name="See it").click()
        expect(page).to_have_url(re.compile("if=licence"))
        expect(page.get_by_role("heading", name="What would be otherwise")).to_be_visible()
        page = self.open("/products/plugin/trestle")
        frees = page.get_by_role("region", name="What frees most")
        expect(frees).to_contain_text("frees")

    def test_a_site_is_registered_and_linked_by_the_line_of_the_console(self) -> None:
        site = "seapink-florists"
        httpx.post(f"{self.where[site]}/owner/unlink", trust_env=False)
        self.windbreak.refresh_site(site)
        page = self.open("/sites")
        page.get_by_role("button", name="Link a site…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name").fill("Merrow Choir")
        dialog.get_by_label("Address").fill(self.where[site])
        dialog.get_by_role("button", name="Register it").click()
        expect(dialog.get_by_role("alert")).to_contain_text("is Seapink Florists already")
        dialog.get_by_role("button", name="Leave it").click()

        page.goto(f"{self.demo.address}/sites/{site}")
        page.get_by_role("button", name="Link it…").click()
        page.get_by_role("button", name="Make the line").click()
        line = page.get_by_label("The line").input_value()
        page.get_by_role("button", name="It is pasted: link now").click()
        expect(page.get_by_role("alert")).to_contain_text("paste the line into it first")
        pasted = {"line": f"\n  {line} \t"}
        httpx.post(f"{self.where[site]}/owner/link", data=pasted, trust_env=False)
        page.get_by_role("button", name="It is pasted: link now").click()
        expect(page.get_by_role("dialog")).to_have_count(0)
        self.assertEqual(self.windbreak.site(site).link_state, "linked")

    def test_what_is_not_there_and_what_can_not_be_done_is_said(self) -> None:
        page = self.open("/sites/atlantis")
        expect(page.get_by_role("alert")).to_contain_text("atlantis")
        page = self.open("/nowhere")
        expect(page.get_by_role("heading", level=1)).to_have_text("There is no such place")

    def test_light_and_dark_follow_the_system_and_the_choice(self) -> None:
        page = self.open("/", color_scheme="dark")
        page.wait_for_selector(".mast")
        self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "dark")
        page.get_by_role("button", name=re.compile("Rhona Vale")).click()
        page.get_by_role("menuitem", name="Light page").click()
        self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "light")


class Away(WithBrowser):
    def test_a_service_that_goes_away_leaves_what_was_known_and_says_so(self) -> None:
        page = self.open("/sites")
        page.wait_for_selector("tbody tr")
        page.wait_for_timeout(5000)  # by then the other pages are there too
        self.demo.kill_service()
        self.addCleanup(self.demo.start_service)
        page.get_by_role("link", name="Today").click()
        page.get_by_role("link", name="Sites").click()
        page.evaluate("window.dispatchEvent(new Event('visibilitychange'))")
        expect(page.get_by_text("not live")).to_be_visible(timeout=15_000)
        expect(page.locator("tbody tr")).to_have_count(5)
        page.goto("about:blank")

    def test_a_page_that_can_not_be_loaded_says_so_and_the_rest_stands(self) -> None:
        page = self.open("/sign-in")
        loaded: list[str] = []

        def first_alone(route: Route) -> None:
            loaded.append(route.request.url)
            route.continue_() if len(loaded) == 1 else route.abort()

        page.route("**/assets/page-*.js", first_alone)
        page.goto(f"{self.demo.address}/sites")
        page.wait_for_selector("tbody tr")
        page.get_by_role("link", name="Runs").click()
        expect(page.get_by_role("alert")).to_contain_text("can’t be loaded")
        page.get_by_role("link", name="Sites").click()
        expect(page.locator("tbody tr")).to_have_count(5)


def _light(colour: str) -> float:
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    low = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * low[0] + 0.7152 * low[1] + 0.0722 * low[2]


def contrast(a: str, b: str) -> float:
    high, low = sorted((_light(a), _light(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


class Tokens(unittest.TestCase):
    def test_text_and_edges_have_their_contrast_in_light_and_dark(self) -> None:
        css = TOKENS.read_text()
        light, dark = css.split('[data-theme="dark"]')
        for name, text in (("light", light), ("dark", dark)):
            token = dict(re.findall(r"--([a-z0-9-]+):\s*(#[0-9A-Fa-f]{6})", text))
            grounds = ["paper", "sheet", "shade"]
            pairs = [(ink, g, 4.5) for ink in ("ink", "ink-2", "ink-3") for g in grounds]
            for tone in ("ready", "wait", "block", "alarm", "still"):
                pairs += [(tone, g, 4.5) for g in [*grounds, f"{tone}-tint"]]
            pairs += [("line-strong", g, 3.0) for g in ("paper", "sheet")]
            pairs += [("on-accent", "accent", 4.5)]
            for a, b, least in pairs:
                with self.subTest(theme=name, text=a, on=b):
                    self.assertGreaterEqual(contrast(token[a], token[b]), least)
