"""The shelf: complete downloads, who may have what, what is kept for going back."""

import contextlib
import hashlib
import http.server
import threading
from dataclasses import replace
from datetime import timedelta
from typing import ClassVar

from tests.operations.within import RHONA, WithContext
from windbreak.core.values.releases import Announcement, Attachment, NewRelease
from windbreak.core.values.verdicts import Verdict
from windbreak.feeds.announced import Announced
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_codes, licensing
from windbreak.operations.reasoning import answers, cases
from windbreak.operations.reasoning.explaining import explained
from windbreak.operations.sites import marks
from windbreak.operations.tracking import catalogue as catalogue_of
from windbreak.operations.tracking import polling, rights, shelving
from windbreak.standins import catalogue

STAMPS = catalogue.find("plugin/oarlock-stamps", "2.0")


class _Maker(http.server.BaseHTTPRequestHandler):
    """A maker whose packages are had by each site's own code."""

    asked: ClassVar[list[str]] = []

    def do_GET(self) -> None:
        self.asked.append(self.path)
        body = catalogue.archive(catalogue.find("theme/breakwater", "5.2"))
        self.send_response(200 if "/BW5-TARNSEY-HK2D-7Q2F/" in self.path else 403)
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        with contextlib.suppress(OSError):
            self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass


class BySiteCode(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("tarnsey-harbour")
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Maker)
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        _Maker.asked.clear()
        self.home = f"http://127.0.0.1:{server.server_port}"
        release = self.context.store.releases.get("theme/breakwater@5.2")
        assert release.package is not None
        there = release.package.model_copy(
            update={"url": f"{self.home}/for/{{code}}/breakwater.zip"}
        )
        self.context.store.releases.change(release.id, package=there)

    def fetch(self, site: str | None) -> str:
        try:
            return shelving.fetch_package(self.context, "theme/breakwater", "5.2", site).version
        except Refused as error:
            return error.code

    def test_the_code_of_the_site_goes_into_the_address_at_home_only(self) -> None:
        self.assertEqual(self.fetch("tarnsey-harbour"), "elsewhere")
        self.assertEqual(_Maker.asked, [])
        self.context.store.feeds.change("chandlery", origins=(self.home,))
        self.assertEqual(self.fetch(None), "needs-a-code")
        self.assertEqual(self.fetch("tarnsey-harbour"), "5.2")
        self.assertEqual(_Maker.asked, ["/for/BW5-TARNSEY-HK2D-7Q2F/breakwater.zip"])

    def test_a_site_without_a_code_gets_nothing_and_a_refused_one_is_not_told_aloud(self) -> None:
        self.context.store.feeds.change("chandlery", origins=(self.home,))
        licence_codes.rotate(
            self.context, "breakwater", "BW5-WRONG-CODE-0", "tarnsey-harbour", RHONA
        )
        with self.assertRaises(Refused) as caught:
            shelving.fetch_package(self.context, "theme/breakwater", "5.2", "tarnsey-harbour")
        self.assertEqual(caught.exception.code, "fetch-failed")
        self.assertNotIn("BW5-WRONG", str(caught.exception))
        licensing.unseat(self.context, "breakwater", "tarnsey-harbour", RHONA)
        self.assertEqual(self.fetch("tarnsey-harbour"), "no-code")


