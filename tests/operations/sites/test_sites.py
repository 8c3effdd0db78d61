"""Sites registered and linked: what is refused, and that a link belongs to one address."""

import shutil
from datetime import timedelta
from unittest import mock

import httpx

from tests.operations.within import RHONA, WithContext, look_again
from windbreak.core.values.sites import NewSite
from windbreak.links.errors import KeyRefused
from windbreak.operations.administration import accounts, instance
from windbreak.operations.context import close, open_context
from windbreak.operations.errors import NotPermitted, Refused
from windbreak.operations.findings import findings
from windbreak.operations.sites import inventories, sites
from windbreak.standins import faults
from windbreak.standins.memory import Memory


class Registering(WithContext):
    def refused(self, **fields: object) -> str:
        new = NewSite.model_validate({"label": "X", "address": "https://x.example", **fields})
        with self.assertRaises(Refused) as caught:
            sites.register(self.context, new, RHONA)
        return caught.exception.code

    def test_what_can_not_be_is_refused(self) -> None:
        self.site("skerry-light")
        self.site("skerry-light-twin")
        for code, fields in [
            ("address-taken", {"address": self.where["skerry-light"] + "/"}),
            ("unknown-host", {"host": "atlantis"}),
            ("twin-in-production", {"twin_of": "skerry-light"}),
            ("has-a-twin", {"twin_of": "skerry-light", "environment": "staging"}),
        ]:
            with self.subTest(code=code):
                self.assertEqual(self.refused(**fields), code)
        self.assertEqual(len(self.context.store.sites.all()), 2)

    def test_an_id_is_made_from_the_label(self) -> None:
        new = NewSite(label="Kelp & Oar Sailing", address="https://kelp-and-oar.example")
        self.assertEqual(sites.register(self.context, new, RHONA).id, "kelp-oar-sailing")


