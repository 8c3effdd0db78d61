"""How long runs are reckoned to take: by default, drawn towards what was seen, and shown."""

from datetime import UTC, datetime, timedelta

from tests.operations.runs.within import WithRuns
from tests.operations.within import WithContext
from windbreak.core.values.errands import Brought
from windbreak.core.values.estimates import Took
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.operations.scheduling import estimates, nights, timetables

SITE = "skerry-light"


def step(*products: str) -> PlannedStep:
    """A step with moves of some products."""
    moves = tuple(PlannedMove(product=p, from_="1", to="2", by=None) for p in products)
    return PlannedStep(moves=moves, why="")


STEPS = (step("plugin/lee"), step("core/millrace"), step("theme/a", "plugin/b"))


class WithTimes(WithContext):
    def seen(
        self,
        kind: str,
        seconds: float,
        *,
        times: int = 1,
        site: str = SITE,
        size: float | None = None,
    ) -> None:
        for _ in range(times):
            run = self.context.store.took.count() + 1
            took = {"id": 0, "run": run, "site": site, "host": "mole", "kind": kind, "size": size}
            at = datetime.now(UTC)
            self.context.store.took.add(Took.model_validate({**took, "seconds": seconds, "at": at}))

    def reckoned(self, kind: str) -> float:
        site = Site(id=SITE, label="x", address="https://x.example", host="mole")
        told = estimates.estimate(self.context, site, STEPS)
        parts = {"before": told.before, "snapshot": told.snapshot, "after": told.after}
        parts |= zip(map(estimates.kind_of, STEPS), told.steps, strict=True)
        return parts[kind]


class Estimates(WithTimes):
    def test_the_first_ones_are_usual_and_are_told_to_be(self) -> None:
        site = Site(id=SITE, label="x", address="https://x.example", host="mole")
        told = estimates.estimate(self.context, site, STEPS)
        kinds = ["before", "snapshot", "plugin", "core", "combined", "after"]
        for kind in kinds:
            self.assertAlmostEqual(self.reckoned(kind), estimates.USUAL[kind])
        self.assertAlmostEqual(told.seconds, sum(estimates.USUAL[kind] for kind in kinds))
        self.assertEqual(told.runs, 0)

    def test_few_are_drawn_towards_the_host_and_many_stand_for_themselves(self) -> None:
        usual = estimates.USUAL["plugin"]
        self.seen("plugin", 10)
        once = self.reckoned("plugin")
        self.assertTrue(10 < once < usual, once)
        self.seen("plugin", 10, times=30)
        often = self.reckoned("plugin")
        self.assertTrue(10 <= often < 12, often)

    def test_what_other_sites_of_its_host_took_counts_for_less_than_its_own(self) -> None:
        self.seen("plugin", 10, times=20, site="avocet-trust")
        of_host = self.reckoned("plugin")
        self.seen("plugin", 40, times=20)
        self.assertGreater(self.reckoned("plugin"), of_host)
        self.assertLess(abs(self.reckoned("plugin") - 40), abs(of_host - 40))

    def test_a_snapshot_is_reckoned_by_its_size(self) -> None:
        self.seen("snapshot", 100, times=30, site="avocet-trust", size=900)
        self.seen("snapshot", 10, site=SITE, size=0)  # it is a tenth of that one
        self.assertAlmostEqual(self.reckoned("snapshot"), 10, delta=4)
        self.seen("snapshot", 200, site=SITE, size=1900)  # it has grown
        self.assertAlmostEqual(self.reckoned("snapshot"), 200, delta=60)

    def test_a_migration_is_reckoned_with_its_step(self) -> None:
        site = Site(id=SITE, label="x", address="https://x.example", host="mole")
        bring = {"step": 2, "product": "plugin/lee", "version": "2", "kind": "migrate", "text": "x"}
        plain = estimates.estimate(self.context, site, STEPS).steps
        for by, more in (("run", estimates.USUAL["migrate"]), ("person", 0)):
            brings = (Brought.model_validate({**bring, "by": by}),)
            told = estimates.estimate(self.context, site, STEPS, brings).steps
            longer = [now - was for now, was in zip(told, plain, strict=True)]
            self.assertEqual([round(seconds) for seconds in longer], [0, more, 0], by)

    def test_going_back_is_the_long_one_of_those_that_were_seen(self) -> None:
        for seconds in (60, 60, 60, 60, 60, 60, 60, 60, 60, 600):
            self.seen("back", seconds)
        site = Site(id=SITE, label="x", address="https://x.example", host="mole")
        self.assertGreater(estimates.estimate(self.context, site, ()).back, 60)


class Taught(WithRuns, WithTimes):
    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)

    def test_a_run_teaches_each_part_and_says_how_far_off_it_was(self) -> None:
        plan = self.approved(SITE)
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done")
        took = self.context.store.took.all(run=run.id)
        kinds = [one.kind for one in took]
        self.assertEqual((kinds[:2], kinds[-1]), (["snapshot", "before"], "after"))
        self.assertGreater(took[0].size or 0, 0)
        self.assertEqual(
            sorted(kinds[2:-1]), sorted(estimates.kind_of(step) for step in plan.plan.steps)
        )
        whole = sum(one.seconds for one in took)
        length = (run.ended_at or run.started_at) - run.started_at
        self.assertAlmostEqual(whole, length.total_seconds(), delta=2)
        self.assertEqual(run.reckoned, round(sum(estimates.USUAL[kind] for kind in kinds)))

    def test_what_is_booked_is_reckoned_anew(self) -> None:
        plan = self.approved(SITE)
        self.context.store.plans.change(plan.id, to_book=True)
        timetables.keep(self.context)
        (booking,) = self.context.store.bookings.all(state="waiting")
        for kind in ("before", "after", "plugin", "core", "theme"):
            self.seen(kind, 1, times=40)
        timetables.keep(self.context)
        (now,) = self.context.store.bookings.all(state="waiting")
        self.assertEqual(now.id, booking.id)
        self.assertLess(now.minutes, booking.minutes)
        self.assertEqual(now.minutes, nights.reckon_plan(self.context, plan).minutes)
        self.assertGreaterEqual(timedelta(minutes=now.minutes), timedelta(minutes=1))
