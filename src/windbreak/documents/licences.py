"""Licences: the right to take releases, their seats, and what ends with them. Values only.

A licence of the forms "seats" and "per-site code" gives its right to the sites that hold a seat;
"account" and "membership" to every site of the fleet; "through a theme" gives no more than the
theme carries, and ends with the right to the theme. What a right reaches is the licence's: its
``range`` of versions; releases published after ``covers_until`` are not covered; nothing can be
had after ``expires``.
"""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import Day, ProductId, Slug, Value
from windbreak.core.values.licences import Licence, Seat

Entered = Literal["registered", "grace", "missing", "unknown", "other code", "not asked"]


class SeatView(Value):
    """A seat as it stands on its site: what the agent read back there, and how old that is."""

    seat: Seat
    site_label: str
    state: Entered
    until: Day | None = None
    read_at: datetime | None = None
    text: str


class LicenceView(Value):
    """A licence with its seats, what stops when it lapses, and what else should be known.

    ``own`` and ``riders`` count seats; ``without`` are live sites that use a covered product and
    have no seat; ``still_old`` are sites where a code that was replaced is in use.
    """

    licence: Licence
    seats: tuple[SeatView, ...]
    own: int
    riders: int
    free: int | None
    without: tuple[Slug, ...]
    still_old: tuple[Slug, ...]
    covers: tuple[ProductId, ...]
    reaches: tuple[Slug, ...]
    stops: str
    text: str


class EntryResult(Value):
    """What came of entering a code on one site: read back from it, never judged by its word."""

    site: Slug
    site_label: str
    state: Entered
    text: str


class Forecast(Value):
    """Seats that will be asked for when a release changes the form of licence.

    ``sites`` are the live sites below it without a seat; ``free`` None means without limit.
    """

    product: ProductId
    name: str
    version: str
    form: str
    grace_days: int
    sites: tuple[Slug, ...]
    needed: int
    free: int | None
    missing: int
    text: str


CredentialState = Literal["valid", "refused", "not yet"] | Entered


class CredentialSite(Value):
    """A site in the table of credentials. ``state`` "by the service": nothing stands on the site,
    the service uses the credential for it; else what was read back there.
    """

    site: Slug
    label: str
    state: Entered | Literal["by the service"]
    credential: str | None = None


class CredentialRow(Value):
    """A credential and a product that it opens, with the sites that run it; of a feed, or of a
    licence. ``credential`` is masked; ``state`` is what its maker said, or the worst that was read
    back on a site; ``at``: when.
    """

    feed: Slug | None = None
    licence: Slug | None = None
    label: str
    credential: str
    state: CredentialState
    at: datetime | None
    text: str
    product: ProductId
    name: str
    sites: tuple[CredentialSite, ...]
