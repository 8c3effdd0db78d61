"""What vanishes, what comes again, what disagrees, and what a hop passes."""

from datetime import timedelta
from pathlib import Path

from tests.operations.within import RHONA, WithContext, catch_up, look_again
from windbreak.core.explanation.passing import lag, passed
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.findings import SnoozeFinding
from windbreak.core.values.releases import Announcement
from windbreak.core.versions.version import parse_version
from windbreak.feeds.announced import Announced
from windbreak.operations.administration import accounts
from windbreak.operations.errors import Refused
from windbreak.operations.findings import findings
from windbreak.operations.licensing import licence_views
from windbreak.operations.tracking import catalogue, credentials, feeds, polling
from windbreak.operations.views import coverage
from windbreak.operations.views import products as product_views
from windbreak.operations.views import sites as site_views
from windbreak.standins import faults
from windbreak.standins.feeds import EBBING_KEY, EBBING_USER


class Vanishing(WithContext):
    def setUp(self) -> None:
        super().setUp()
        marker = self.demo.standins_folder / "feeds/ebbing.later"
        marker.unlink(missing_ok=True)
        self.marker: Path = marker
        new = {
            "id": "ebbing",
            "label": "Ebbing Tide",
            "url": f"{self.where['feeds']}/ebbing/releases.json",
            "sign_in": "user and key",
            "sign_in_name": EBBING_USER,
            "credential": EBBING_KEY,
        }
        feeds.register(self.context, NewFeed.model_validate(new), RHONA)
        self.first = polling.poll(self.context, "ebbing")

    def faults(self, **told: object) -> None:
        file = self.demo.standins_folder / "feeds/faults.json"
        faults.put(file, {"ebbing": told})
        self.addCleanup(file.unlink, missing_ok=True)

    def test_a_release_that_is_listed_no_longer_was_withdrawn(self) -> None:
        known = self.context.store.releases.get("plugin/muster@1.9.5")
        self.assertIsNone(known.withdrawn_at)
        polling.poll(self.context, "ebbing")
        known = self.context.store.releases.get("plugin/muster@1.9.5")
        self.assertIsNotNone(known.withdrawn_at)
        # It is listed again: nothing was lost.
        self.marker.unlink()
        polling.poll(self.context, "ebbing")
        known = self.context.store.releases.get("plugin/muster@1.9.5")
        self.assertIsNone(known.withdrawn_at)

    def test_an_item_that_can_not_be_read_is_not_taken_for_withdrawn(self) -> None:
        feed = self.context.store.feeds.get("ebbing")
        known = {r.id: r.withdrawn_at for r in self.context.store.releases.all(feed="ebbing")}
        listed = [r for r in self.context.store.releases.all(feed="ebbing")]
        announced = Announced(
            announcements=tuple(
                Announcement.model_validate(r.model_dump(include=set(Announcement.model_fields)))
                for r in listed
                if r.version != "1.9.5" and not r.product.startswith("theme/capstan")
            ),
            unread=("plugin/muster",),
        )
        catalogue.take_in(self.context, feed, announced, self.context.clock())
        after = {r.id: r.withdrawn_at for r in self.context.store.releases.all(feed="ebbing")}
        changed = {id for id in after if after[id] != known[id]}
        # Of Muster something was passed over; of Capstan nothing is listed any more.
        self.assertEqual(changed, {"theme/capstan@3.2", "theme/capstan@3.3"})
        self.assertIsNotNone(self.context.store.products.get("theme/capstan").withdrawn_at)
        self.assertIsNone(self.context.store.products.get("plugin/muster").withdrawn_at)

    def test_the_same_version_with_another_package_is_a_finding_that_closes_when_decided(
        self,
    ) -> None:
        polling.poll(self.context, "ebbing")
        (found,) = [f for f in look_again(self.context) if f.kind == "republished"]
        self.assertIn("Capstan", found.headline)
        opened = found.opened_at
        self.later = timedelta(hours=1)
        (again,) = [f for f in look_again(self.context) if f.kind == "republished"]
        self.assertEqual(again.opened_at, opened)

    def test_a_feed_that_fails_says_nothing_of_any_product(self) -> None:
        before = self.context.store.releases.all(), self.context.store.products.all()
        for told, part in [
            ({"status": 503, "retry_after": 7200}, "status 503"),
            ({"broken": True}, "not JSON"),
            ({"deep": True}, "not JSON"),
            ({"empty": True}, "lists nothing"),
            ({"huge": True}, "sends more than"),
            ({"loop": True}, "redirected more than"),
            ({"elsewhere": "http://10.3.2.1/feed"}, "private network"),
            ({"bomb": True}, "not JSON"),
        ]:
            with self.subTest(told=told):
                self.faults(**told)
                result = polling.poll(self.context, "ebbing", fresh=True)
                self.assertEqual(result.state, "failing")
                self.assertIn(part, result.text)
                after = self.context.store.releases.all(), self.context.store.products.all()
                self.assertEqual(after, before)
        feed = self.context.store.feeds.get("ebbing")
        self.assertEqual(feed.failures, 8)

    def test_retry_after_is_obeyed(self) -> None:
        self.faults(status=429, retry_after=5400)
        polling.poll(self.context, "ebbing")
        feed = self.context.store.feeds.get("ebbing")
        assert feed.next_poll_at is not None and feed.polled_at is not None
        self.assertEqual(feed.next_poll_at - feed.polled_at, timedelta(seconds=5400))

    def test_a_fresh_no_is_looked_at_again_before_anybody_is_bothered(self) -> None:
        credentials.replace(self.context, "ebbing", "another-key-altogether", RHONA)
        self.assertFalse(credentials.check(self.context, "ebbing").sure)
        self.assertNotIn("credential", {f.kind for f in look_again(self.context)})
        self.assertEqual(credentials.checks_due(self.context), [])
        self.later = credentials.LOOK_AGAIN + timedelta(seconds=1)
        self.assertEqual(credentials.checks_due(self.context), ["ebbing"])
        self.assertTrue(credentials.check(self.context, "ebbing").sure)
        self.assertIn("credential", {f.kind for f in look_again(self.context)})
        credentials.replace(self.context, "ebbing", EBBING_KEY, RHONA)
        self.assertTrue(credentials.check(self.context, "ebbing").valid)
        self.assertNotIn("credential", {f.kind for f in look_again(self.context)})

    def test_the_same_credential_elsewhere_is_named_and_replaced_with_it(self) -> None:
        again = {"id": "ebbing-2", "label": "Ebbing, beta", "sign_in": "user and key"}
        again |= {"url": f"{self.where['feeds']}/ebbing/x.json", "sign_in_name": EBBING_USER}
        new = NewFeed.model_validate({**again, "credential": EBBING_KEY})
        feeds.register(self.context, new, RHONA)
        others = credentials.others_with(self.context, "ebbing")
        self.assertEqual([f.id for f in others], ["ebbing-2"])
        credentials.replace(self.context, "ebbing", "key-two-of-ours", RHONA)
        last = self.context.store.ledger.all(subject="ebbing", newest_first=True, limit=1)[0]
        self.assertIn("still with the old one: Ebbing, beta", last.result)
        credentials.replace(self.context, "ebbing", EBBING_KEY, RHONA)
        credentials.replace(self.context, "ebbing", "key-three", RHONA, everywhere=True)
        others = credentials.others_with(self.context, "ebbing")
        self.assertEqual([f.id for f in others], ["ebbing-2"])

    def test_a_credential_of_somebody_who_left_is_found(self) -> None:
        accounts.ensure_account(self.context, "owen", "Owen Pell")
        self.context.store.feeds.change("ebbing", set_up_by="owen")
        accounts.close(self.context, "owen", RHONA)
        (found,) = [f for f in look_again(self.context) if f.kind == "setter"]
        self.assertIn("Owen Pell, whose account is closed", found.headline)


