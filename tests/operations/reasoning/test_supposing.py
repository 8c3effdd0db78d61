"""What if: acts as people write them, an outlook that changes nothing, and the fleet's acts."""

from datetime import timedelta

from tests.operations.within import RHONA, WithContext, projected
from windbreak.core.values.holds import NewHold
from windbreak.core.values.sites import Host
from windbreak.operations.errors import Refused
from windbreak.operations.planning import policy
from windbreak.operations.reasoning import answers, cases, supposing
from windbreak.operations.reasoning.explaining import explained
from windbreak.operations.sites import sites

SITE = "tarnsey-harbour"


class Supposing(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site(SITE)

    def test_acts_are_read_as_people_write_them(self) -> None:
        host = self.context.store.sites.get(SITE).host
        for text, expected in [
            (f"offer loom 8.3 on {host}", ("offer", "runtime/loom", "8.3", host)),
            ("offer Loom 8.3", ("offer", "runtime/loom", "8.3", None)),
            ("lift-hold tidetable", ("lift-hold", "plugin/tidetable", None, None)),
            ("licence Trestle", ("licence", "plugin/trestle", None, None)),
            ("channel preview", ("channel", None, None, None)),
            ("wait 2027-01-05", ("wait", None, None, None)),
        ]:
            with self.subTest(text=text):
                read = supposing.read(self.context, text)
                act = read.act
                self.assertEqual((act.act, act.product, act.version, read.host), expected)

    def test_what_is_no_act_is_refused_with_what_would_be_right(self) -> None:
        for text, code, part in [
            ("please", "unknown-act", "offer PRODUCT VERSION"),
            ("", "unknown-act", "write it as one of"),
            ("offer loom", "unknown-act", "offer PRODUCT VERSION"),
            ("offer loom 99", "unknown-release", "the newest is"),
            ("offer loom 8.3 on moon", "unknown-host", "no host is called 'moon'"),
            ("offer tidetable 3.1", "no-runtime", "no host offers it"),
            ("remove moonbeam", "unknown-product", "moonbeam"),
            ("wait soon", "unknown-act", "wait DATE"),
            ("remove lee on nowhere", "unknown-site", "no site is called 'nowhere'"),
        ]:
            with self.subTest(text=text), self.assertRaises(Refused) as caught:
                supposing.read(self.context, text)
            self.assertEqual(caught.exception.code, code)
            self.assertIn(part, str(caught.exception))

    def test_an_outlook_tells_what_would_be_otherwise_and_changes_nothing(self) -> None:
        policy.hold(self.context, NewHold(product="plugin/tidetable", reason="x"), RHONA)
        before = answers.verdicts(self.context, SITE)
        found = supposing.outlook(self.context, SITE, ["lift-hold tidetable"])
        self.assertEqual([c.product for c in found.changes], ["plugin/tidetable"])
        self.assertIn("Tidetable would go to", found.changes[0].text)
        moved = {m.product for step in found.plan.steps for m in step.moves}
        self.assertIn("plugin/tidetable", moved)
        self.assertEqual(answers.verdicts(self.context, SITE), before)
        self.assertEqual(len(self.context.store.holds.all()), 1)
        self.assertEqual(self.context.store.plans.all(), [])

    def test_what_would_be_on_a_later_day_is_not_taken_for_today(self) -> None:
        before = answers.verdicts(self.context, SITE)
        day = self.context.clock().date() + timedelta(days=30)
        found = supposing.outlook(self.context, SITE, [f"wait {day}"])
        self.assertNotEqual(found.answer, before)
        self.assertEqual(answers.verdicts(self.context, SITE), before)

    def test_an_act_elsewhere_does_not_touch_the_site_and_says_so(self) -> None:
        sites.put_host(self.context, Host(id="other", name="Other"), RHONA)
        found = supposing.outlook(self.context, SITE, ["offer loom 8.3 on other"])
        self.assertEqual([s.here for s in found.supposed], [False])
        self.assertEqual(found.changes, ())

    def test_without_acts_it_is_how_it_is_with_the_key_and_the_age_of_the_answer(self) -> None:
        found = supposing.outlook(self.context, SITE)
        now = answers.reason(self.context, cases.case_of(self.context, SITE))
        ground, site = cases.Ground.read(self.context), self.context.store.sites.get(SITE)
        self.assertEqual(found.answer, explained(ground, site, now).answer)
        self.assertEqual((found.situation, found.reasoned_at), (now.key, now.made_at))

    def test_the_fleets_acts_are_ranked_by_what_each_frees_when_tried(self) -> None:
        for product in ("plugin/tidetable", "plugin/lee"):
            policy.hold(self.context, NewHold(product=product, reason="x"), RHONA)
        rows = supposing.acts(self.context)
        self.assertEqual([r.moves for r in rows], sorted((r.moves for r in rows), reverse=True))
        lift = next(r for r in rows if r.suppose == ("lift-hold lee",))
        self.assertEqual([(m.site, m.product) for m in lift.frees], [(SITE, "plugin/lee")])
        for row in rows:
            with self.subTest(act=row.text):
                for site in row.sites:
                    outlook = supposing.outlook(self.context, site, row.suppose)
                    ends = {v.product: v.to for v in outlook.answer.verdicts}
                    for move in row.frees:
                        if move.site == site:
                            self.assertEqual(ends[move.product], move.version)
        only = supposing.acts(self.context, product="plugin/lee")
        self.assertTrue(all(any(m.product == "plugin/lee" for m in r.frees) for r in only))


class Freshness(WithContext):
    def test_only_sites_that_a_change_can_touch_are_worked_out_again(self) -> None:
        self.feeds()
        self.site(SITE)
        self.site("skerry-light")
        projected(self.context)
        held = NewHold(product="plugin/tidetable", site=SITE, reason="x")
        policy.hold(self.context, held, RHONA)
        self.assertEqual(projected(self.context), {SITE})
        only_there = {c.product for c in self.context.store.inventories.get(SITE).components} - {
            c.product for c in self.context.store.inventories.get("skerry-light").components
        }
        theirs = next(p for p in sorted(only_there) if p.startswith("theme/"))
        policy.hold(self.context, NewHold(product=theirs, reason="x"), RHONA)
        self.assertEqual(projected(self.context), {SITE})

    def test_a_result_outlives_what_cannot_touch_it_and_not_what_can(self) -> None:
        self.feeds()
        self.site(SITE)

        def made_at() -> object:
            case = cases.case_of(self.context, SITE)
            return answers.reason(self.context, case).made_at

        first = made_at()
        version = self.context.store.releases.all(product="plugin/lee")[0]
        other = version.model_copy(
            update={"id": "theme/nobodys@1.0", "product": "theme/nobodys", "version": "1.0"}
        )
        self.context.store.releases.add(other)
        self.later = timedelta(seconds=2)
        self.assertEqual(made_at(), first)
        self.context.store.releases.change(version.id, channel="preview")
        self.assertNotEqual(made_at(), first)
