"""Notes on a site: one for us, one for its client, each in place of the one before."""

from __future__ import annotations

from tests.operations.within import RHONA, WithContext
from windbreak.core.values.sites import NewNote, NoteFor
from windbreak.operations.sites import sites
from windbreak.operations.views import sites as site_views

SITE = "skerry-light"


class Notes(WithContext):
    def write(self, audience: NoteFor, text: str) -> list[tuple[str, str]]:
        sites.note(self.context, SITE, audience, NewNote(text=text), RHONA)
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
