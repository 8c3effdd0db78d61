"""Snapshots and kept folders on the sites: let go of when they are past their end, not before."""

from datetime import timedelta
from pathlib import Path

from tests.operations.runs.within import SHOP, WithRuns
from windbreak.operations.runs import keeping


class Keeping(WithRuns):
    def kept(self, slug: str) -> list[Path]:
        agent = self.place(slug).root.parent / "agent"
        return [*(agent / "snapshots").iterdir(), *(agent / "kept").iterdir()]

    def test_what_a_run_that_ended_well_left_goes_after_so_many_days(self) -> None:
        self.site("skerry-light")
        run = self.carried_out(self.approved("skerry-light"))
        self.assertEqual(run.state, "done", run.text)
        self.assertTrue(self.kept("skerry-light"))
        for days, over in ((13, False), (15, True)):
            self.later = timedelta(days=days)
            self.assertEqual(bool(keeping.past_end(self.context, "skerry-light")), over)
        self.later = timedelta(0)
        keeping.tidy(self.context, "skerry-light")
        self.assertTrue(self.kept("skerry-light"))
        self.context.kept_days = 0
        keeping.tidy(self.context, "skerry-light")
        self.assertEqual(self.kept("skerry-light"), [])
        self.assertEqual(keeping.past_end(self.context, "skerry-light"), [])

    def test_what_an_open_matter_may_need_stays(self) -> None:
        run = self.alarm()
        self.context.kept_days = 0
        keeping.tidy(self.context, SHOP)
        self.assertTrue(self.kept(SHOP))
        self.take(run.id, "accept")
        keeping.tidy(self.context, SHOP)
        self.assertEqual(self.kept(SHOP), [])

    def test_a_site_that_is_silent_is_tidied_another_day(self) -> None:
        self.site("skerry-light")
        self.carried_out(self.approved("skerry-light"))
        self.context.kept_days = 0
        self.faults("skerry-light", silent=True)
        keeping.tidy(self.context, "skerry-light")
        self.faults("skerry-light")
        self.assertTrue(keeping.past_end(self.context, "skerry-light"))
