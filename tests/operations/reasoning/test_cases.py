"""A site's case from what is kept, its plans, and what is decided beside them."""

from datetime import timedelta

from tests.operations.within import RHONA, WithContext, catch_up
from windbreak.core.values.holds import NewHold
from windbreak.core.values.licences import NewSeat
from windbreak.core.values.roots import Root
from windbreak.documents.products import Standing
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licensing
from windbreak.operations.planning import planning, policy
from windbreak.operations.reasoning import answers, cases
from windbreak.operations.views import products as product_views
from windbreak.operations.views import sites as site_views
from windbreak.store.errors import NotFound


class Cases(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("tarnsey-harbour")

    def outcome(self, product: str) -> tuple[str, str | None]:
        for verdict in answers.verdicts(self.context, "tarnsey-harbour").verdicts:
            if verdict.product == product:
                return verdict.outcome, verdict.to
        raise AssertionError(product)

    def test_a_case_holds_what_matters_to_its_site_only(self) -> None:
        case = cases.case_of(self.context, "tarnsey-harbour")
        products = {p.id for p in case.products}
        self.assertIn("plugin/trestle", products)
        self.assertNotIn("plugin/gangway", products)
        self.assertEqual(case.site.offers["runtime/loom"], ("8.1", "8.2", "8.3"))
        self.assertEqual(case.policy.soak.major, 7)
        self.assertEqual({x.product for x in case.site.licences}, {
            "theme/breakwater", "plugin/breakwater-keel"
        })  # fmt: skip

    def test_a_soak_that_is_over_lets_the_release_in(self) -> None:
        self.assertEqual(self.outcome("core/millrace"), ("part", "6.4.3"))
        self.later = timedelta(days=3)
        self.assertEqual(self.outcome("core/millrace"), ("move", "6.5"))

    def test_a_hold_stands_on_its_site_and_ends_when_lifted(self) -> None:
        for site in ("tarnsey-harbour", None):
            new = NewHold(product="plugin/lee", site=site, reason="the client asked")
            hold = policy.hold(self.context, new, RHONA)
            self.assertEqual(self.outcome("plugin/lee"), ("held", "5.4"))
            policy.lift(self.context, hold.id, RHONA)
            self.assertEqual(self.outcome("plugin/lee"), ("move", "5.5"))
        with self.assertRaises(NotFound):
            policy.hold(
                self.context, NewHold(product="plugin/lee", site="atlantis", reason="x"), RHONA
            )
        with self.assertRaises(NotFound):
            policy.lift(self.context, "nothing", RHONA)

    def test_a_licence_taken_away_blocks_and_says_so(self) -> None:
        licensing.unseat(self.context, "breakwater", "tarnsey-harbour", RHONA)
        self.assertEqual(self.outcome("theme/breakwater"), ("stay", "5.0"))
        catch_up(self.context)
        view = site_views.site_view(self.context, "tarnsey-harbour")
        theme = next(c for c in view.components if c.product == "theme/breakwater")
        self.assertEqual(theme.state, "blocked")
        self.assertIn("Breakwater 5 has a seat free, and this site has none of it.", theme.text)
        self.assertEqual(view.summary.state, "blocked")
        seat = NewSeat.model_validate({"site": "tarnsey-harbour", "code": "BW5-AGAIN-1234"})
        licensing.seat(self.context, "breakwater", seat, RHONA)
        self.assertEqual(self.outcome("theme/breakwater"), ("move", "5.2"))

    def test_a_plan_for_one_release_takes_no_more_than_it_needs(self) -> None:
        for product, version, expected in [
            ("plugin/oarlock", "7.2", {"plugin/oarlock"}),
            (
                "theme/breakwater",
                "5.2",
                {"theme/breakwater", "plugin/breakwater-keel", "plugin/trestle", "core/millrace"},
            ),
        ]:
            with self.subTest(product=product):
                plan = planning.draft_for(self.context, "tarnsey-harbour", product, version)
                self.assertEqual(plan.targets[product], version)
                self.assertLessEqual(set(plan.targets), expected | {"plugin/foglamp"})
                if len(expected) == 1:
                    self.assertEqual(set(plan.targets), expected)
                for other in expected - {product}:
                    only = frozenset(plan.targets) - {other}
                    case = cases.case_of(self.context, "tarnsey-harbour", only=only)
                    found = answers.reason(self.context, case).answer
                    reached = {v.product: v.to for v in found.verdicts}
                    self.assertNotEqual(reached[product], version, f"{other} was not needed")

    def test_what_can_not_be_taken_is_refused_with_the_reason(self) -> None:
        for product, version, part in [
            ("core/millrace", "6.5", "soaks until"),
            ("plugin/gangway", "2.8", "not on this site"),
        ]:
            with self.subTest(product=product), self.assertRaises(Refused) as caught:
                planning.draft_for(self.context, "tarnsey-harbour", product, version)
            self.assertIn(part, str(caught.exception))

    def test_equal_situations_of_a_day_are_reasoned_about_once(self) -> None:
        first = answers.reason(self.context, cases.case_of(self.context, "tarnsey-harbour"))
        self.later = timedelta(seconds=5)
        again = answers.reason(self.context, cases.case_of(self.context, "tarnsey-harbour"))
        self.assertEqual(again.made_at, first.made_at)
        self.assertEqual(again.key, first.key)
        self.assertEqual(again.answer, first.answer)

    def test_a_site_without_an_inventory_has_no_case(self) -> None:
        self.context.store.inventories.drop("tarnsey-harbour")
        with self.assertRaises(Refused) as caught:
            cases.case_of(self.context, "tarnsey-harbour")
        self.assertEqual(caught.exception.code, "no-inventory")

    def test_a_component_no_feed_covers_is_said_to_be(self) -> None:
        for product in ("plugin/sextant", "plugin/oarlock"):
            for release in self.context.store.releases.all(product=product):
                self.context.store.releases.drop(release.id)
            self.context.store.products.drop(product)
        catch_up(self.context)
        view = site_views.site_view(self.context, "tarnsey-harbour")
        oarlock = next(c for c in view.components if c.product == "plugin/oarlock")
        self.assertEqual(oarlock.origin, "no feed covers it")
        self.assertEqual(oarlock.state, "unknown")


class Grouped(WithContext):
    def test_sites_that_cannot_are_grouped_by_their_reason_and_not_by_where_they_stay(self) -> None:
        self.feeds()
        told = {
            "skerry-light": "This site's licence for Breakwater has ended.",
            "tarnsey-harbour": "This site's licence for Breakwater does not cover 5.2.",
            "whinchat-radio": "This site's licence for Breakwater has ended. Apart from that, "
            "Breakwater 5.2 needs Trestle 5.1 or newer.",
        }
        for site in told:
            self.site(site)
        catch_up(self.context)
        ended = ("skerry-light", "whinchat-radio")
        catch_up(self.context)
        for summary in site_views.summaries(self.context):
            standing = Standing(
                site=summary.id,
                product="theme/breakwater",
                version="4.9",
                target=None,
                newest="5.2",
                state="blocked",
                reason="licence",
                text=f"Breakwater stays at 4.9. {told[summary.id]}",
                roots=(
                    Root(
                        kind="ended" if summary.id in ended else "not covered",
                        on={"licence": "breakwater"},
                        text="x",
                    ),
                ),
            )
            self.context.store.views.put_standings(f"situation of {summary.id}", [standing])
            self.context.store.views.put_rows([(summary, f"situation of {summary.id}")])
        catch_up(self.context)
        groups = product_views.product(self.context, "theme/breakwater").cannot
        self.assertEqual(
            sorted(sorted(s.site for s in g.sites) for g in groups),
            [["skerry-light", "whinchat-radio"], ["tarnsey-harbour"]],
        )
