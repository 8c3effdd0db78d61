"""Files held against their packages: changed in place, added, missing, and what nobody can tell."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

from tests.operations.within import WithContext, look_again
from windbreak.operations.errors import Refused
from windbreak.operations.planning import planning
from windbreak.operations.sites import integrity
from windbreak.operations.views import sheets
from windbreak.operations.views import sites as site_views

SITE = "skerry-light"


class Integrity(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site(SITE)
        self.folder = Path(self.demo.standins_folder) / SITE / "site/plugins/oarlock"
        self.was = {p: p.read_bytes() for p in self.folder.rglob("*") if p.is_file()}

    def tearDown(self) -> None:
        for path in [p for p in self.folder.rglob("*") if p.is_file()]:
            path.unlink()
        for path, data in self.was.items():
            path.write_bytes(data)

    def edit(self) -> None:
        (self.folder / "main.txt").write_text("changed in place")
        (self.folder / "cy.txt").write_text("Diolch")

    def test_each_file_is_told_as_what_became_of_it(self) -> None:
        self.edit()
        seen = integrity.look(self.context, SITE)
        oarlock = next(c for c in seen.components if c.product == "plugin/oarlock")
        self.assertEqual((oarlock.changed, oarlock.added), (("main.txt",), ("cy.txt",)))
        self.assertFalse(oarlock.pristine)
        others = [c for c in seen.components if c.product != "plugin/oarlock"]
        self.assertTrue(all(c.pristine for c in others if c.known))
        (self.folder / "main.txt").unlink()
        seen = integrity.look(self.context, SITE)
        oarlock = next(c for c in seen.components if c.product == "plugin/oarlock")
        self.assertEqual((oarlock.changed, oarlock.missing), ((), ("main.txt",)))

    def test_it_is_shown_on_the_site_found_and_known_before_a_plan_is_approved(self) -> None:
        self.edit()
        integrity.look(self.context, SITE)
        told = [f for f in look_again(self.context) if f.kind == "files"]
        self.assertIn("1 file changed in place (main.txt)", told[0].text)
        view = site_views.site_view(self.context, SITE)
        self.assertEqual([one.name for one in view.by_hand], ["Oarlock"])
        plan = planning.draft(self.context, SITE)
        (line,) = sheets.sheet(self.context, plan.id).by_hand
        self.assertIn("Oarlock: 1 file changed in place", line)

    def test_what_was_seen_of_another_version_is_not_told_of_this_one(self) -> None:
        self.edit()
        seen = integrity.look(self.context, SITE)
        self.assertIsNone(seen.of("plugin/oarlock", "99"))

    def test_a_package_that_cannot_be_had_leaves_it_unknown_and_says_why(self) -> None:
        for release in self.context.store.releases.all(product="plugin/oarlock"):
            self.context.store.releases.change(release.id, package=None)
        seen = integrity.look(self.context, SITE)
        oarlock = next(c for c in seen.components if c.product == "plugin/oarlock")
        self.assertFalse(oarlock.known)
        self.assertIn("can't be had", oarlock.why)

    def test_it_is_due_once_a_day_and_only_where_the_agent_can(self) -> None:
        site = self.context.store.sites.get(SITE)
        self.assertTrue(integrity.due(self.context, site))
        integrity.look(self.context, SITE)
        self.assertFalse(integrity.due(self.context, site))
        self.later = timedelta(days=1, minutes=1)
        self.assertTrue(integrity.due(self.context, site))
        old = site.model_copy(
            update={"link": site.link.model_copy(update={"agent_can": ("inventory",)})}
        )
        self.assertFalse(integrity.due(self.context, old))
        self.context.store.sites.change(SITE, link=old.link)
        with self.assertRaises(Refused) as caught:
            integrity.look(self.context, SITE)
        self.assertEqual(caught.exception.code, "agent-too-old")