class Catalogue(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()

    def test_a_private_address_is_refused_at_registering(self) -> None:
        self.context.allowed = ()
        for url in ("http://127.0.0.1/feed", "https://maker.local/feed", "http://[::1]/feed"):
            with self.subTest(url=url), self.assertRaises(Refused) as caught:
                new = NewFeed(id="inward", label="Inward", url=url)
                feeds.register(self.context, new, RHONA)
            self.assertEqual(caught.exception.code, "private-network")

    def test_what_is_wanting_in_a_feed_is_said(self) -> None:
        base = {"id": "new", "label": "New", "url": f"{self.where['feeds']}/x"}
        for more, code in [
            ({"sign_in": "header", "credential": "abc"}, "no-name"),
            ({"sign_in": "query"}, "no-credential"),
            ({"kind": "recipe"}, "no-recipe"),
            ({"kind": "recipe", "reading": {"recipe": "nothing"}}, "no-recipe"),
            ({"kind": "atom"}, "no-product"),
            ({"kind": "atom", "reading": {"product": "plugin/x", "version": "("}}, "bad-pattern"),
            ({"id": "by-hand"}, "reserved"),
        ]:
            with self.subTest(more=more), self.assertRaises(Refused) as caught:
                new = NewFeed.model_validate({**base, **more})
                feeds.register(self.context, new, RHONA)
            self.assertEqual(caught.exception.code, code)

    def test_a_headline_older_than_its_list_is_told_and_not_believed(self) -> None:
        (told,) = self.context.store.feeds.get("chandlery").disagreements
        self.assertEqual(
            (told.headline, told.changelog, told.believed), ("5.1", "5.2", "changelog")
        )
        self.assertIn("sources", {f.kind for f in look_again(self.context)})

    def test_a_weakness_is_not_forgotten_because_a_document_broke(self) -> None:
        url = f"{self.where['feeds']}/osv/all.json"
        packages = {"packages": {"sextant": "plugin/sextant"}}
        told = {"id": "osv", "label": "OSV", "kind": "advisories", "url": url, "reading": packages}
        feeds.register(self.context, NewFeed.model_validate(told), RHONA)
        polling.poll(self.context, "osv")
        feed, now = self.context.store.feeds.get("osv"), self.context.clock()
        (known,) = self.context.store.advisories.all()
        for announced in (Announced(), Announced(faults=("advisory 0: broken",))):
            catalogue.take_in(self.context, feed, announced, now)
            self.assertEqual(self.context.store.advisories.all(), [known])
        other = known.model_copy(update={"id": "A-2026-9"})
        catalogue.take_in(self.context, feed, Announced(advisories=(other,)), now)
        self.assertEqual(self.context.store.advisories.all(), [other])

    def test_one_makers_feed_does_not_withdraw_anothers_product(self) -> None:
        feed, now = self.context.store.feeds.get("chandlery"), self.context.clock()
        listed = self.context.store.releases.all(feed="chandlery")
        fields = set(Announcement.model_fields)
        again = [Announcement.model_validate(r.model_dump(include=fields)) for r in listed]
        announced = Announced(
            announcements=tuple(again), withdrawn={"plugin/oarlock": "it is ours"}
        )
        catalogue.take_in(self.context, feed, announced, now)
        self.assertIsNone(self.context.store.products.get("plugin/oarlock").withdrawn_at)

    def test_a_product_withdrawn_by_its_maker_is_known_as_such(self) -> None:
        known = self.context.store.products.get("plugin/popinjay")
        self.assertIsNotNone(known.withdrawn_at)
        self.assertIn("September 2024", known.withdrawn_text)

    def test_a_hop_inherits_what_it_passes(self) -> None:
        releases = self.context.store.releases.all(product="theme/breakwater")
        start, end = parse_version("4.9"), parse_version("5.2")
        found = passed("theme/breakwater", releases, start, end)
        self.assertEqual(found.releases, ("5.0", "5.1", "5.2"))
        self.assertEqual(found.silent, ("5.1",))
        self.assertEqual(found.counts, {"security": 0, "fix": 1, "feature": 2, "breaking": 1})
        assert found.licence is not None
        self.assertEqual((found.licence.form, found.licence_at), ("per-site code", "5.0"))
        self.assertEqual({t.kind for t in found.tasks}, {"register", "review", "regenerate"})
        later = passed("theme/breakwater", releases, parse_version("5.0"), end)
        self.assertIsNone(later.licence)
        self.assertEqual(passed("theme/breakwater", releases, end, start).releases, ())

    def test_how_long_a_theme_takes_to_carry_a_plugin(self) -> None:
        releases = self.context.store.releases.all
        found = lag(
            "theme/breakwater",
            "plugin/trestle",
            releases(product="theme/breakwater"),
            releases(product="plugin/trestle"),
        )
        # 4.7: 30 days, 4.8: 30, 5.0: 23, 5.1: 24; the middle of them.
        self.assertEqual((found.days, found.releases), (27, 4))

    def test_four_answers_to_newest_are_kept_apart(self) -> None:
        self.site("tarnsey-harbour")
        catch_up(self.context)
        view = site_views.site_view(self.context, "tarnsey-harbour")
        four = {c.product: c.four for c in view.components}
        trestle, core = four["plugin/trestle"], four["core/millrace"]
        assert trestle is not None and core is not None
        self.assertEqual(
            (trestle.maker, trestle.carried, trestle.licence, trestle.policy),
            ("5.2", "4.8", "5.1", "5.2"),  # policy answers whatever the licence says
        )
        self.assertEqual((core.maker, core.licence, core.policy), ("6.5", "6.5", "6.4.3"))

    def test_coverage_tells_why_nobody_tells(self) -> None:
        self.site("tarnsey-harbour")
        inventory = self.context.store.inventories.get("tarnsey-harbour")
        one = inventory.components[-2]
        odd = [
            one.model_copy(
                update={"product": "plugin/popinjay", "version": "1.2", "name": "Popinjay"}
            ),
            one.model_copy(update={"product": "plugin/airlog", "version": "1.4", "name": "Airlog"}),
            one.model_copy(
                update={
                    "product": "theme/lanternroom",
                    "version": "1.4",
                    "name": "Lanternroom",
                    "maker": "Tarnsey Borough",
                }
            ),
            one.model_copy(
                update={
                    "product": "plugin/oarlock-old",
                    "version": "7.1.2",
                    "name": "Oarlock",
                    "folder": "oarlock-old",
                }
            ),
        ]
        more = inventory.model_copy(update={"components": (*inventory.components, *odd)})
        self.context.store.inventories.put(more)
        self.context.tell("site", "tarnsey-harbour", "changed")
        found = coverage.coverage(self.context)
        self.assertEqual(found.components - found.covered, 4)
        whys = {u.product: u.why for u in found.uncovered}
        self.assertEqual(
            whys,
            {
                "plugin/popinjay": "withdrawn",
                "plugin/airlog": "never listed",
                "theme/lanternroom": "namesake",
                "plugin/oarlock-old": "never listed",
            },
        )
        kinds = {f.kind for f in look_again(self.context)}
        self.assertLessEqual({"withdrawn", "namesake", "copy"}, kinds)
        self.context.store.feeds.change("commons", state="failing", reason="Nobody answers.")
        down = [u for u in coverage.coverage(self.context).uncovered if u.why == "feed down"]
        self.assertIn("core/millrace", {u.product for u in down})

    def test_versions_in_use_are_added_up_across_the_fleet(self) -> None:
        self.site("tarnsey-harbour")
        self.site("whinchat-radio")
        catch_up(self.context)
        rows = {r.product.id: r for r in product_views.products(self.context)}
        trestle = rows["plugin/trestle"]
        self.assertEqual(
            [(u.version, len(u.sites)) for u in trestle.versions],
            [("4.8", 1), ("5.0", 1), ("5.2", 0)],
        )
        self.assertEqual((trestle.newest, trestle.sites, trestle.may), ("5.2", 2, 2))
        catch_up(self.context)
        view = product_views.product(self.context, "plugin/trestle")
        self.assertEqual((view.carried_newest, view.carried_in), ("5.1", "Breakwater 5.2"))
        above = {p.start: p.counts for p in view.above}
        self.assertEqual(above["4.8"], {"security": 1, "fix": 2, "feature": 1, "breaking": 1})

    def test_a_finding_is_put_aside_to_a_day_and_comes_back(self) -> None:
        self.site("tarnsey-harbour")
        look_again(self.context)
        today = self.context.clock().date()
        id = "sources:chandlery:theme/breakwater"
        for until in (today, today + timedelta(days=400)):
            with self.assertRaises(Refused):
                findings.snooze(self.context, id, SnoozeFinding(until=until, why="x"), RHONA)
        said = SnoozeFinding(until=today + timedelta(days=3), why="they were told")
        findings.snooze(self.context, id, said, RHONA)
        self.assertNotIn(id, {f.id for f in look_again(self.context)})
        self.assertEqual([f.id for f in findings.parted(self.context)[1]], [id])
        self.later = timedelta(days=3)
        self.assertIn(id, {f.id for f in look_again(self.context)})
        # Its cause goes: it closes, put aside or not.
        self.context.store.feeds.change("chandlery", disagreements=())
        look_again(self.context)
        self.assertIsNone(self.context.store.findings.find(id))

    def test_sites_are_found_by_facts(self) -> None:
        self.site("tarnsey-harbour")
        self.site("whinchat-radio")
        for fact, expected in [
            ("trestle<5.0", ["tarnsey-harbour"]),
            ("plugin/trestle >=4", ["tarnsey-harbour", "whinchat-radio"]),
            ("gangway", ["whinchat-radio"]),
        ]:
            with self.subTest(fact=fact):
                catch_up(self.context)
                rows = site_views.summaries(self.context, site_views.Wanted(runs=fact))
                self.assertEqual(sorted(r.id for r in rows), expected)
        for fact in ("<5", "trestle<<5", "nothing<2"):
            with self.subTest(fact=fact), self.assertRaises(Refused):
                catch_up(self.context)
                site_views.summaries(self.context, site_views.Wanted(runs=fact))

    def test_what_stops_names_what_is_carried(self) -> None:
        stops = licence_views.view(self.context, "breakwater").stops
        self.assertIn("Foglamp", stops)
        self.assertIn("Trestle", stops)
