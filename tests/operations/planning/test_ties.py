"""Lockstep groups and clashes that the house enters, and what they change."""

from pydantic import ValidationError

from tests.operations.within import RHONA, WithContext, catch_up, projected
from windbreak.core.case.situation import ClashSide
from windbreak.core.values.ties import NewClash, NewLockstep
from windbreak.operations.errors import Refused
from windbreak.operations.planning import ties
from windbreak.operations.reasoning import answers, cases
from windbreak.operations.views import products as product_views

SITE = "tarnsey-harbour"
MIXED = NewClash(
    a=ClashSide(product="plugin/lee", range=">=5.5"),
    b=ClashSide(product="plugin/oarlock", range=">=7.2"),
    reason="Forms are cached with their codes",
)


class Ties(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site(SITE)

    def moves(self) -> dict[str, str | None]:
        found = answers.verdicts(self.context, SITE).verdicts
        return {v.product: v.to for v in found if v.to != v.from_}

    def test_a_clash_keeps_two_moves_apart_and_says_why(self) -> None:
        before = self.moves()
        self.assertLessEqual({"plugin/lee", "plugin/oarlock"}, before.keys())
        kept = ties.add_clash(self.context, MIXED, RHONA)
        after = self.moves()
        self.assertEqual(len({"plugin/lee", "plugin/oarlock"} & after.keys()), 1)
        stays = next(
            v
            for v in answers.verdicts(self.context, SITE).verdicts
            if v.product in ("plugin/lee", "plugin/oarlock") and v.product not in after
        )
        assert stays.blocked is not None
        reason = stays.blocked.reasons[0].reason
        # Either could go: which one pays is a trade, and the clash is in the case.
        self.assertEqual(reason.kind, "trade")
        self.assertIn("only in place of", stays.blocked.text)
        self.assertEqual(len(cases.case_of(self.context, SITE).clashes), 1)
        ties.drop_clash(self.context, kept.id, RHONA)
        self.assertEqual(self.moves(), before)

    def test_a_clash_does_not_touch_what_was_made_for_the_site(self) -> None:
        ties.add_clash(self.context, MIXED, RHONA)
        self.context.store.sites.change(SITE, own=("plugin/lee",))
        self.assertEqual(cases.case_of(self.context, SITE).clashes, ())
        self.assertEqual(self.moves().get("plugin/oarlock"), "7.2")

    def test_a_lockstep_group_goes_into_the_case_and_onto_the_products_page(self) -> None:
        # Both at 3 today: neither may leave the other's first number.
        new = NewLockstep(
            products=("plugin/foglamp", "plugin/tidetable", "theme/plainsail"),
            match="major",
            reason="one shows the other's days",
        )
        kept = ties.set_lockstep(self.context, new, RHONA)
        case = cases.case_of(self.context, SITE)
        self.assertEqual(
            [(g.products, g.match) for g in case.lockstep],
            [(("plugin/foglamp", "plugin/tidetable", "theme/plainsail"), "major")],
        )
        catch_up(self.context)
        view = product_views.product(self.context, "plugin/tidetable")
        self.assertEqual([g.id for g in view.lockstep], [kept.id])
        self.assertIn("must match in their first number", self.context.store.ledger.all()[-1].what)
        ties.drop_lockstep(self.context, kept.id, RHONA)
        self.assertEqual(cases.case_of(self.context, SITE).lockstep, ())

    def test_a_tie_touches_the_sites_it_can_and_no_others(self) -> None:
        self.site("seapink-florists")
        only_here = {c.product for c in self.context.store.inventories.get(SITE).components}
        self.assertEqual(projected(self.context), {SITE, "seapink-florists"})
        ties.add_clash(self.context, MIXED, RHONA)
        there = self.context.store.inventories.get("seapink-florists").components
        self.assertEqual(
            projected(self.context),
            {SITE}
            if set(MIXED.products).isdisjoint(c.product for c in there)
            else {SITE, "seapink-florists"},
        )
        self.assertTrue(only_here)

    def test_ties_that_make_no_sense_are_refused(self) -> None:
        for fields, part in [
            ({"products": ["plugin/lee"], "reason": "x"}, "at least 2"),
            ({"products": ["plugin/lee", "plugin/lee"], "reason": "x"}, "with itself"),
            ({"products": ["plugin/lee", "Oar"], "reason": "x"}, "Oar"),
            ({"products": ["plugin/lee", "plugin/oarlock"]}, "reason"),
        ]:
            with self.subTest(fields=fields), self.assertRaises(ValidationError) as caught:
                NewLockstep.model_validate(fields)
            self.assertIn(part, str(caught.exception))
        one = {"product": "plugin/lee", "range": "*"}
        for b, part in [
            (one, "with itself"),
            ({**one, "product": "plugin/a", "range": ">>1"}, ">>1"),
        ]:
            with self.subTest(b=b), self.assertRaises(ValidationError) as caught:
                NewClash.model_validate({"a": one, "b": b, "reason": "x"})
            self.assertIn(part, str(caught.exception))
        unknown = NewLockstep(products=("plugin/lee", "plugin/nobody"), reason="x")
        with self.assertRaises(Refused):
            ties.set_lockstep(self.context, unknown, RHONA)
        self.assertEqual(self.context.store.locksteps.all(), [])
