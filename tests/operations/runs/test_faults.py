"""Each fault that a site can have, seen handled in a run: what it ends as, and what was done."""

from typing import Any
from unittest import mock

from tests.operations.runs.within import WithRuns
from tests.operations.within import RHONA
from windbreak.core.values.runs import Run
from windbreak.links import signed_agent
from windbreak.operations.runs import debts, journal, keeping, runs, ways_out
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import marks, sites
from windbreak.standins.faults import KINDS, FaultRefused, read

SITE = "skerry-light"
PRODUCT = "plugin/oarlock"

# How a run ends with a fault: its state, and what its journal or its text must hold.
HANDLED: tuple[tuple[dict[str, Any], str, str], ...] = (
    ({"timed-out": {"apply": "did"}}, "done", "its state is asked"),
    ({"timed-out": {"apply": "did-not"}}, "done", "is not there: again"),
    ({"timed-out": {"snapshot": "did"}}, "done", "its state is asked"),
    ({"leftover": [PRODUCT]}, "done", "leftover of plugin/oarlock cleared"),
    ({"stale": [PRODUCT]}, "done", "stale of plugin/oarlock cleared"),
    ({"newest": [PRODUCT]}, "put back", "read back: 7.1.2"),
    ({"lie": [PRODUCT]}, "put back", "read back: 7.1.2"),
    ({"wrong-archive": [PRODUCT]}, "put back", "wrong-archive"),
    ({"not-writable": [PRODUCT]}, "put back", "not-writable"),
    ({"half": [PRODUCT]}, "put back", "broke off"),
    ({"white": [PRODUCT]}, "put back", "pages white"),
    ({"editor": [PRODUCT]}, "put back", "opens empty"),
    ({"cut": "apply"}, "done", "7.2"),
    ({"gone": {"apply": 2}}, "done", "7.2"),
    ({"lost": {"apply": 2}}, "done", "7.2"),
    ({"gone": {"snapshot": 2}}, "done", "7.2"),
    ({"slow": {"apply": 3}}, "done", "7.2"),
    ({"clock": 100}, "done", "7.2"),
    ({"room": 50}, "stopped", "only 50 MB are free"),
    ({"no-room": "snapshot"}, "stopped", "no room"),
    ({"no-room": "apply"}, "put back", "no room"),
    ({"order": "apply", "white": [PRODUCT]}, "put back", "pages white"),
)


