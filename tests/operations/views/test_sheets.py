"""A plan as a sheet: its times are those the plan is reckoned by, step by step."""

from tests.operations.runs.within import WithRuns
from windbreak.operations.planning import planning
from windbreak.operations.scheduling import estimates
from windbreak.operations.views import sheets

SITE = "skerry-light"


class Sheets(WithRuns):
    def test_each_step_has_its_time_and_that_of_the_migrations_it_brings(self) -> None:
        self.with_shop()
        self.site(SITE)
        plan = planning.draft(self.context, SITE)
        migrating = [b.step for b in plan.brings if b.kind == "migrate" and b.by == "run"]
        self.assertTrue(migrating)
        sheet, usual = sheets.sheet(self.context, plan.id), estimates.USUAL
        for step, row in zip(plan.plan.steps, sheet.steps, strict=True):
            moving = usual["migrate"] * migrating.count(row.number)
            self.assertEqual(row.minutes * 60, usual[estimates.kind_of(step)] + moving)
        steps = sum(step.minutes for step in sheet.steps)
        self.assertEqual(sheet.minutes, sheet.before_minutes + steps + sheet.after_minutes)
