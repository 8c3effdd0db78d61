"""Sites as they are read: rows of the fleet, and one site whole."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.explanation.passing import Passed
from windbreak.core.values.basics import ProductId, Slug, State, Value
from windbreak.core.values.findings import NextAct
from windbreak.core.values.integrity import ComponentFiles
from windbreak.core.values.inventories import CheckState
from windbreak.core.values.ledger import LedgerEntry
from windbreak.core.values.roots import RootKind
from windbreak.core.values.sites import Note
from windbreak.core.values.verdicts import Broken, Newest
from windbreak.core.values.visits import PagesState


class SiteSummary(Value):
    """A site as one row: its worst state, the moves that wait by kind, the worst reason."""

    id: Slug
    label: str
    client: str
    host: str | None
    host_name: str
    environment: str
    twin_of: str | None
    address: str
    link: str
    state: State
    moves: dict[str, int]
    held: int
    text: str
    facts_at: datetime | None
    next_booking: datetime | None = None
    approved: bool = False
    running: int | None = None
    progress: float | None = None
    tags: tuple[str, ...] = ()
    fault: str | None = None  # why it could not be reasoned about; the others go on


class Totals(Value):
    """The moves that wait on some sites, by kind. Those of sites that can't be reached are told
    apart: nobody can make them now.
    """

    moves: int
    sites: int
    by_kind: dict[str, int]
    held: int
    beyond_moves: int
    beyond_sites: int


class Helps(Value):
    """A set of acts that would bring a component on; ``suppose`` are its acts as ``if`` takes
    them, to see it without changing anything; ``ways`` are its operations, and ``brings`` the
    version, where that is nearer than the newest.
    """

    text: str
    ways: tuple[NextAct, ...]
    brings: str | None
    suppose: tuple[str, ...]


class RootView(Value):
    """One thing that keeps components of a site back, told once: ``keeps`` are those under it, in
    words too, ``ways`` what would change it.
    """

    id: str
    kind: RootKind
    text: str
    keeps_text: str
    keeps: tuple[ProductId, ...]
    ways: tuple[NextAct, ...]


class ByHand(Value):
    """A component of which files were changed, added or lost without us, in words too."""

    product: ProductId
    name: str
    text: str
    files: ComponentFiles


class Span(Value):
    """Since when something that is looked at again and again was in a state, and why."""

    at: datetime
    state: str
    text: str


class CheckView(Value):
    """One of a site's own health checks; ``since``: when it was first seen to say so."""

    id: Slug
    name: str
    state: CheckState
    text: str
    since: datetime | None


class NetworkMember(Value):
    """A site of a network: how its page was seen last, and in the last day; ``on`` is what is
    switched on there beside what is on for all, by name.
    """

    name: str
    address: str
    state: PagesState
    reason: str
    on: tuple[str, ...]
    day: tuple[Span, ...]
    day_text: str


class Proposal(Value):
    """Something a site could do without, and why; ``by`` is what does its work. ``now`` False: only
    once that has been updated.
    """

    product: ProductId
    why: Literal["withdrawn", "included", "spare", "copy", "alternative"]
    text: str
    by: ProductId | None = None
    now: bool = True


class ComponentView(Value):
    """One component of a site: from, to, why, and the next act.

    ``four`` keeps the four answers to "newest" apart; ``passes`` is what lies between. ``where``:
    on which members of a network it is on, where it is not on for all.
    """

    product: ProductId
    name: str
    kind: str
    version: str | None
    target: str | None
    newest: str | None
    state: State
    origin: str
    active: bool
    text: str
    four: Newest | None = None
    passes: Passed | None = None
    folder: str | None = None
    own: bool = False
    where: str = ""
    acts: tuple[Helps, ...] = ()


class SiteView(Value):
    """One site whole: its components with verdicts, its latest plan, its history. ``backup`` says
    whether a restore was proved on its twin; of a twin, when it was made as its site was.
    ``agent`` is its agent's version; ``agent_every`` and ``pages_every`` are the site's own minutes
    between two looks, None for the usual ones.
    ``updater``: whether its own automatic updater is on, in words. ``roots`` are what keeps its
    components back, ``broken`` what does not go together there today, ``by_hand`` what was done to
    files of makers, as it was seen at ``files_at``. ``checks`` are the site's own health checks,
    ``members`` the sites of its network, ``day`` how its pages were in the last 24 hours; each with
    its words.
    """

    summary: SiteSummary
    timezone: str
    window: str
    link_text: str
    link_state: str
    agent: str | None
    agent_every: int | None
    pages_every: int | None
    pages_text: str
    pages_state: PagesState
    pages_at: datetime | None
    retired_at: datetime | None
    components: tuple[ComponentView, ...]
    roots: tuple[RootView, ...]
    broken: tuple[Broken, ...]
    by_hand: tuple[ByHand, ...]
    notes: tuple[Note, ...]
    files_at: datetime | None
    plan: int | None
    plan_text: str
    history: tuple[LedgerEntry, ...]
    twin: str | None
    backup: str
    backup_well: bool | None
    situation: str | None = None
    reasoned_at: datetime | None = None
    proposals: tuple[Proposal, ...] = ()
    updater: str = ""
    checks: tuple[CheckView, ...] = ()
    checks_text: str = ""
    members: tuple[NetworkMember, ...] = ()
    members_text: str = ""
    day: tuple[Span, ...] = ()
    day_text: str = ""
