"""The projector: what is kept ready is what would be worked out from nothing; one site's fault
stays its own; two never project the same.
"""

import contextlib
import dataclasses
import random
import threading
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import Any
from unittest import mock

from tests.operations.within import RHONA, WithContext, catch_up, look_again
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.values.findings import Finding
from windbreak.core.values.holds import NewHold
from windbreak.core.values.licences import NewSeat
from windbreak.core.values.policy import NewRule
from windbreak.core.values.products import ProductChange
from windbreak.core.values.releases import NewRelease
from windbreak.core.values.sites import SiteChange
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.findings.causes import every
from windbreak.operations.licensing import licensing
from windbreak.operations.planning import planning, policy
from windbreak.operations.reasoning import answers
from windbreak.operations.sites import marks, retiring, sites
from windbreak.operations.tracking import catalogue
from windbreak.operations.views import products as product_views
from windbreak.operations.views import projector
from windbreak.operations.views import sites as site_views
from windbreak.wording.answers import Answered, Asked, answered

SOME = ("tarnsey-harbour", "whinchat-radio", "skerry-light", "skerry-light-twin")


def shown(context: Context) -> dict[str, Any]:
    """All that the views show, but for when it was seen."""
    ask = context.store.database.ask
    findings = [f.model_dump(exclude={"opened_at"}) for f in context.store.findings.all()]
    return {
        "rows": ask("SELECT site, state, lead, lead_rank, follows, body FROM row ORDER BY site"),
        "standings": ask(
            "SELECT r.site, s.product, s.body FROM row r JOIN standing s "
            "ON s.situation = r.situation ORDER BY r.site, s.product"
        ),
        "products": ask("SELECT product, body FROM product_row ORDER BY product"),
        "findings": sorted(findings, key=lambda f: str(f["id"])),
    }


def from_nothing(context: Context) -> None:
    """Throw away what is kept ready, and have all of it made again."""
    database = context.store.database
    with database.transaction():
        for table in ("row", "standing", "product_row", "finding"):
            database.tell(f"DELETE FROM {table}")
        database.mark([("everything", "")])
    context.cache = type(context.cache)()
    catch_up(context)