class Shelving(WithContext):
    def test_of_a_complete_download_the_installable_archive_is_taken(self) -> None:
        package = shelving.put_on_shelf(self.context, catalogue.complete_download(STAMPS), RHONA)
        self.assertEqual((package.product, package.version), ("plugin/oarlock-stamps", "2.0"))
        self.assertEqual(package.inner, "oarlock-stamps-complete/oarlock-stamps-2.0.zip")
        self.assertEqual(self.context.shelf.read(package), catalogue.archive(STAMPS))

    def test_several_that_could_be_meant_are_named_and_none_is_kept(self) -> None:
        two = catalogue._packed(
            {
                "all/one.zip": catalogue.archive(STAMPS),
                "all/two.zip": catalogue.archive(catalogue.find("plugin/oarlock", "7.2")),
            }
        )
        with self.assertRaises(Refused) as caught:
            shelving.put_on_shelf(self.context, two, RHONA)
        self.assertIn("plugin/oarlock-stamps 2.0", str(caught.exception))
        self.assertEqual(self.context.store.packages.all(), [])

    def test_what_is_brought_has_the_sum_its_maker_told_or_nothing_is_kept(self) -> None:
        self.feeds()
        archive = catalogue.archive(catalogue.find("plugin/oarlock", "7.2"))
        id = self.context.store.releases.id_of("plugin/oarlock", "7.2")
        release = self.context.store.releases.get(id)
        assert release.package is not None
        shelving.put_on_shelf(self.context, archive, RHONA)
        before = self.context.store.packages.all()
        other = release.package.model_copy(update={"sha256": "0" * 64})
        self.context.store.releases.change(id, package=other, refused="its sum")
        with self.assertRaises(Refused) as caught:
            shelving.put_on_shelf(self.context, archive, RHONA)
        self.assertIn("as its maker told", str(caught.exception))
        self.assertEqual(self.context.store.packages.all(), before)  # what was there stays
        self.context.store.releases.change(id, package=release.package)
        shelving.put_on_shelf(self.context, archive, RHONA)
        self.assertIsNone(self.context.store.releases.get(id).refused)

    def test_being_on_the_shelf_gives_no_right(self) -> None:
        self.feeds()
        self.site("tarnsey-harbour")
        package = shelving.put_on_shelf(
            self.context, catalogue.archive(catalogue.find("plugin/trestle", "5.2")), RHONA
        )
        self.assertEqual(cases.case_of(self.context, "tarnsey-harbour").site.shelf, ())
        shelving.give(self.context, package.id, "tarnsey-harbour", RHONA)
        (item,) = cases.case_of(self.context, "tarnsey-harbour").site.shelf
        self.assertEqual((item.product, item.version), ("plugin/trestle", "5.2"))
        moves = {
            v.product: v.to for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
        }
        self.assertEqual(moves["plugin/trestle"], "5.2")

    def test_what_a_site_ran_before_it_may_have_again(self) -> None:
        self.feeds()
        self.site("tarnsey-harbour")
        shelving.fetch_package(self.context, "plugin/oarlock", "7.1.2")
        found = {r.product: r.why for r in rights.of_site(self.context, "tarnsey-harbour")}
        self.assertEqual(found, {"plugin/oarlock": "run by it"})
        shelving.fetch_package(self.context, "theme/breakwater", "5.2", "tarnsey-harbour")
        right = self.context.store.rights.get("tarnsey-harbour theme/breakwater@5.2")
        self.assertEqual(right.why, "taken under its seat")

    def test_what_runs_and_the_last_good_one_never_leave(self) -> None:
        self.feeds()
        self.site("tarnsey-harbour")
        for product, version in [
            ("plugin/oarlock", "7.1.2"),
            ("plugin/oarlock", "7.2"),
            ("plugin/tidetable", "3.1"),
            ("plugin/gangway", "2.7"),
            ("plugin/gangway", "2.8"),
        ]:
            shelving.fetch_package(self.context, product, version)
        self.later = timedelta(days=400)
        dropped = {(p.product, p.version) for p in shelving.tidy(self.context, 180, 1000)}
        # 7.1.2 runs; nobody runs Gangway, so its newest stays; of Tidetable 3.1 is the only one.
        self.assertEqual(dropped, {("plugin/oarlock", "7.2"), ("plugin/gangway", "2.7")})
        kept = self.context.shelf.find("plugin/oarlock", "7.1.2")
        assert kept is not None
        with self.assertRaises(Refused) as caught:
            shelving.drop(self.context, kept.id, RHONA)
        self.assertIn("runs it", str(caught.exception))

    def test_too_much_goes_oldest_first(self) -> None:
        self.feeds()
        for version in ("2.7", "2.8"):
            shelving.fetch_package(self.context, "plugin/gangway", version)
        self.assertEqual([p.version for p in shelving.tidy(self.context, 180, 0)], ["2.7"])
        self.assertEqual(shelving.tidy(self.context, 180, 0), [])

    def test_the_package_outranks_what_its_feed_told(self) -> None:
        self.feeds()
        release = self.context.store.releases.get("theme/breakwater@5.2")
        told = {
            "plugin/trestle": release.bundles["plugin/trestle"].model_copy(
                update={"version": "5.0"}
            )
        }
        self.context.store.releases.change(release.id, bundles=told)
        shelving.fetch_package(self.context, "theme/breakwater", "5.2")
        after = self.context.store.releases.get(release.id)
        self.assertEqual(after.bundles["plugin/trestle"].version, "5.1")
        assert after.corrected is not None
        self.assertIn("plugin/trestle 5.1 and not 5.0", after.corrected)
        # The feed says it again, and is still not believed.
        polling.poll(self.context, "chandlery", fresh=True)
        after = self.context.store.releases.get(release.id)
        self.assertEqual(after.bundles["plugin/trestle"].version, "5.1")

    def test_a_release_typed_in_and_its_package_reach_the_site_they_are_for(self) -> None:
        self.feeds()
        self.site("tarnsey-harbour")
        inventory = self.context.store.inventories.get("tarnsey-harbour")
        stamps = inventory.components[0].model_copy(
            update={"product": STAMPS.product, "version": "1.9", "name": "Oarlock Stamps"}
        )
        more = inventory.model_copy(update={"components": (*inventory.components, stamps)})
        self.context.store.inventories.put(more)
        day = self.context.clock().date() - timedelta(days=20)
        new = NewRelease(product=STAMPS.product, version="2.0", published=day, source="a mail")
        catalogue_of.type_in(self.context, new, RHONA)
        with self.assertRaises(Refused):
            catalogue_of.type_in(self.context, new, RHONA)
        moves = {
            v.product: v.to for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
        }
        self.assertEqual(moves[STAMPS.product], "1.9")
        shelving.put_on_shelf(self.context, catalogue.archive(STAMPS), RHONA, ("tarnsey-harbour",))
        moves = {
            v.product: v.to for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
        }
        self.assertEqual(moves[STAMPS.product], "2.0")

    def test_what_was_made_for_a_site_takes_no_offer_of_its_name(self) -> None:
        self.feeds()
        self.site("tarnsey-harbour")
        marks.mark_own(self.context, "tarnsey-harbour", "plugin/oarlock", RHONA)
        moves = {
            v.product: v.to for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
        }
        self.assertEqual(moves["plugin/oarlock"], "7.1.2")
        with self.assertRaises(Refused):
            marks.mark_own(self.context, "tarnsey-harbour", "plugin/nothing", RHONA)


