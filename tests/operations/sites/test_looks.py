"""Networks of sites, health checks and complaints: seen, kept with their history, and told."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from unittest import mock

from tests.operations.runs.within import WithRuns
from tests.operations.within import look_again
from windbreak.core.values.findings import Finding
from windbreak.core.values.inventories import Member
from windbreak.core.values.turns import GONE
from windbreak.documents.sites import SiteView
from windbreak.operations.administration.retention import Retention, forget
from windbreak.operations.runs import looking
from windbreak.operations.sites import sites, turns, visits
from windbreak.operations.views import sites as site_views
from windbreak.standins.millrace import MillraceSite, Part

SITE, ON = "skerry-light", "plugin/gangway"
MAIL = '{"mail": {"name": "Mail is sent", "state": "critical", "text": "Mail can’t be sent."}}'


class Looks(WithRuns):
    def setUp(self) -> None:
        super().setUp()
        pause = mock.patch.object(visits, "_AGAIN_AFTER", 0.01)
        pause.start()
        self.addCleanup(pause.stop)
        self.root = MillraceSite(Path(self.demo.standins_folder) / SITE / "site")
        self.addCleanup(self.root.set_setting, "network", "[]")
        self.addCleanup(self.root.set_setting, "checks", "{}")
        self.site(SITE)

    def network(self) -> None:
        """The site as a network of two: Gangway is on for one of them, and not for the other."""
        self.root.switch(ON, False)
        self.addCleanup(self.root.switch, ON, True)
        self.root.found_network((Part("north", "North School", (ON,)), Part("south", "South")))
        sites.refresh(self.context, SITE)

    def spoil(self) -> None:
        """Whatever Gangway is on for is white from now on."""
        name = f"spoilt:white:{ON}"
        self.root.set_setting(name, "2.7")
        self.addCleanup(self.root.set_setting, name, "")

    def view(self) -> SiteView:
        return site_views.site_view(self.context, SITE)

    def found(self, kind: str) -> list[Finding]:
        return [f for f in look_again(self.context) if f.kind == kind]

    def visit(self) -> None:
        visits.visit(self.context, self.context.store.sites.get(SITE))

    def test_members_stand_with_their_addresses_and_what_is_on_there(self) -> None:
        self.network()
        view = self.view()
        self.assertEqual([m.name for m in view.members], ["North School", "South"])
        self.assertEqual([m.on for m in view.members], [("Gangway",), ()])
        self.assertEqual({m.state for m in view.members}, {"fine"})
        self.assertTrue(view.members[0].address.endswith("/north"))
        self.assertIn("2 members: one installation", view.members_text)
        where = {c.product: c.where for c in view.components}
        self.assertEqual(where[ON], "on 1 of 2 members")
        self.assertEqual(where["plugin/oarlock"], "")
        self.assertIsNone(next((c for c in view.components if c.active is False), None))

    def test_one_member_that_is_broken_is_told_by_its_name_though_the_rest_is_fine(self) -> None:
        self.network()
        self.spoil()
        self.visit()
        view = self.view()
        self.assertEqual([m.state for m in view.members], ["broken", "fine"])
        self.assertEqual(view.pages_text, "North School’s page is empty.")
        self.assertIn("North School’s page is empty", self.found("pages")[0].text)

    def test_a_run_looks_at_every_member(self) -> None:
        many = [f"school-{n}" for n in range(20)]  # more than pages are chosen elsewhere
        self.root.found_network(Part(name, name) for name in many)
        sites.refresh(self.context, SITE)
        here = visits.visiting(self.context, self.context.store.sites.get(SITE))
        look = sites.agent_for(self.context, SITE).look()
        site = self.context.store.sites.get(SITE)
        chosen = looking.chosen(self.context, site, here, look)
        places = [where.rstrip("/") for _, where in chosen]
        self.assertEqual(len(places), len(set(places)))
        self.assertLessEqual({f"/{name}" for name in many}, set(places))

    def test_a_run_leaves_what_is_on_for_one_member_on_for_that_one(self) -> None:
        self.network()
        plan = self.approved(SITE)
        self.assertIn(ON, plan.targets)
        run = self.carried_out(plan)
        self.assertEqual(run.state, "done", run.text)
        recorded = next(
            e for e in self.lines(run) if (str(e.act), e.state) == ("inventory", "done")
        )
        self.assertNotIn(ON, recorded.detail.active)  # what is recorded is switched on again
        self.assertIn("plugin/oarlock", recorded.detail.active)
        view = self.view()
        self.assertEqual([m.on for m in view.members], [("Gangway",), ()])
        self.assertEqual(self.root.setting(f"on:{ON}"), "off")

    def test_an_agent_sends_nobody_to_another_origin(self) -> None:
        here = visits.visiting(self.context, self.context.store.sites.get(SITE))
        elsewhere = Member(name="Elsewhere", address="http://127.0.0.1:9/x")
        inside, beyond = visits.places_of(here, (elsewhere,))
        self.assertEqual((inside, list(beyond)), ({}, [elsewhere.address]))
        inventory = self.context.store.inventories.get(SITE)
        with_it = inventory.model_copy(update={"members": (elsewhere,)})
        self.context.store.inventories.put(with_it)
        with mock.patch.object(visits, "look_at", wraps=visits.look_at) as looked:
            self.visit()
        self.assertNotIn(elsewhere.address, [call.args[2] for call in looked.call_args_list])
        self.assertEqual(self.view().members[0].state, "not looked")
        self.assertIn("beyond the site’s own", self.view().members[0].reason)

    def test_the_last_day_of_pages_is_kept_and_a_look_that_sees_the_same_writes_nothing(
        self,
    ) -> None:
        self.later = timedelta(days=2)
        self.visit()
        self.assertEqual(self.view().day_text, "In 24 hours: always fine.")
        before = self.context.store.turns.count(site=SITE)
        self.faults(SITE, broken=True)
        self.visit()
        self.visit()
        self.assertEqual(self.context.store.turns.count(site=SITE), before + 1)
        self.assertIn("broken since", self.view().day_text)
        self.faults(SITE)
        self.later += timedelta(minutes=30)
        self.visit()
        self.assertRegex(self.view().day_text, r"broken \d\d:\d\d to \d\d:\d\d\.$")
        self.assertEqual([s.state for s in self.view().day], ["fine", "broken", "fine"])

    def test_health_checks_keep_since_when_they_say_so(self) -> None:
        self.assertEqual(self.view().checks_text, "All 6 good.")
        self.root.set_setting("checks", MAIL)
        sites.refresh(self.context, SITE)
        first = self.view().checks[0]
        self.assertEqual((first.id, first.state), ("mail", "critical"))
        self.later = timedelta(minutes=4)
        sites.refresh(self.context, SITE)
        self.assertEqual(self.view().checks[0].since, first.since)
        self.assertEqual(self.view().checks_text, "1 of 6 not good, 1 of them critical.")
        (finding,) = self.found("checks")
        self.assertIn("1 of its own 6 checks says", finding.headline)
        self.assertIn("Mail can’t be sent.", finding.text)
        self.root.set_setting("checks", "{}")
        sites.refresh(self.context, SITE)
        self.assertEqual(self.found("checks"), [])
        of_mail = self.context.store.turns.all(site=SITE, of="check", name="mail")
        self.assertEqual([t.state for t in of_mail], ["good", "critical", "good"])

    def test_what_is_not_told_of_any_more_is_gone_and_an_agent_that_tells_nothing_is_no_change(
        self,
    ) -> None:
        now = self.context.clock()
        inventory = self.context.store.inventories.get(SITE)
        turns.note_checks(self.context, SITE, None, now)
        self.assertNotIn(GONE, {t.state for t in self.context.store.turns.all(site=SITE)})
        turns.note_checks(self.context, SITE, (inventory.checks or ())[1:], now)
        gone = [t.name for t in self.context.store.turns.all(site=SITE) if t.state == GONE]
        self.assertEqual(gone, [(inventory.checks or ())[0].id])

    def test_old_changes_are_forgotten_and_how_things_stand_now_stays(self) -> None:
        self.root.set_setting("checks", MAIL)
        sites.refresh(self.context, SITE)
        self.later = timedelta(days=400)
        dropped = forget(self.context, Retention())
        self.assertEqual(dropped["looks"], 1)
        self.assertEqual(self.context.store.turns.last(SITE, "check")["mail"].state, "critical")

    def test_what_a_shop_says_of_its_theme_is_told_with_who_said_it(self) -> None:
        copies = self.root.root / "themes/plainsail/templates"
        copies.mkdir(exist_ok=True)
        (copies / "oarlock.txt").write_text("a copy of 6.1\n")
        self.addCleanup((copies / "oarlock.txt").unlink)
        sites.refresh(self.context, SITE)
        (finding,) = self.found("complaint")
        self.assertIn("Plainsail is behind what works with it", finding.headline)
        self.assertIn("Oarlock says: its copy of a template is of 6.1", finding.text)