class Incremental(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for slug in SOME:
            self.site(slug)

    def acts(self) -> list[Callable[[random.Random], object]]:
        context = self.context
        products = ["plugin/lee", "plugin/trestle", "core/millrace", "theme/breakwater"]

        def hold(r: random.Random) -> None:
            site = r.choice([None, *SOME])
            policy.hold(
                context, NewHold(product=r.choice(products), site=site, reason="wait"), RHONA
            )

        def lift(r: random.Random) -> None:
            for standing in context.store.holds.all()[:1]:
                policy.lift(context, standing.id, RHONA)

        def rule(r: random.Random) -> None:
            soak = {"minor": r.choice([0, 2, 400])}
            where = r.choice([{}, {"site": r.choice(SOME)}, {"product": r.choice(products)}])
            policy.set_rule(context, NewRule(**where, soak=soak, reason="as asked"), RHONA)

        def seat(r: random.Random) -> None:
            held = {s.site for s in context.store.seats.all(licence="breakwater")}
            if held:
                licensing.unseat(context, "breakwater", r.choice(sorted(held)), RHONA)
            else:
                licensing.seat(context, "breakwater", NewSeat(site=SOME[0], code="x-1"), RHONA)

        def label(r: random.Random) -> None:
            marks.change(context, r.choice(SOME), SiteChange(label=f"Site {r.random():.3f}"), RHONA)

        def own(r: random.Random) -> None:
            site = r.choice(SOME)
            marked = context.store.sites.get(site).own
            marks.mark_own(context, site, "plugin/lee", RHONA, own="plugin/lee" not in marked)

        def release(r: random.Random) -> None:
            new = NewRelease(
                product="plugin/lee",
                version=f"9.{r.randrange(10**6)}",
                published="2026-01-01",
                source="a mail",
            )
            catalogue.type_in(context, new, RHONA)

        def places(r: random.Random) -> None:
            change = ProductChange(major_place=r.choice([1, 2]))
            catalogue.change_product(context, "core/millrace", change, RHONA)

        def draft(r: random.Random) -> None:
            planning.draft(context, r.choice(SOME))

        def refresh(r: random.Random) -> None:
            sites.refresh(context, r.choice(SOME))

        def host(r: random.Random) -> None:
            known = context.store.hosts.get("mole")
            offers = dict(known.offers)
            offers["runtime/loom"] = r.choice([("8.1",), ("8.1", "8.2"), ("8.1", "8.2", "8.3")])
            sites.put_host(
                context,
                known.model_copy(update={"offers": offers, "name": f"Mole {r.random():.3f}"}),
                RHONA,
            )

        def idle_hold(r: random.Random) -> None:
            new = NewHold(product="plugin/gangway", range=">=99", reason=f"{r.random()}")
            policy.hold(context, new, RHONA)

        def wait(r: random.Random) -> None:
            self.later += timedelta(days=r.choice([1, 3]))

        return [
            hold,
            lift,
            rule,
            seat,
            label,
            own,
            release,
            places,
            draft,
            refresh,
            host,
            idle_hold,
            wait,
        ]

    def test_after_any_changes_it_shows_what_is_made_from_nothing(self) -> None:
        r = random.Random(20261127)
        acts = self.acts()
        for turn in range(5):
            done = []
            for _ in range(6):
                act = r.choice(acts)
                done.append(act.__name__)
                act(r)
                if r.random() < 0.5:
                    catch_up(self.context)
            catch_up(self.context)
            kept = shown(self.context)
            from_nothing(self.context)
            again = shown(self.context)
            for what, rows in again.items():
                self.assertEqual(kept[what], rows, f"turn {turn}, {what}, after {done}")

    def test_each_kind_of_change_by_itself_is_followed(self) -> None:
        r = random.Random(5)
        catch_up(self.context)
        for act in self.acts():
            for _ in range(2):
                act(r)
                catch_up(self.context)
                kept = shown(self.context)
                from_nothing(self.context)
                again = shown(self.context)
                for what, rows in again.items():
                    self.assertEqual(kept[what], rows, f"{what}, after {act.__name__}")

    def test_a_retired_site_leaves_every_view(self) -> None:
        catch_up(self.context)
        retiring.retire(self.context, "whinchat-radio", RHONA, "the client left")
        catch_up(self.context)
        self.assertNotIn("whinchat-radio", {r.id for r in site_views.summaries(self.context)})
        view = product_views.product(self.context, "core/millrace")
        self.assertNotIn("whinchat-radio", {one.site for one in view.on_sites})

    def test_nothing_written_makes_no_pass(self) -> None:
        catch_up(self.context)
        self.assertFalse(projector.Projector(self.context).project())


class Quarantine(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for slug in SOME:
            self.site(slug)

    def broken(self, site: str) -> contextlib.AbstractContextManager[object]:
        """The reasoning, failing at what is on one site alone."""
        bad = {c.product: c.version for c in self.context.store.inventories.get(site).components}

        def fails(case: Case, catalogue: Catalogue, asked: Asked) -> Answered:
            if {c.product: c.version for c in case.site.components} == bad:
                raise KeyError("a rule that is not there")
            return answered(case, catalogue, asked)

        return mock.patch.object(answers, "answered", fails)

    def test_one_sites_fault_stays_its_own_and_heals(self) -> None:
        with self.broken("whinchat-radio"), self.assertLogs("windbreak.projector", "ERROR"):
            found = {f.id: f for f in look_again(self.context)}
            rows = {row.id: row for row in site_views.summaries(self.context)}
            products = product_views.products(self.context)
        self.assertIn("a rule that is not there", rows["whinchat-radio"].fault or "")
        self.assertIsNone(rows["tarnsey-harbour"].fault)
        self.assertEqual(sum(row.fault is not None for row in rows.values()), 1)
        self.assertTrue(products)
        self.assertIn("fault:whinchat-radio", found)
        self.assertIn("can’t be reasoned about", found["fault:whinchat-radio"].headline)
        self.assertIn("ready:skerry-light", found)
        # It is tried again when something it hangs on is written.
        marks.mark_own(self.context, "whinchat-radio", "plugin/lee", RHONA)
        self.assertNotIn("fault:whinchat-radio", {f.id for f in look_again(self.context)})
        healed = {row.id: row for row in site_views.summaries(self.context)}
        self.assertIsNone(healed["whinchat-radio"].fault)

    def test_a_cause_that_fails_keeps_what_it_saw_and_the_others_go_on(self) -> None:
        self.assertIn("ready:skerry-light", {f.id for f in look_again(self.context)})

        def torn(sight: every.Sight, subject: str) -> Iterator[Finding]:
            raise RuntimeError("torn")

        causes = tuple(
            dataclasses.replace(c, look=torn) if c.name == "ready" else c for c in every.CAUSES
        )
        self.assertIn(torn, [c.look for c in causes])
        self.context.store.sites.change("tarnsey-harbour", address="http://127.0.0.1:9")
        with (
            mock.patch.object(every, "CAUSES", causes),
            self.assertLogs("windbreak.findings", "ERROR"),
        ):
            sites.refresh(self.context, "tarnsey-harbour")
            self.approved("skerry-light")
            found = {f.id for f in look_again(self.context)}
        self.assertIn("ready:skerry-light", found)  # what it saw last
        self.assertIn("link:tarnsey-harbour", found)


class Claims(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("skerry-light")
        self.other = open_context(self.context.data, private_networks="127.0.0.0/8")
        self.addCleanup(close, self.other)

    def test_while_one_projects_the_other_does_not(self) -> None:
        inside, go_on = threading.Event(), threading.Event()
        real = projector.Ground.read

        def slowly(context: Context) -> Any:
            if context is self.context:
                inside.set()
                self.assertTrue(go_on.wait(20))
            return real(context)

        done: list[bool] = []
        with mock.patch.object(projector.Ground, "read", slowly):
            one = threading.Thread(
                target=lambda: done.append(projector.Projector(self.context).project())
            )
            one.start()
            self.assertTrue(inside.wait(20))
            self.assertFalse(projector.Projector(self.other).project())
            go_on.set()
            one.join(30)
        self.assertEqual(done, [True])
        self.assertEqual(
            self.other.store.views.reached()[0], self.other.store.database.generation()
        )

    def test_who_dies_with_it_loses_it_after_a_minute(self) -> None:
        now: datetime = self.context.clock()
        self.assertTrue(self.context.store.views.claim("dead", now, now + timedelta(minutes=1)))
        self.assertFalse(projector.Projector(self.other).project())
        self.other.clock = lambda: now + timedelta(minutes=2)
        self.assertTrue(projector.Projector(self.other).project())

    def test_stopped_on_the_way_it_says_nothing_it_has_not_reached(self) -> None:
        before, _ = self.context.store.views.reached()
        stopped = projector.Projector(self.context)
        stopped.stop.set()
        self.assertFalse(stopped.project())
        self.assertEqual(self.context.store.views.reached()[0], before)
        catch_up(self.other)
        self.assertEqual([r.id for r in site_views.summaries(self.other)], ["skerry-light"])

    def test_what_is_written_during_a_pass_is_in_the_next(self) -> None:
        catch_up(self.context)
        policy.hold(self.context, NewHold(product="plugin/lee", reason="one"), RHONA)
        real = projector.Ground.read
        wrote: list[str] = []

        def writing(context: Context) -> Any:
            ground = real(context)
            if not wrote:
                wrote.append("x")
                marks.change(self.other, "skerry-light", SiteChange(label="Skerry"), RHONA)
            return ground

        with mock.patch.object(projector.Ground, "read", writing):
            catch_up(self.context)
        self.assertEqual([r.label for r in site_views.summaries(self.other)], ["Skerry"])
