"""What people say of a site: its facts set right, notes in place of those before."""

from __future__ import annotations

from tests.operations.within import RHONA, WithContext
from windbreak.core.values.licences import NewLicence, NewSeat
from windbreak.core.values.sites import NewNote, NewSite, NoteFor, SiteChange
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licensing
from windbreak.operations.sites import marks, sites
from windbreak.operations.views import sites as site_views

SITE = "skerry-light"


class Facts(WithContext):
    def test_a_site_that_becomes_a_copy_rides_on_its_sites_seat(self) -> None:
        for slug in ("ferry", "copy"):
            new = {"label": slug, "address": f"https://{slug}.example"}
            sites.register(self.context, NewSite.model_validate(new), RHONA, slug)
        told = {"id": "bw", "label": "BW", "form": "seats", "seats": 2, "products": ["theme/b"]}
        licensing.add(self.context, NewLicence.model_validate(told), RHONA)
        for slug in ("ferry", "copy"):
            licensing.seat(self.context, "bw", NewSeat(site=slug), RHONA)
        change = SiteChange(environment="staging", twin_of="ferry")
        marks.change(self.context, "copy", change, RHONA)
        self.assertTrue(self.context.store.seats.get("bw copy").riding)
        marks.change(self.context, "copy", SiteChange(twin_of=""), RHONA)
        self.assertFalse(self.context.store.seats.get("bw copy").riding)

    def test_what_can_not_be_a_twin_or_an_address_is_refused(self) -> None:
        for slug in ("ferry", "inn"):
            new = {"label": slug, "address": f"https://{slug}.example"}
            sites.register(self.context, NewSite.model_validate(new), RHONA, slug)
        for change, code in (
            (SiteChange(twin_of="ferry"), "twin-in-production"),
            (SiteChange(twin_of="inn", environment="staging"), "twin-of-a-twin"),
            (SiteChange(address="https://ferry.example"), "address-taken"),
            (SiteChange(address="https://a:b@inn.example"), "secret-in-address"),
        ):
            with self.assertRaises(Refused) as caught:
                marks.change(self.context, "inn", change, RHONA)
            self.assertEqual(caught.exception.code, code)
        self.assertEqual(self.context.store.sites.get("inn").address, "https://inn.example")


class Notes(WithContext):
    def write(self, audience: NoteFor, text: str) -> list[tuple[str, str]]:
        marks.note(self.context, SITE, audience, NewNote(text=text), RHONA)
        notes = site_views.site_view(self.context, SITE).notes
        return sorted((one.audience, one.text) for one in notes)

    def test_each_audience_has_one_note_and_an_empty_one_is_none(self) -> None:
        self.site(SITE)
        self.assertEqual(self.write("us", "Not on Fridays."), [("us", "Not on Fridays.")])
        both = [("client", "It waits."), ("us", "Not on Fridays.")]
        self.assertEqual(self.write("client", "It waits."), both)
        self.assertEqual(self.write("us", "Any night. "), [both[0], ("us", "Any night.")])
        self.assertEqual(self.write("client", "  "), [("us", "Any night.")])
        said = [line.what for line in self.context.store.ledger.all(subject=SITE)]
        self.assertIn("Skerry Light Trust: note for us written", said)
