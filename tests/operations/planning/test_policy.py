"""Rules of the house: the nearest wins and is named; what is taken by itself."""

from datetime import timedelta
from zoneinfo import ZoneInfo

from pydantic import ValidationError

from tests.operations.within import RHONA, WithContext, catch_up, look_again
from windbreak.core.values.bookings import Book
from windbreak.core.values.holds import NewHold
from windbreak.core.values.policy import NewRule
from windbreak.core.values.runs import WENT_WRONG
from windbreak.core.values.sites import Window
from windbreak.core.values.watching import NewWatch
from windbreak.operations.errors import Refused
from windbreak.operations.planning import policy
from windbreak.operations.reasoning import answers
from windbreak.operations.scheduling import bookings, deadlines, timetables, watching
from windbreak.operations.sites import sites
from windbreak.operations.views import sites as site_views

SITE = "tarnsey-harbour"
PAIR, TWIN = "skerry-light", "skerry-light-twin"


class Rules(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site(SITE)

    def in_force(self, product: str) -> tuple[int, str]:
        found = {one.product: one for one in policy.of_site(self.context, SITE)}
        return found[product].soak["major"], found[product].soak_by["major"]

    def test_the_nearest_rule_wins_and_is_named(self) -> None:
        client = self.context.store.sites.get(SITE).client
        for rule, expected in [
            (NewRule(soak={"major": 11}, reason="x"), (11, "the fleet")),
            (NewRule(maker="Millrace Commons", soak={"major": 12}, reason="x"),
             (12, "the fleet, Millrace Commons")),
            (NewRule(product="core/millrace", soak={"major": 13}, reason="x"),
             (13, "the fleet, core/millrace")),
            (NewRule(client=client, soak={"major": 14}, reason="x"), (14, client)),
            (NewRule(site=SITE, soak={"major": 15}, reason="x"), (15, SITE)),
            (NewRule(site=SITE, product="core/millrace", soak={"major": 16}, reason="x"),
             (16, f"{SITE}, core/millrace")),
        ]:  # fmt: skip
            with self.subTest(where=rule.where):
                policy.set_rule(self.context, rule, RHONA)
                self.assertEqual(self.in_force("core/millrace"), expected)

    def test_a_rule_says_nothing_of_what_it_does_not_speak_of(self) -> None:
        policy.set_rule(self.context, NewRule(site=SITE, take="ask", reason="x"), RHONA)
        policy.set_rule(self.context, NewRule(soak={"major": 30}, reason="x"), RHONA)
        self.assertEqual(self.in_force("core/millrace"), (30, "the fleet"))

    def test_a_soak_of_a_product_keeps_its_releases_back_and_no_others(self) -> None:
        def moves() -> dict[str, str | None]:
            found = answers.verdicts(self.context, SITE).verdicts
            return {v.product: v.to for v in found if v.to != v.from_}

        before = moves()
        self.assertIn("plugin/lee", before)
        rule = NewRule(product="plugin/lee", soak={"minor": 3000, "patch": 3000}, reason="slowly")
        kept = policy.set_rule(self.context, rule, RHONA)
        self.assertEqual(moves(), {p: v for p, v in before.items() if p != "plugin/lee"})
        policy.drop_rule(self.context, kept.id, RHONA)
        self.assertEqual(moves(), before)

    def test_what_is_never_taken_is_held_and_the_rule_is_said(self) -> None:
        policy.set_rule(
            self.context, NewRule(product="plugin/lee", take="never", reason="x"), RHONA
        )
        verdict = next(
            v for v in answers.verdicts(self.context, SITE).verdicts if v.product == "plugin/lee"
        )
        self.assertEqual(verdict.outcome, "held")
        assert verdict.blocked is not None
        self.assertIn("by the rule for the fleet, plugin/lee", verdict.blocked.text)

    def test_a_rule_that_has_ended_is_as_if_it_were_not(self) -> None:
        last = self.context.clock().date()
        policy.set_rule(
            self.context, NewRule(soak={"major": 40}, until=last, reason="season"), RHONA
        )
        self.assertEqual(self.in_force("core/millrace"), (40, "the fleet"))
        self.later = timedelta(days=1)
        self.assertEqual(self.in_force("core/millrace"), (7, ""))

    def test_rules_that_say_nothing_or_too_much_are_refused(self) -> None:
        for fields, part in [
            ({"reason": "x"}, "says something"),
            ({"site": SITE, "client": "A", "take": "ask", "reason": "x"}, "not for both"),
            ({"product": "core/c", "maker": "A", "take": "ask", "reason": "x"}, "not for both"),
            ({"soak": {"huge": 3}, "reason": "x"}, "huge"),
            ({"take": "ask", "reason": ""}, "reason"),
        ]:
            with self.subTest(fields=fields), self.assertRaises(ValidationError) as caught:
                NewRule.model_validate(fields)
            self.assertIn(part, str(caught.exception))
        with self.assertRaises(Refused):
            rule = NewRule(client="nobody's", take="ask", reason="x")
            policy.set_rule(self.context, rule, RHONA)


class Reviews(WithContext):
    def test_a_hold_and_a_rule_come_up_when_their_review_is_due(self) -> None:
        self.feeds()
        due = self.context.clock().date() + timedelta(days=2)
        hold = NewHold(product="plugin/lee", review=due, reason="it broke")
        policy.hold(self.context, hold, RHONA)
        rule = NewRule(soak={"major": 30}, review=due, reason="season")
        policy.set_rule(self.context, rule, RHONA)

        def due_now() -> list[str]:
            return [f.headline for f in look_again(self.context) if f.kind == "review"]

        self.assertEqual(due_now(), [])
        self.later = timedelta(days=2)
        self.assertEqual(len(due_now()), 2)
        self.assertIn("**Lee**", " ".join(due_now()))


class Proposing(WithContext):
    def test_what_is_gone_is_proposed_apart_and_what_is_needed_is_not(self) -> None:
        self.feeds()
        self.site(SITE)
        catch_up(self.context)
        view = site_views.site_view(self.context, SITE)
        self.assertEqual(
            [(p.product, p.why, p.by) for p in view.proposals],
            [("plugin/slate-editor", "included", "theme/breakwater")],
        )
        self.assertIn("will do what Slate Editor does", view.proposals[0].text)
        gone = {"withdrawn_at": self.context.clock()}
        self.context.store.products.change("plugin/lee", **gone)
        self.context.store.products.change("plugin/breakwater-keel", **gone)
        catch_up(self.context)
        found = {p.product: p.why for p in site_views.site_view(self.context, SITE).proposals}
        self.assertEqual(found.get("plugin/lee"), "withdrawn")
        # The theme needs its companion: it may not go, whatever its maker says.
        self.assertNotIn("plugin/breakwater-keel", found)


class ByItself(WithContext):
    def test_what_may_be_taken_by_itself_is_planned_approved_and_booked_once(self) -> None:
        self.feeds()
        self.site(SITE)
        days = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
        window = Window(days=days, start="01:00", end="05:00")
        sites.set_windows(self.context, SITE, (window,), "Europe/London", RHONA)
        self.assertEqual(policy.let_go(self.context), [])
        rule = NewRule(product="plugin/lee", take="by-itself", reason="never broke anything")
        policy.set_rule(self.context, rule, RHONA)
        (number,) = policy.let_go(self.context)
        plan = self.context.store.plans.get(number)
        self.assertEqual((plan.state, set(plan.targets)), ("approved", {"plugin/lee"}))
        assert plan.approval is not None
        self.assertEqual(plan.approval.by, "Rules of the house")
        self.assertIn("the fleet, plugin/lee", plan.approval.why)
        (booking,) = self.context.store.bookings.all(site=SITE, state="waiting")
        self.assertEqual(booking.plan, number)
        self.assertEqual(policy.let_go(self.context), [])

    def test_it_goes_no_further_than_the_rule_says_and_dies_with_it(self) -> None:
        self.feeds()
        self.site(SITE)
        rule = NewRule(product="plugin/oarlock", take="by-itself", jump="patch", reason="quiet")
        patch = policy.set_rule(self.context, rule, RHONA)
        self.assertEqual(policy.let_go(self.context), [])  # 7.1.2 goes to 7.2: that is a minor
        further = rule.model_copy(update={"jump": "minor", "site": SITE})
        kept = policy.set_rule(self.context, NewRule.model_validate(dict(further)), RHONA)
        (number,) = policy.let_go(self.context)
        plan = self.context.store.plans.get(number)
        self.assertEqual(plan.targets, {"plugin/oarlock": "7.2"})
        self.assertEqual(plan.scope, ("plugin/oarlock",))
        assert plan.approval is not None
        self.assertEqual(plan.approval.rules, (kept.id,))
        # What is not in its scope is not spoken of, and nothing is told to be held for it.
        self.assertEqual({v.product for v in plan.answer.verdicts}, {"plugin/oarlock"})
        (booking,) = self.context.store.bookings.all(site=SITE, state="waiting")
        policy.drop_rule(self.context, kept.id, RHONA)
        self.assertEqual(self.context.store.plans.get(number).state, "replaced")
        timetables.keep(self.context)
        self.assertEqual(self.context.store.bookings.get(booking.id).state, "withdrawn")
        self.assertEqual(policy.let_go(self.context), [])
        policy.drop_rule(self.context, patch.id, RHONA)
        with self.assertRaises(ValidationError):
            NewRule(take="ask", jump="patch", reason="x")

    def test_what_is_watched_is_said_by_the_nearest_rule(self) -> None:
        self.feeds()
        self.site(SITE)
        plan = self.approved(SITE)
        site = self.context.store.sites.get(SITE)

        def watched() -> str:
            sight = deadlines.Sight(self.context)
            return deadlines.watched(sight, site, plan.plan.steps, plan.brings)

        rule = NewRule(watch=("major",), reason="we sleep better")
        policy.set_rule(self.context, rule, RHONA)
        self.assertEqual(watched(), "")  # nobody's hours are entered
        hours = NewWatch(who="Rhona Vale", days=("tue",), start="00:00", end="04:00")
        watching.add(self.context, hours, RHONA)
        self.assertIn("a major of Millrace", watched())
        policy.set_rule(self.context, NewRule(site=SITE, watch=("any",), reason="x"), RHONA)
        self.assertIn(f"the rule for {SITE} wants it", watched())
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        self.assertEqual(booking.starts_at.astimezone(ZoneInfo(site.timezone)).weekday(), 1)
        none = NewRule(site=SITE, product="core/millrace", watch=(), reason="x")
        policy.set_rule(self.context, none, RHONA)
        self.assertIn("wants it", watched())  # of the other products
        for bad in ({"who": "x"}, {"who": "x", "days": ("tue",), "start": "01:00"}):
            with self.assertRaises(ValidationError):
                NewWatch.model_validate(bad)

    def test_what_went_wrong_is_not_tried_again_until_somebody_has_looked(self) -> None:
        self.feeds()
        self.site("whinchat-radio")
        days = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
        window = Window(days=days, start="01:00", end="05:00")
        sites.set_windows(self.context, "whinchat-radio", (window,), "Europe/London", RHONA)
        run = self.carried_out(self.approved("whinchat-radio"))
        self.assertIn(run.state, WENT_WRONG)
        policy.set_rule(self.context, NewRule(take="by-itself", reason="x"), RHONA)
        self.assertEqual(policy.let_go(self.context), [])

    def test_a_site_takes_by_itself_what_its_twin_runs_already(self) -> None:
        self.feeds()
        self.site(PAIR)
        self.site(TWIN)
        days = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
        window = Window(days=days, start="01:00", end="05:00")
        for id in (PAIR, TWIN):
            sites.set_windows(self.context, id, (window,), "Europe/London", RHONA)
        policy.set_rule(
            self.context, NewRule(product="plugin/lee", take="by-itself", reason="x"), RHONA
        )
        plans = [self.context.store.plans.get(n) for n in policy.let_go(self.context)]
        self.assertEqual([p.site for p in plans], [TWIN])
        # Once the twin runs it, the site follows.
        inventory = self.context.store.inventories.get(TWIN)
        there = tuple(
            c.model_copy(update={"version": "5.5"}) if c.product == "plugin/lee" else c
            for c in inventory.components
        )
        self.context.store.inventories.put(inventory.model_copy(update={"components": there}))
        plans = [self.context.store.plans.get(n) for n in policy.let_go(self.context)]
        self.assertEqual([p.site for p in plans], [PAIR])

    def test_a_hold_outranks_what_may_be_taken_by_itself(self) -> None:
        self.feeds()
        self.site(SITE)
        rule = NewRule(product="plugin/lee", take="by-itself", reason="x")
        policy.set_rule(self.context, rule, RHONA)
        policy.hold(self.context, NewHold(product="plugin/lee", reason="it broke"), RHONA)
        self.assertEqual(policy.let_go(self.context), [])
