"""The content systems there are adapters for: who speaks for a site, and where its owner links it.

All agents speak one protocol so far (docs/formats.md); what differs is where their page lies.
"""

from __future__ import annotations

from typing import NamedTuple

from windbreak.links.signed_agent import SignedAgent


class System(NamedTuple):
    """A content system: its agent, and the path of the page on which its owner pastes the line."""

    agent: type[SignedAgent]
    owners_page: str


SYSTEMS = {
    "millrace": System(SignedAgent, "/owner/link"),
    "wordpress": System(SignedAgent, "/wp-admin/options-general.php?page=windbreak-agent"),
}