class Linking(WithContext):
    def test_an_agent_answers_for_one_site_only(self) -> None:
        self.site("skerry-light")
        copy = NewSite(label="A copy", address="https://copy.example")
        sites.register(self.context, copy, RHONA, "copy")
        line = sites.link_line(self.context, "copy", RHONA).line
        address = f"{self.where['skerry-light']}/owner/link"
        httpx.post(address, data={"line": line}, trust_env=False).raise_for_status()
        self.context.store.sites.change("copy", address=self.where["skerry-light"])
        with self.assertRaises(Refused) as caught:
            sites.link(self.context, "copy", RHONA)
        self.assertEqual(caught.exception.code, "agent-elsewhere")
        self.assertIn("Skerry Light Trust", str(caught.exception))

    def test_what_a_newer_agent_can_do_is_learned_without_a_new_link(self) -> None:
        self.site("skerry-light")
        site = self.context.store.sites.get("skerry-light")
        old = site.link.model_copy(update={"agent_can": ("inventory", "look")})
        self.context.store.sites.change("skerry-light", link=old)
        now = sites.refresh(self.context, "skerry-light")
        self.assertEqual(set(now.link.agent_can), set(site.link.agent_can))

    def test_a_line_is_good_for_an_hour(self) -> None:
        self.site("seapink-florists")
        sites.link_line(self.context, "seapink-florists", RHONA)
        self.later = timedelta(minutes=61)
        with self.assertRaises(Refused) as caught:
            sites.link(self.context, "seapink-florists", RHONA)
        self.assertEqual(caught.exception.code, "no-link-code")

    def test_a_clock_that_is_wrong_is_told_as_one(self) -> None:
        self.site("seapink-florists")
        self.later = timedelta(seconds=8)
        link = sites.refresh(self.context, "seapink-florists").link
        self.assertEqual(link.state, "linked")
        self.assertRegex(link.reason, r"its clock is [789] s behind")
        self.later = timedelta(minutes=10)
        link = sites.refresh(self.context, "seapink-florists").link
        self.assertEqual(link.state, "silent")
        self.assertIn("its clock is 10 min behind", link.reason)
        self.assertNotIn("key", link.reason)

    def test_whoever_takes_over_is_obeyed_and_the_other_becomes_a_reader(self) -> None:
        self.site("seapink-florists")
        self.site("skerry-light", host=False)
        facts = self.context.store.facts
        sites.refresh(self.context, "seapink-florists")
        before = instance.of(self.context)
        # The same database as another service has it, restored: an instance id of its own.
        facts.set("instance", "another")
        facts.set("drives", "no")
        facts.set("aside", "restored")
        with self.assertRaises(Refused):
            sites.refresh(self.context, "seapink-florists")
        taken = instance.take_over(self.context, RHONA, "the old one burnt down")
        self.assertEqual(taken.epoch, before.epoch + 1)
        self.assertEqual(sites.refresh(self.context, "seapink-florists").link.state, "linked")
        self.assertEqual(sites.refresh(self.context, "skerry-light").link.state, "linked")
        # And the one that was taken over comes back.
        facts.set("instance", before.id)
        facts.set("epoch", str(before.epoch))
        link = sites.refresh(self.context, "seapink-florists").link
        self.assertEqual(link.state, "refused")
        self.assertTrue(instance.of(self.context).drives, "one site’s word concerns that site")
        link = sites.refresh(self.context, "skerry-light").link
        self.assertEqual(link.state, "linked")  # what was known stands
        now = instance.of(self.context)
        self.assertEqual((now.drives, now.aside), (False, "superseded"))
        self.assertTrue(any("superseded" in f.id for f in look_again(self.context)))
        with self.assertRaises(Refused) as caught:
            sites.unlink(self.context, "seapink-florists", RHONA)
        self.assertEqual(caught.exception.code, "drives-nothing")

    def test_what_one_site_says_concerns_that_site(self) -> None:
        for site in ("seapink-florists", "skerry-light"):
            self.site(site, host=site != "skerry-light")
            sites.refresh(self.context, site)
        agents, epoch = [], "99"
        for site in ("seapink-florists", "skerry-light"):
            state = self.demo.standins_folder / site / "agent" / "agent.db"
            agents.append(Memory(state))
        before = agents[0].fact("epoch")
        agents[0].set("epoch", epoch)
        for _ in range(3):
            link = sites.refresh(self.context, "seapink-florists").link
            self.assertEqual(link.state, "refused")
        self.assertIn("obeys another service", link.reason)
        self.assertTrue(instance.of(self.context).drives)
        self.assertEqual(sites.refresh(self.context, "skerry-light").link.state, "linked")
        (told,) = [f for f in look_again(self.context) if f.id == "link:seapink-florists"]
        self.assertIn("obeys another service, and is left alone", told.headline)
        told_once = [
            line for line in self.context.store.ledger.all() if "obeys another service" in line.what
        ]
        self.assertEqual(len(told_once), 1)
        # It obeys this one again.
        agents[0].set("epoch", before)
        self.assertEqual(sites.refresh(self.context, "seapink-florists").link.state, "linked")
        self.assertFalse(instance.obeys_another(self.context, "seapink-florists"))
        # What was said long ago counts for nothing beside another site's word of today.
        agents[0].set("epoch", epoch)
        sites.refresh(self.context, "seapink-florists")
        agents[1].set("epoch", epoch)
        with mock.patch.object(instance, "_TOGETHER", timedelta(0)):
            sites.refresh(self.context, "skerry-light")
        self.assertTrue(instance.of(self.context).drives)
        sites.refresh(self.context, "seapink-florists")
        self.assertEqual(instance.of(self.context).aside, "superseded")

    def test_a_copied_data_directory_finds_out_at_its_start(self) -> None:
        instance.settle(self.context)
        instance.settle(self.context)
        self.assertTrue(instance.of(self.context).drives)
        copy = self.context.data.parent / f"{self.context.data.name}-copy"
        shutil.copytree(self.context.data, copy)
        self.addCleanup(shutil.rmtree, copy)
        other = open_context(copy)
        self.addCleanup(close, other)
        instance.settle(other)
        self.assertEqual(instance.of(other).aside, "copied")
        instance.take_over(other, RHONA, "moved to another disk")
        instance.settle(other)
        self.assertTrue(instance.of(other).drives)

    def test_whatever_a_site_answers_costs_that_site_only(self) -> None:
        for slug in ("seapink-florists", "skerry-light"):
            self.site(slug)
        told = self.demo.standins_folder / "seapink-florists" / "agent" / "faults.json"
        before = faults.orders(told)
        faults.put(told, {"answer": "deep"})
        try:
            seen = {s.id: s for s in sites.refresh_many(self.context, sites.live(self.context))}
        finally:
            faults.put(told, before)
        self.assertEqual(seen["skerry-light"].link.state, "linked")
        self.assertEqual(seen["seapink-florists"].link.state, "silent")
        self.assertIn("nested too deeply", seen["seapink-florists"].link.reason)

    def test_a_link_ended_here_is_ended_there_too(self) -> None:
        self.site("seapink-florists")
        agent = sites.agent_for(self.context, "seapink-florists")
        self.assertEqual(
            sites.unlink(self.context, "seapink-florists", RHONA).link.state, "unlinked"
        )
        with self.assertRaises(KeyRefused):
            agent.look()
        with self.assertRaises(Refused):
            sites.agent_for(self.context, "seapink-florists")


