"""The second look at a site: its pages from outside, whatever its agent says."""

from collections.abc import Callable
from datetime import timedelta
from unittest import mock

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA, look_again
from windbreak.core.values.findings import Finding
from windbreak.core.values.runs import Look
from windbreak.core.values.sites import SiteChange
from windbreak.links.visiting import Visiting
from windbreak.operations.runs import runs
from windbreak.operations.sites import marks, sites, visits
from windbreak.operations.views import sites as site_views

SITE = "skerry-light"
QUARTER = timedelta(minutes=15)


class Visits(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        pause = mock.patch.object(visits, "_AGAIN_AFTER", 0.01)
        pause.start()
        self.addCleanup(pause.stop)
        self.site(SITE)

    def looked(self, **faults: object) -> str:
        self.faults(SITE, **faults)
        self.addCleanup(self.faults, SITE)
        return visits.visit(self.context, self.context.store.sites.get(SITE)).state

    def broken_at(self, place: str, times: int = 99) -> Callable[..., Look]:
        """Looks of which those at one place see 500, so many times."""
        left = [times]

        def look(site: Visiting, name: str, where: str) -> Look:
            bad = where == place and left[0] > 0
            left[0] -= bad
            return Look(name=name, where=where, status=500 if bad else 200, seconds=0, bytes=9)

        return look

    def finding(self) -> Finding | None:
        return next((f for f in look_again(self.context) if f.id == f"pages:{SITE}"), None)

    def test_pages_that_answer_500_beside_an_agent_that_answers_are_the_most_urgent(self) -> None:
        self.assertEqual(visits.of(self.context, SITE).state, "fine")  # linking looked at them too
        self.assertEqual(self.looked(broken=True), "broken")
        finding = self.finding()
        assert finding is not None
        self.assertEqual((finding.state, finding.weight), ("failed", "critical"))
        self.assertIn("Its front page answers 500. Its agent answers.", finding.text)
        self.assertEqual(look_again(self.context)[0].id, finding.id)
        (row,) = [r for r in site_views.summaries(self.context) if r.id == SITE]
        self.assertEqual((row.state, row.text), ("failed", "Its front page answers 500."))
        self.assertEqual(self.context.store.sites.get(SITE).link.state, "linked")
        self.assertEqual(self.looked(), "fine")
        self.assertIsNone(self.finding())
        said = [line.what for line in self.context.store.ledger.all(subject=SITE)]
        self.assertEqual([what.rpartition(" ")[2] for what in said[-2:]], ["broken", "again"])

    def test_a_refresh_looks_at_both_and_says_what_neither_hides(self) -> None:
        self.faults(SITE, broken=True, silent=True)
        self.addCleanup(self.faults, SITE)
        site = sites.refresh(self.context, SITE)
        self.assertEqual(site.link.state, "silent")
        self.assertIn("Its front page answers 500, and ", site.link.reason)
        self.assertEqual(visits.of(self.context, SITE).state, "broken")
        self.faults(SITE, down=True)
        self.until(lambda: visits.seen_now(self.context, site).state == "unreachable")
        site = sites.refresh(self.context, SITE)
        self.assertEqual(site.link.state, "down")
        self.assertEqual(visits.of(self.context, SITE).state, "unreachable")
        self.assertIsNone(self.finding())  # the link's finding tells it

    def test_pages_named_by_a_person_are_looked_at_too(self) -> None:
        change = SiteChange(pages=("/nowhere", "/news/a"))
        marks.change(self.context, SITE, change, RHONA)
        with mock.patch.object(visits, "look_at", side_effect=self.broken_at("/news/a")):
            self.assertEqual(self.looked(), "broken")
        self.assertEqual(visits.of(self.context, SITE).reason, "/news/a answers 500.")

    def test_what_is_wrong_once_and_fine_the_second_time_is_fine(self) -> None:
        with mock.patch.object(visits, "look_at", side_effect=self.broken_at("/", times=1)):
            self.assertEqual(self.looked(), "fine")

    def test_the_same_seen_again_changes_nothing_and_has_its_own_time(
        self,
    ) -> None:
        self.looked()
        before = self.context.store.database.generation()
        self.later = timedelta(minutes=10)
        self.assertEqual(visits.due(self.context, QUARTER), [])
        self.later = timedelta(minutes=16)
        self.assertEqual([site.id for site in visits.due(self.context, QUARTER)], [SITE])
        self.looked()
        self.assertEqual(self.context.store.database.generation(), before)
        self.assertEqual(visits.due(self.context, QUARTER), [])

    def test_a_site_on_which_a_run_works_is_left_to_the_run(self) -> None:
        plan = self.approved(SITE)
        run = runs.start(self.context, plan.id, RHONA.name)
        self.assertTrue(visits.is_worked_on(self.context, SITE))
        self.later = timedelta(hours=1)
        self.assertEqual(visits.due(self.context, QUARTER), [])
        looked_at = visits.of(self.context, SITE).looked_at
        self.assertEqual(self.looked(broken=True), "fine")
        self.assertEqual(visits.of(self.context, SITE).looked_at, looked_at)
        self.faults(SITE)
        self.later = timedelta()
        self.assertEqual(runs.carry_out(self.context, run.id).state, "done")