class Faults(WithRuns):
    def run_with(self, faults: dict[str, Any], *, only: str | None = PRODUCT) -> Run:
        plan = self.approved(SITE) if only is None else self.approved_only(only)
        self.faults(SITE, **faults)
        try:
            return self.carried_out(plan)
        finally:
            self.faults(SITE)

    def test_each_fault_ends_as_it_should_and_nothing_is_left_switched_off(self) -> None:
        start = {c.product: c.version for c in self.laid_out()}
        for faults, state, words in HANDLED:
            with self.subTest(faults=faults):
                run = self.run_with(faults)
                self.assertEqual(run.state, state, run.text)
                told = " ".join([run.text, *(line.text for line in self.lines(run))])
                self.assertIn(words, told)
                applied = [a for a, s in self.acts(run) if s == "done" and a.startswith("apply")]
                self.assertEqual(len(applied), len(set(applied)))
                there = self.context.store.inventories.get(SITE)
                self.assertEqual(debts.owed(self.context, SITE), [])
                self.assertTrue(there.automatic_updates)
                self.assertEqual((there.caches, there.maintenance), (("plugin/lee",), False))
                self.assertEqual(self.status(SITE), 200)
                self.back_to(start)

    def test_a_call_that_never_arrives_though_its_agent_answers_comes_to_an_end(self) -> None:
        self.site(SITE)
        self.enterContext(mock.patch.object(journal, "_BETWEEN", 0.01))
        run = self.run_with({"unheard": "apply"})
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn("it was sent 6 times and never arrived", run.text)
        self.assertIn("status 405", run.text)
        self.assertEqual(debts.owed(self.context, SITE), [])

    def test_a_package_goes_in_parts_as_large_as_the_site_takes(self) -> None:
        self.site(SITE)
        self.enterContext(mock.patch.object(signed_agent, "PART_BYTES", (4 * 2**20, 300)))
        run = self.run_with({"body": 1})
        self.assertEqual(run.state, "done", run.text)

    def laid_out(self) -> Any:
        self.site(SITE)
        return self.context.store.inventories.get(SITE).components

    def back_to(self, start: dict[str, str]) -> None:
        """The site as it was laid out, for the next fault."""
        from windbreak.standins.fleet import put

        for component in self.place(SITE).components():
            if component.version != start[component.product]:
                import shutil

                kind = f"{component.kind}s" if component.kind != "core" else "core"
                shutil.rmtree(self.place(SITE).root / kind / component.folder)
                put(self.place(SITE), component.product, start[component.product])
        for matter in self.context.store.matters.all(open=True):
            self.context.store.matters.change(matter.id, closed_at=self.context.clock())
        sites.refresh(self.context, SITE)

    def test_an_order_that_came_in_keeps_the_snapshot_from_being_restored_by_itself(self) -> None:
        self.with_shop()
        self.site(SITE)
        run = self.run_with({"order": "migrate", "white": ["plugin/tollhouse"]}, only=None)
        self.assertEqual(run.state, "alarm", run.text)
        self.assertIn("Something was written since the snapshot", run.text)
        ways = {way.act: way for way in ways_out.ways(self.context, run.id)}
        self.assertFalse(ways["put-back-step"].possible)
        self.assertIn("had begun to move data", ways["put-back-step"].text)
        self.assertTrue(ways["restore"].possible)
        self.assertEqual(self.status(SITE), 503)

    def test_room_is_made_by_what_is_past_its_end_and_by_nothing_else(self) -> None:
        self.site(SITE)
        first = self.carried_out(self.approved_only("plugin/lee"))
        self.assertEqual(first.state, "done", first.text)
        self.assertEqual(keeping.past_end(self.context, SITE), [])  # it has two weeks yet
        self.context.kept_days = 0
        self.assertEqual([r.id for r in keeping.past_end(self.context, SITE)], [first.id])
        run = self.run_with({"no-room": "apply"})
        self.assertEqual(run.state, "done", run.text)
        self.assertTrue(any("were freed" in line.text for line in self.lines(run)))
        self.assertTrue(self.now(first).dropped)
        snapshots = list((self.place(SITE).root.parent / "agent" / "snapshots").glob("*.zip"))
        self.assertEqual(len(snapshots), 1)  # the last run's own

    def approved_only(self, product: str) -> Any:
        from windbreak.core.values.plans import ApprovePlan
        from windbreak.operations.planning import planning

        plan = planning.draft(self.context, SITE, only=frozenset({product}))
        return approving.approve(self.context, plan.id, ApprovePlan(why="x"), RHONA)

    def test_a_site_that_is_broken_already_is_not_worked_on(self) -> None:
        self.site(SITE)
        plan = self.approved(SITE)
        self.place(SITE).set_setting(f"spoilt:white:{PRODUCT}", plan.start[PRODUCT])
        run = self.carried_out(plan)
        self.assertEqual(run.state, "stopped", run.text)
        self.assertIn("broken already", run.text)
        self.assertFalse([a for a, s in self.acts(run) if s == "meant"])

    def test_a_page_that_takes_much_longer_is_worse(self) -> None:
        from windbreak.core.values.runs import Look
        from windbreak.links.probing import slower

        was = Look(name="News", status=200, seconds=1.0, bytes=10)
        for seconds, wanted in ((1.9, False), (2.1, True), (0.2, False)):
            now = was.model_copy(update={"seconds": seconds})
            self.assertEqual(slower(was, now), wanted, seconds)
        fast = was.model_copy(update={"seconds": 0.1})
        self.assertFalse(slower(fast, was.model_copy(update={"seconds": 0.9})))

    def test_pages_of_the_site_map_and_those_a_person_named_are_looked_at(self) -> None:
        from windbreak.core.values.sites import SiteChange

        self.site(SITE)
        told = SiteChange(pages=("/news/3",))
        marks.change(self.context, SITE, told, RHONA)
        run = self.carried_out(self.approved(SITE))
        (baseline,) = [e for e in self.lines(run) if e.kind == "baseline"]
        places = [look.where for look in baseline.detail.looks]
        self.assertIn("/news/3", places)
        self.assertEqual(len(places), len(set(places)))

    def test_a_run_that_broke_on_a_fault_of_ours_is_a_matter_and_can_be_taken_up(self) -> None:
        from unittest import mock

        from windbreak.operations.runs import matters, stepping

        self.site(SITE)
        plan = self.approved(SITE)
        run = runs.start(self.context, plan.id, RHONA.name)
        with (
            mock.patch.object(stepping, "_read_back", side_effect=RuntimeError("disk full")),
            self.assertRaises(RuntimeError),
        ):
            runs.carry_out(self.context, run.id)
        runs.broke(self.context, run.id, "disk full")
        (matter,) = matters.listed(self.context)
        self.assertIn("disk full", matter.text)
        with (
            mock.patch.object(stepping, "_read_back", side_effect=RuntimeError("still full")),
            self.assertRaises(RuntimeError),
        ):
            self.take(matter.id, "try-again")
        ways_out.broke(self.context, matter.id, "still full")
        self.assertIn("still full", matters.listed(self.context)[0].text)
        self.take(matter.id, "try-again")
        self.assertEqual(self.now(run).state, "done", self.now(run).text)
        applied = [a for a, s in self.acts(run) if s == "done" and a.startswith("apply")]
        self.assertEqual(len(applied), len(set(applied)))


class Typed(WithRuns):
    def test_every_kind_can_be_typed_and_nonsense_says_what_would_be_right(self) -> None:
        words = ("silent", "clock=420", "slow=apply:20", "slow=migrate:3", "leftover=plugin/lee")
        self.assertEqual(
            read(words),
            {
                "silent": True,
                "clock": 420.0,
                "slow": {"apply": 20.0, "migrate": 3.0},
                "leftover": ["plugin/lee"],
            },
        )
        for bad in ("sleepy", "slow=apply", "clock=soon", "timed-out=apply:maybe", "lie"):
            with self.subTest(bad=bad), self.assertRaises(FaultRefused):
                read([bad])
        typed = {
            "yes": "",
            "seconds": "=3",
            "MB": "=50",
            "kB": "=1024",
            "names": "=order_totals",
            "deep or large": "=deep",
            "products": "=plugin/lee",
            "call": "=apply",
            "call:seconds": "=apply:3",
            "status:times": "=502:3",
            "call:did or call:did-not": "=apply:did",
        }
        for name, kind in KINDS.items():
            with self.subTest(kind=name):
                self.assertEqual(list(read([f"{name}{typed[kind.takes]}"])), [name])
