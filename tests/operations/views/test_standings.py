"""What a component is said to be: never clear while somebody must act, or while nobody tells."""

from datetime import timedelta

from tests.operations.within import RHONA, WithContext, catch_up
from windbreak.core.values.licences import LicenceChange
from windbreak.documents.sites import ComponentView
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licensing
from windbreak.operations.planning import planning
from windbreak.operations.sites import retiring
from windbreak.operations.views import sites as site_views


class States(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()

    def component(self, site: str, product: str) -> ComponentView:
        catch_up(self.context)
        every = site_views.site_view(self.context, site).components
        return next(c for c in every if c.product == product)

    def row(self, site: str) -> tuple[str, str]:
        (row,) = [r for r in site_views.summaries(self.context) if r.id == site]
        return row.state, row.text

    def test_what_its_maker_has_withdrawn_is_blocked(self) -> None:
        self.site("skerry-light")
        self.site("skerry-light-twin")
        lee = self.context.store.products.get("plugin/lee")
        gone = {"withdrawn_at": self.context.clock(), "withdrawn_text": "closed"}
        self.carried_out(self.approved("skerry-light-twin"))  # nothing newer is left
        self.context.store.products.put(lee.model_copy(update=gone))
        told = self.component("skerry-light-twin", "plugin/lee")
        self.assertEqual(told.state, "blocked")
        self.assertIn("was withdrawn by its maker; nothing newer", told.text)
        self.assertEqual(self.row("skerry-light-twin"), ("blocked", told.text))

    def test_an_installed_release_that_was_withdrawn_is_blocked_until_something_follows(
        self,
    ) -> None:
        self.site("skerry-light")
        self.carried_out(self.approved("skerry-light"))
        id_ = self.context.store.releases.id_of("plugin/lee", "5.5")
        self.context.store.releases.change(id_, withdrawn_at=self.context.clock())
        told = self.component("skerry-light", "plugin/lee")
        self.assertEqual((told.version, told.state), ("5.5", "blocked"))
        self.assertIn("5.5 was withdrawn by its maker", told.text)

    def test_what_a_blocked_theme_carries_is_blocked_with_it(self) -> None:
        self.site("tarnsey-harbour")
        carried = ("plugin/trestle", "plugin/foglamp")
        self.assertEqual(
            [self.component("tarnsey-harbour", p).state for p in carried], ["ready", "ready"]
        )
        ended = (self.context.clock() - timedelta(days=900)).date()
        change = LicenceChange(expires=ended)
        licensing.change(self.context, "breakwater", change, RHONA)
        self.assertEqual(self.component("tarnsey-harbour", "theme/breakwater").state, "blocked")
        for product in carried:
            self.assertEqual(self.component("tarnsey-harbour", product).state, "blocked", product)

    def test_what_is_as_new_as_a_free_theme_lets_it_be_is_clear(self) -> None:
        self.site("tarnsey-harbour")
        self.carried_out(self.approved("tarnsey-harbour"))
        trestle = self.component("tarnsey-harbour", "plugin/trestle")
        self.assertEqual((trestle.version, trestle.newest), ("5.1", "5.2"))
        self.assertEqual(trestle.state, "clear")


class Retired(WithContext):
    def test_it_says_so_and_takes_no_plan(self) -> None:
        self.feeds()
        self.site("seapink-florists")
        retiring.retire(self.context, "seapink-florists", RHONA, "it closed")
        view = site_views.site_view(self.context, "seapink-florists")
        self.assertEqual(view.retired_at, self.context.store.sites.get(view.summary.id).retired_at)
        self.assertIsNotNone(view.retired_at)
        with self.assertRaises(Refused) as caught:
            planning.draft(self.context, "seapink-florists")
        self.assertEqual(caught.exception.code, "retired")
        self.assertEqual(self.context.store.plans.count(), 0)
