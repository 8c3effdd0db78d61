"""What came of a release is kept: where it was seen working, where it was put back."""

from __future__ import annotations

from tests.operations.runs.within import WithRuns
from windbreak.core.values.outcomes import Outcome
from windbreak.operations.planning import planning
from windbreak.operations.runs import outcomes
from windbreak.operations.views import products

SITE = "skerry-light"


class Outcomes(WithRuns):
    def kept(self, **of: object) -> list[Outcome]:
        return self.context.store.outcomes.all(**of)

    def test_each_release_of_a_run_that_ended_well_was_seen_working_beside_its_neighbours(
        self,
    ) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        run = self.carried_out(plan)
        kept = {one.product: one for one in self.kept(run=run.id)}
        self.assertEqual({p: o.version for p, o in kept.items()}, dict(plan.targets))
        self.assertEqual({o.came for o in kept.values()}, {"working"})
        there = self.context.store.inventories.get(SITE)
        beside = kept["plugin/oarlock"].beside
        self.assertEqual(beside["core/millrace"], there.version_of("core/millrace"))
        self.assertEqual(set(beside), {"core/millrace", "theme/plainsail", "runtime/loom"})
        text = products.product(self.context, "plugin/oarlock").came["7.2"]
        self.assertRegex(text, r"^Seen working on 1 site since \w+ \d+ \w+\.$")

    def test_what_failed_says_where_and_in_which_run_and_nothing_else_of_the_run_counts(
        self,
    ) -> None:
        self.site("whinchat-radio")
        run = self.carried_out(self.approved("whinchat-radio"))
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn(("step 1", "done"), self.acts(run))  # Lee went before
        kept = {one.product: one.came for one in self.kept(run=run.id)}
        self.assertEqual(kept, dict.fromkeys(("plugin/trestle", "theme/breakwater"), "put back"))
        told = outcomes.sentences(self.context, "plugin/trestle")["5.1"]
        self.assertEqual(told, f"Put back on Whinchat Radio (run {run.id}).")
        again = planning.draft(self.context, "whinchat-radio")
        read = [b.text for b in again.brings if b.by == "nobody" and b.product == "plugin/trestle"]
        self.assertIn(told, read)  # whoever approves the same move reads it beside the step