class Brought(WithContext):
    """A package that a person brings, newer than anything its feed tells of."""

    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("skerry-light")
        self.site("skerry-light-twin")
        self.newer = replace(catalogue.find("plugin/oarlock", "7.2"), version="7.2.1")
        self.archive = catalogue.archive(self.newer)

    def verdict(self, site: str) -> Verdict:
        self.later = timedelta(days=2)  # its soak is over
        known = self.context.store.sites.get(site)
        reasoned = answers.reason(self.context, cases.case_of(self.context, site))
        told = explained(cases.Ground.read(self.context), known, reasoned).answer.verdicts
        self.later = timedelta()
        return next(v for v in told if v.product == "plugin/oarlock")

    def test_it_makes_its_release_known_and_is_offered_to_whom_it_was_given(self) -> None:
        package = shelving.put_on_shelf(self.context, self.archive, RHONA, ("skerry-light",))
        release = self.context.store.releases.get("plugin/oarlock@7.2.1")
        self.assertIn("Brought by Rhona Vale", release.text)
        self.assertEqual(self.verdict("skerry-light").to, "7.2.1")
        other = self.verdict("skerry-light-twin")
        self.assertEqual(other.to, "7.2")
        assert other.blocked is not None
        self.assertEqual(
            other.blocked.roots[0].text,
            "Oarlock 7.2.1 was brought by hand, and not given to this site.",
        )
        (way,) = other.blocked.roots[0].ways
        self.assertEqual((way.act, way.on["package"]), ("give-package", package.id))
        shelving.give(self.context, package.id, "skerry-light-twin", RHONA)
        self.assertEqual(self.verdict("skerry-light-twin").to, "7.2.1")

    def test_what_is_older_than_what_is_known_makes_nothing_known(self) -> None:
        older = replace(self.newer, version="7.1.9")
        shelving.put_on_shelf(self.context, catalogue.archive(older), RHONA, ())
        self.assertIsNone(self.context.store.releases.find("plugin/oarlock@7.1.9"))

    def test_a_feed_that_tells_of_it_later_takes_over_and_another_package_is_asked_about(
        self,
    ) -> None:
        shelving.put_on_shelf(self.context, self.archive, RHONA, ("skerry-light",))
        feed = self.context.store.feeds.get("commons")
        for sha256, asked in ((hashlib.sha256(self.archive).hexdigest(), False), ("f" * 64, True)):
            told = Announcement(
                product="plugin/oarlock",
                version="7.2.1",
                title="Oarlock 7.2.1",
                published=self.context.clock().date(),
                package=Attachment(url=f"{feed.url}/x.zip", sha256=sha256),
            )
            catalogue_of.take_in(
                self.context, feed, Announced(announcements=(told,)), self.context.clock()
            )
            release = self.context.store.releases.get("plugin/oarlock@7.2.1")
            self.assertEqual((release.feed, release.undecided), ("commons", asked))
        self.assertEqual(self.verdict("skerry-light-twin").to, "7.2")
