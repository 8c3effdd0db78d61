"""The stand-in content system: what really happens when versions do not stand each other."""

import json
import tempfile
import unittest
from pathlib import Path

from windbreak.standins.catalogue import CORE, LOOM
from windbreak.standins.fleet import SITES, lay_out, put
from windbreak.standins.millrace import MillraceSite


class WithSite(unittest.TestCase):
    slug = "tarnsey-harbour"

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        demo = next(s for s in SITES if s.slug == self.slug)
        self.site, self.agent = lay_out(Path(folder.name), demo)

    def replace(self, product: str, version: str) -> None:
        put(self.site, product, version)


class Pages(WithSite):
    def test_a_site_as_laid_out_works(self) -> None:
        self.assertEqual(self.site.effects(), {})
        status, text = self.site.page("/", past_caches=True)
        self.assertEqual(status, 200)
        self.assertIn("<h1>Tarnsey Harbour Museum</h1>", text)
        self.assertIn("Breakwater 5.0", text)
        self.assertIn('data-block="3"', self.site.editor("visit")[1])
        self.assertEqual(self.site.page("/nowhere", past_caches=True)[0], 404)

    def test_an_old_page_builder_on_a_new_core_empties_the_editor_only(self) -> None:
        self.replace(CORE, "6.4.3")
        self.assertEqual(self.site.page("/", past_caches=True)[0], 200)
        status, text = self.site.editor("visit")
        self.assertEqual((status, "data-block" in text), (200, False))
        self.assertIn("plugin/trestle 4.8 with core/millrace 6.4.3", self.site.errors()[0])

    def test_a_theme_without_what_it_needs_breaks_the_pages(self) -> None:
        self.replace("theme/breakwater", "5.2")
        self.assertEqual(self.site.page("/", past_caches=True)[0], 500)
        self.assertEqual(self.site.editor("visit")[0], 500)

    def test_what_is_switched_off_breaks_nothing(self) -> None:
        self.replace(CORE, "6.4.3")
        self.site.switch("plugin/trestle", False)
        self.assertIn("data-block", self.site.editor("visit")[1])

    def test_a_broken_header_and_a_missing_theme_are_fatal(self) -> None:
        header = self.site.root / "plugins/oarlock/component.toml"
        header.write_text("kind =")
        self.assertEqual(self.site.page("/", past_caches=True)[0], 500)
        self.site.switch("plugin/oarlock", False)
        self.assertEqual(self.site.page("/", past_caches=True)[0], 200)
        self.site.set_setting("theme", "nowhere")
        self.assertIn("nowhere is not there", self.site.effects()["page"])

    def test_the_page_cache_hides_a_fault_until_one_looks_past_it(self) -> None:
        self.assertEqual(self.site.page("/", past_caches=False)[0], 200)
        self.replace("theme/breakwater", "5.2")
        self.assertEqual(self.site.page("/", past_caches=False)[0], 200)
        self.assertEqual(self.site.page("/", past_caches=True)[0], 500)
        self.site.set_setting("caches", "off")
        self.assertEqual(self.site.page("/", past_caches=False)[0], 500)

    def test_the_maintenance_page_is_before_everything(self) -> None:
        self.site.maintenance.write_text("")
        self.assertEqual(self.site.page("/", past_caches=True)[0], 503)


class WhitePages(WithSite):
    slug = "seapink-florists"

    def test_a_newer_form_of_data_can_not_be_read_by_the_older_version_again(self) -> None:
        self.replace("plugin/netloft", "1.8")
        self.assertEqual(self.site.page("/", past_caches=True), (200, ""))
        self.replace("plugin/netloft", "1.6")
        status, text = self.site.page("/", past_caches=True)
        self.assertEqual(status, 500)
        self.assertIn("read its data, form 2", text)

    def test_on_a_newer_runtime_the_same_release_works(self) -> None:
        self.site.set_setting("runtime", json.dumps({LOOM: "8.3"}))
        self.replace("plugin/netloft", "1.8")
        self.assertIn("Seapink", self.site.page("/", past_caches=True)[1])

    def test_what_visitors_write_leaves_a_mark(self) -> None:
        before = self.site.marks()
        with self.site.database() as db:
            db.execute("INSERT INTO orders (at) VALUES ('now')")
        self.assertNotEqual(self.site.marks(), before)
        self.assertEqual(self.site.counts()["orders"], 1)


class Themes(WithSite):
    def test_an_active_child_makes_its_parent_live(self) -> None:
        child = self.site.root / "themes/tarnsey-child"
        child.mkdir()
        (child / "component.toml").write_text(
            'kind = "theme"\nname = "Tarnsey Child"\nversion = "1.3"\nparent = "breakwater"\n'
        )
        site: MillraceSite = self.site
        site.set_setting("theme", "tarnsey-child")
        known = site.components()
        live = {c.folder for c in known if c.kind == "theme" and site.active(c, known)}
        self.assertEqual(live, {"tarnsey-child", "breakwater"})
