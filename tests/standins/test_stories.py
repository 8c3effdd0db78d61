"""Each story of the demo fleet, told by the service: the sentence is read where it is seen."""

from __future__ import annotations

import tempfile
import time
import unittest
from pathlib import Path

from tests.running import by_day
from windbreak.client import Windbreak
from windbreak.documents.sites import SiteView
from windbreak.standins.demo import Demo, set_up


class Stories(unittest.TestCase):
    windbreak: Windbreak

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        cls.addClassCleanup(folder.cleanup)
        demo = Demo(Path(folder.name))
        cls.addClassCleanup(demo.stop)
        by_day(demo)
        where = demo.start_standins()
        demo.start_service()
        set_up(demo, where)
        cls.windbreak = Windbreak(demo.address, demo.token("stories"))
        cls.addClassCleanup(cls.windbreak.close)
        for _ in range(100):  # what was set up last is folded into the views
            if len(cls.windbreak.sites()) == 37 and cls.windbreak.today().totals.moves > 100:
                break
            time.sleep(0.1)

    def site(self, id: str) -> SiteView:
        return self.windbreak.site(id)

    def text(self, site: str, product: str) -> str:
        return next(c.text for c in self.site(site).components if c.product == product)

    def test_what_a_site_is_kept_back_by_is_told_once_with_the_act(self) -> None:
        for site, kind, part, act in (
            ("fulmar-cottages", "ended", "Fulmar’s own code ended on", "renew"),
            ("marram-press", "no seat", "all its 6 seats are taken", "buy-seat"),
            ("gannet-rock", "undecided", "waits for a decision", "decide"),
        ):
            with self.subTest(site=site):
                root = self.site(site).roots[0]
                self.assertEqual((root.kind, root.ways[0].act), (kind, act))
                self.assertIn(part, root.text)
        fulmar = self.site("fulmar-cottages").roots
        self.assertEqual(len(fulmar), 1)
        self.assertIn("which Breakwater carries", fulmar[0].keeps_text)

    def test_why_a_product_stays_or_stops_short(self) -> None:
        for site, product, part in (
            ("kelp-and-oar", "core/millrace", "the host offers Loom 7.4 and 8.0"),
            ("sandbar-cinema", "core/millrace", "Rhona Vale holds Millrace 6.5 here"),
            ("seapink-florists", "plugin/netloft", "1.9 drops captions"),
            ("ness-ferries", "plugin/sextant", "2.3.1 closes it"),
            ("slipway-boatyard", "plugin/popinjay", "was withdrawn by its maker"),
            ("cockle-row", "theme/lanternroom", "Made for this site"),
            ("fulmar-cottages", "plugin/trestle", "Breakwater 5.2 would bring 5.1"),
            ("whinchat-radio", "plugin/trestle", "Breakwater carries no Trestle 5.2 yet"),
        ):
            with self.subTest(site=site, product=product):
                self.assertIn(part, self.text(site, product))
        ropewalk = self.site("ropewalk-arts").components
        trestle = next(c for c in ropewalk if c.product == "plugin/trestle")
        self.assertEqual((trestle.target, trestle.origin), ("5.2", "licensed, Gantry House"))

    def test_what_is_broken_today_is_told(self) -> None:
        (broken,) = self.site("gannet-rock").broken
        self.assertEqual(broken.text, "Capstan Blocks 3.3 needs Capstan 3.3, and 3.2 is here.")
        self.assertFalse(broken.mended)

    def test_links_and_pages_are_told_apart(self) -> None:
        for site, link, pages in (
            ("dunlin-walks", "silent", "fine"),
            ("spindrift-surf", "down", "unreachable"),
            ("bell-rock", "refused", "fine"),
            ("skerry-light", "linked", "fine"),
        ):
            view = self.site(site)
            self.assertEqual((view.link_state, view.pages_state), (link, pages), site)

    def test_what_was_changed_by_hand_is_known_before_a_plan_is_approved(self) -> None:
        (one,) = self.site("cockle-row").by_hand
        self.assertEqual(
            (one.files.changed, one.files.added), (("main.txt",), ("languages/cy.txt",))
        )

    def test_the_steps_of_the_plans_say_why_they_stand_there(self) -> None:
        for site, parts in (
            ("tarnsey-harbour", ("Together, behind a maintenance page",)),
            ("pilot-house", ("need each other",)),
            ("slipway-boatyard", ("Oarlock 7.2 needs Millrace 6.2 or newer",)),
        ):
            plan = self.windbreak.draft_plan(site).plan
            whys = " ".join(step.why for step in plan.steps)
            for part in parts:
                self.assertIn(part, whys, site)
        first = self.windbreak.draft_plan("slipway-boatyard").plan.steps[0]
        self.assertEqual([m.product for m in first.moves], ["plugin/sextant"])

    def test_today_tells_each_matter_once(self) -> None:
        today = self.windbreak.today()
        heads = [f.headline for f in today.findings]
        self.assertEqual(len(heads), len(set(heads)))
        told = " ".join(f"{f.headline} {f.text}" for f in today.findings)
        for part in (
            "Fulmar’s own code** ended",
            "grace for Breakwater ends",
            "Spindrift Surf** is down",
            "Bell Rock Diving** refuses our key",
            "whose account is closed",
            "disagrees with itself",
            "was changed by hand",
        ):
            self.assertIn(part, told)
        self.assertEqual(sum("Fulmar’s own code" in head for head in heads), 1)

    def test_a_network_stands_with_its_members(self) -> None:
        view = self.site("turnstone-schools")
        self.assertEqual(len(view.members), 6)
        self.assertEqual({member.state for member in view.members}, {"fine"})
        on = {member.name: member.on for member in view.members}
        self.assertEqual(on["Turnstone Sixth Form"], ("Tidetable", "Oarlock"))
        self.assertEqual(on["Turnstone Infants"], ())

    def test_what_sites_say_of_themselves_is_told_with_who_said_it(self) -> None:
        fulmar = self.site("fulmar-cottages")
        self.assertEqual(fulmar.checks_text, "2 of 6 not good, 1 of them critical.")
        told = {f.kind: f for f in self.windbreak.today().findings}
        self.assertIn("Mail can’t be sent", told["checks"].text)
        self.assertIn("Tollhouse says: its copy of a template is of 8.2", told["complaint"].text)

    def test_every_site_of_a_product_is_in_one_group(self) -> None:
        for row in self.windbreak.products():
            view = self.windbreak.product(row.product.id)
            groups = [view.may, view.wait, view.held, view.newest, view.unknown]
            placed = [one.site for group in groups for one in group]
            placed += [one.site for group in view.cannot for one in group.sites]
            self.assertEqual(sorted(placed), sorted(one.site for one in view.on_sites), row.product)
            counted = row.may + row.wait + row.cannot + row.held + row.newest_on + row.unknown
            self.assertEqual(counted, len(view.on_sites), row.product.id)
