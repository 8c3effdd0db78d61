"""What leaves a site: by a plan of its own, with a way back, and never what is needed."""

from __future__ import annotations

from pathlib import Path

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA, look_again
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.releases import Bundled
from windbreak.operations.errors import Refused
from windbreak.operations.planning import removing
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites
from windbreak.operations.views import sheets
from windbreak.operations.views import sites as site_views
from windbreak.standins.millrace import MillraceSite

SITE, OFF = "tarnsey-harbour", "plugin/slate-editor"


class Removing(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.demo.standins_folder) / SITE / "site"
        self.site(SITE)

    def removal(self, *products: str) -> SitePlan:
        plan = removing.draft(self.context, SITE, products)
        return approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)

    def refused(self, *products: str) -> str:
        with self.assertRaises(Refused) as caught:
            removing.draft(self.context, SITE, products)
        return f"{caught.exception.code}: {caught.exception}"

    def test_a_plan_takes_one_thing_away_and_nothing_else_moves(self) -> None:
        before = self.context.store.inventories.get(SITE)
        plan = self.removal(OFF)
        (step,) = plan.plan.steps
        self.assertEqual((step.leaving, plan.removes), ((OFF,), (OFF,)))
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        self.assertFalse((self.folder / "plugins/slate-editor").exists())
        now = {c.product: c.version for c in self.context.store.inventories.get(SITE).components}
        self.assertEqual(now, {c.product: c.version for c in before.components if c.product != OFF})
        story = site_views.site_view(self.context, SITE)
        self.assertNotIn(OFF, [c.product for c in story.components])

    def test_what_breaks_the_pages_once_it_is_gone_is_put_back(self) -> None:
        """Foglamp says nothing of it, and can't do without Tidetable."""
        header = self.folder / "plugins/foglamp/component.toml"
        header.write_text(
            header.read_text() + '\n[[stands]]\nproduct = "plugin/tidetable"\nrange = ">0"\n'
            'needed = true\neffect = "page"\n'
        )
        sites.refresh(self.context, SITE)
        run = self.carried_out(self.removal("plugin/tidetable"))
        self.assertEqual(run.state, "put back", run.text)
        self.assertTrue((self.folder / "plugins/tidetable/component.toml").exists())
        self.assertEqual(MillraceSite(self.folder).setting("on:plugin/tidetable"), "on")
        self.assertEqual(self.context.store.failed_moves.all(), [])

    def test_what_is_needed_stays_and_says_for_whom(self) -> None:
        self.assertIn(
            "asks for Breakwater Keel: it would be brought back",
            self.refused("plugin/breakwater-keel"),
        )
        self.assertIn("in-use", self.refused("theme/breakwater"))
        self.assertIn("last-spare", self.refused("theme/plainsail"))
        self.assertIn("not-removable", self.refused("core/millrace"))
        self.assertIn("not-installed", self.refused("plugin/nothing"))
        self.assertEqual(self.context.store.plans.all(), [])

    def test_one_spare_theme_stays_whatever_leaves_together(self) -> None:
        spare = self.folder / "themes/dunes"
        spare.mkdir()
        (spare / "component.toml").write_text('kind = "theme"\nname = "Dunes"\nversion = "1.0"\n')
        sites.refresh(self.context, SITE)
        both = self.refused("theme/plainsail", "theme/dunes")
        self.assertIn("last-spare: without Dunes and Plainsail no theme is left", both)
        self.assertEqual(self.removal("theme/dunes").removes, ("theme/dunes",))

    def test_what_was_made_for_the_site_leaves_by_no_plan(self) -> None:
        self.context.store.sites.change(SITE, own=(OFF,))
        self.assertIn("was made for", self.refused(OFF))

    def test_a_site_that_changed_meanwhile_is_not_worked_on(self) -> None:
        plan = self.removal(OFF)
        header = self.folder / "plugins/oarlock/component.toml"
        header.write_text(header.read_text().replace("7.1.2", "7.2"))
        sites.refresh(self.context, SITE)
        with self.assertRaises(Refused):
            runs.start(self.context, plan.id, RHONA.name)
        self.assertTrue((self.folder / "plugins/slate-editor").exists())

    def test_a_second_copy_is_proposed_with_what_speaks_for_it(self) -> None:
        copy = self.folder / "plugins/oarlock-old"
        copy.mkdir(exist_ok=True)
        (copy / "component.toml").write_text('name = "Oarlock"\nversion = "6.1"\n')
        sites.refresh(self.context, SITE)
        (finding,) = [f for f in look_again(self.context) if f.kind == "copy"]
        self.assertEqual(
            (finding.act.act, finding.act.on["product"]), ("remove", "plugin/oarlock-old")
        )
        proposed = {p.product: p for p in site_views.site_view(self.context, SITE).proposals}
        self.assertEqual(proposed["plugin/oarlock-old"].why, "copy")
        plan = removing.draft(self.context, SITE, ["plugin/oarlock-old"])
        self.assertIn("no update reaches it", plan.plan.steps[0].why)
        sheet = sheets.sheet(self.context, plan.id)
        self.assertIsNone(sheet.steps[0].moves[0].end)

    def test_of_two_that_a_theme_takes_the_one_that_is_off_is_proposed(
        self,
    ) -> None:
        """Trestle is on and Slate Editor is off; Breakwater takes either."""
        release = self.context.store.releases.get("theme/breakwater@5.0")
        either = {"plugin/trestle": "4.8", OFF: "1.9"}
        bundles = {p: Bundled(version=v, need="alternative") for p, v in either.items()}
        self.context.store.releases.change(release.id, bundles={**release.bundles, **bundles})
        whys = {p.product: p for p in site_views.site_view(self.context, SITE).proposals}
        self.assertEqual(whys[OFF].why, "alternative")
        self.assertIn("Breakwater takes Slate Editor or Trestle; Trestle is in use", whys[OFF].text)
        MillraceSite(self.folder).switch(OFF, on=True)
        sites.refresh(self.context, SITE)
        proposed = site_views.site_view(self.context, SITE).proposals
        self.assertNotIn("alternative", [p.why for p in proposed])