class Accounts(WithContext):
    def test_links_and_sessions_end_and_tokens_stay(self) -> None:
        link = accounts.make_link(self.context, "rhona")
        token = accounts.make_token(self.context, "rhona", "laptop").secret or ""
        self.later = timedelta(minutes=31)
        with self.assertRaises(NotPermitted):
            accounts.sign_in(self.context, link)
        session, who = accounts.sign_in(self.context, accounts.make_link(self.context, "rhona"))
        self.assertEqual((who.name, who.via), ("Rhona Vale", "session"))
        self.assertEqual(accounts.principal_of(self.context, session), who)
        self.later = timedelta(days=15)
        with self.assertRaises(NotPermitted):
            accounts.principal_of(self.context, session)
        self.assertEqual(accounts.principal_of(self.context, token).via, "token")

    def test_a_link_is_no_token_and_a_token_no_link(self) -> None:
        link = accounts.make_link(self.context, "rhona")
        with self.assertRaises(NotPermitted):
            accounts.principal_of(self.context, link)
        token = accounts.make_token(self.context, "rhona", "laptop").secret or ""
        with self.assertRaises(NotPermitted):
            accounts.sign_in(self.context, token)

    def test_secrets_are_kept_as_hashes_only(self) -> None:
        token = accounts.make_token(self.context, "rhona", "laptop").secret or ""
        accounts.set_password(self.context, "rhona", "salt and grass and wind")
        self.context.store.database.ask("PRAGMA wal_checkpoint(TRUNCATE)")
        kept = (self.context.data / "windbreak.db").read_bytes()
        for secret in (token, "salt and grass"):
            self.assertNotIn(secret.encode(), kept)
        self.assertIn(b"$argon2", kept)

    def test_a_name_rests_after_five_wrong_tries_and_then_no_longer(self) -> None:
        accounts.set_password(self.context, "rhona", "salt and grass and wind")

        def enter(password: str) -> bool:
            try:
                accounts.sign_in_by_password(self.context, "rhona", password)
            except NotPermitted:
                return False
            return True

        self.assertEqual([enter("no") for _ in range(5)], [False] * 5)
        self.assertFalse(enter("salt and grass and wind"))
        self.later = timedelta(minutes=2)
        self.assertTrue(enter("salt and grass and wind"))
        with self.assertRaises(NotPermitted):
            accounts.sign_in_by_password(self.context, "nobody", "anything at all")


class OtherHands(WithContext):
    """What moves on a site without us is told as such, whoever it was."""

    def moved(self, product: str, version: str, *, updater: bool = True) -> list[str]:
        self.site("skerry-light")
        before = self.context.store.inventories.get("skerry-light")
        self.context.store.inventories.put(before.model_copy(update={"automatic_updates": updater}))
        components = tuple(
            c.model_copy(update={"version": version}) if c.product == product else c
            for c in before.components
        )
        now = {"components": components, "automatic_updates": updater}
        inventories.take_in(self.context, before.model_copy(update=now))
        look_again(self.context)
        lines = inventories.moved_by_others(self.context, "skerry-light")
        return [f"{line.who}: {line.what}" for line in lines]

    def told(self) -> list[str]:
        every = findings.listed(self.context)
        return [f.headline for f in every if f.kind == "other-hands"]

    def test_what_moved_is_told_and_nobody_is_taken_for_known(self) -> None:
        told = self.moved("core/millrace", "6.4.3")
        self.assertEqual(len(told), 1)
        self.assertTrue(told[0].startswith("Somebody on the site: Millrace 6."), told)
        self.assertTrue(told[0].endswith("→ 6.4.3"), told)
        (finding,) = [f for f in findings.listed(self.context) if f.kind == "other-hands"]
        self.assertIn("was changed on the site: Millrace", finding.headline)
        self.assertIn("the site does not say who did", finding.text)
        self.assertIn("own updater is on and may have made it", finding.text)

    def test_with_its_updater_off_that_is_not_thought_of(self) -> None:
        self.moved("core/millrace", "6.4.3", updater=False)
        (finding,) = [f for f in findings.listed(self.context) if f.kind == "other-hands"]
        self.assertNotIn("updater", finding.text)

    def test_it_is_told_for_a_week(self) -> None:
        self.moved("core/millrace", "6.4.3")
        self.later = timedelta(days=8)
        look_again(self.context)
        self.assertEqual(self.told(), [])

    def test_what_we_did_is_not(self) -> None:
        self.site("skerry-light")
        before = self.context.store.inventories.get("skerry-light")
        fewer = before.model_copy(update={"components": before.components[1:]})
        inventories.take_in(self.context, fewer, ours=True)
        inventories.take_in(self.context, fewer)
        self.assertEqual(inventories.moved_by_others(self.context, "skerry-light"), [])
