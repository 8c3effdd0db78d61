"""Runs: two starts at one instant, what a run leaves behind, and what it does not."""

import threading
from typing import Any
from unittest import mock

from tests.operations.within import RHONA, WithContext, catch_up
from windbreak.core.values.products import ProductChange
from windbreak.core.values.sites import Host
from windbreak.operations.errors import Refused
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import inventories, sites
from windbreak.operations.tracking import catalogue
from windbreak.operations.views import sites as site_views
from windbreak.operations.views.sites import Wanted

TWO = ("skerry-light", "skerry-light-twin")


class Starts(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for slug in TWO:
            self.site(slug)
        host = self.context.store.hosts.get(self.context.store.sites.get(TWO[0]).host or "")
        for slug in TWO:
            self.context.store.sites.change(slug, host=host.id)
        self.context.store.hosts.put(Host.model_validate({**host.model_dump(), "at_once": 1}))

    def together(self, plans: list[int]) -> list[str]:
        """Start runs so that all have passed every look outside the transaction before any is in
        it; how each ended.
        """
        ready = threading.Barrier(len(plans))
        real = approving.check_start
        ended: list[str] = []

        def meets(*args: Any) -> None:
            real(*args)
            ready.wait(20)

        def begin(plan: int) -> None:
            try:
                runs.start(self.context, plan, RHONA.name)
                ended.append("begun")
            except Refused as error:
                ended.append(error.code)
            finally:
                self.context.store.close()

        with mock.patch.object(approving, "check_start", meets):
            threads = [threading.Thread(target=begin, args=(plan,)) for plan in plans]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join(30)
        return sorted(ended)

    def test_two_starts_on_one_host_at_one_instant_keep_its_limit(self) -> None:
        plans = [self.approved(slug).id for slug in TWO]
        self.assertEqual(self.together(plans), ["begun", "host-busy"])
        self.assertEqual(self.context.store.runs.count(state="running"), 1)

    def test_two_starts_of_one_plan_are_one_run(self) -> None:
        plan = self.approved(TWO[0]).id
        self.context.store.hosts.put(
            self.context.store.hosts.all()[0].model_copy(update={"at_once": 9})
        )
        self.assertEqual(self.together([plan, plan]), ["begun", "site-busy"])


class Afterwards(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()

    def may_have(self, site: str) -> set[tuple[str, str]]:
        return {(r.product, r.version) for r in self.context.store.rights.all(site=site)}

    def test_what_was_put_back_gives_no_right_to_what_was_tried(self) -> None:
        self.site("whinchat-radio")
        before = self.may_have("whinchat-radio")
        plan = self.approved("whinchat-radio")
        self.assertEqual(self.carried_out(plan).state, "put back")
        targets = {(m.product, m.to) for step in plan.plan.steps for m in step.moves}
        took = {
            (r.product, r.version)
            for r in self.context.store.rights.all(site="whinchat-radio")
            if r.why == "run by it"
        }
        self.assertEqual(took & targets, set())
        self.assertLessEqual(before, self.may_have("whinchat-radio"))
        journal = self.context.store.journal.all(run=1)
        self.assertEqual([str(entry.act) for entry in journal if not entry.text], [])

    def test_what_went_well_is_what_it_runs_and_may_have_at_once(self) -> None:
        self.site("skerry-light")
        (core,) = [
            c
            for c in self.context.store.inventories.get("skerry-light").components
            if c.product == "core/millrace"
        ]
        fact = f"millrace<={core.version}"
        catch_up(self.context)
        asked = Wanted(runs=fact)
        self.assertEqual([r.id for r in site_views.summaries(self.context, asked)], [TWO[0]])
        plan = self.approved("skerry-light")
        self.assertEqual(self.carried_out(plan).state, "done")
        reached = {(p, v) for p, v in plan.targets.items() if not p.startswith("runtime/")}
        self.assertLessEqual(reached, self.may_have("skerry-light"))
        self.assertEqual(site_views.summaries(self.context, asked), [])

    def test_a_run_keeps_the_names_that_folders_were_given(self) -> None:
        """A folder that a person said belongs to a product does so after a run too."""
        self.site("tarnsey-harbour")
        component = next(
            c
            for c in self.context.store.inventories.get("tarnsey-harbour").components
            if c.product == "plugin/slate-editor"
        )
        change = ProductChange(folders=("slate-editor",))
        catalogue.change_product(self.context, "plugin/netloft", change, RHONA)
        sites.refresh(self.context, "tarnsey-harbour")

        def named() -> set[str]:
            kept = self.context.store.inventories.get("tarnsey-harbour")
            return {c.product for c in kept.components if c.version == component.version}

        self.assertIn("plugin/netloft", named())
        self.carried_out(self.approved("tarnsey-harbour"))
        self.assertIn("plugin/netloft", named())

    def test_while_a_run_is_under_way_a_refresh_gives_no_right(self) -> None:
        self.site("whinchat-radio")
        plan = self.approved("whinchat-radio")
        runs.start(self.context, plan.id, RHONA.name)
        inventory = self.context.store.inventories.get("whinchat-radio")
        tried = inventory.model_copy(
            update={
                "components": tuple(
                    c.model_copy(update={"version": "99.0"}) if c.product == "plugin/lee" else c
                    for c in inventory.components
                )
            }
        )
        inventories.take_in(self.context, tried)
        self.assertNotIn(("plugin/lee", "99.0"), self.may_have("whinchat-radio"))
