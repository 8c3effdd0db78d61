"""What is decided and done: plans, bookings, rollouts, runs, findings, the ledger. Values only."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field

from windbreak.core.case import Day, ProductId, VersionText
from windbreak.core.explain import Answer, Plan
from windbreak.core.fleet import Inventory, Slug, State, Value, example
from windbreak.core.newest import Newest
from windbreak.core.passing import Passed

PlanState = Literal["draft", "approved", "replaced", "carried out", "failed"]
BookingState = Literal["waiting", "started", "missed", "withdrawn"]
RolloutState = Literal["rehearsing", "quiet", "going", "ended well", "stopped"]
RunState = Literal["running", "done", "put back", "restored", "stopped", "alarm"]
RunPhase = Literal["before", "prepare", "steps", "after", "ended"]
WENT_WRONG: tuple[RunState, ...] = ("put back", "restored", "alarm")
EntryState = Literal["meant", "done", "failed", "put back", "noted"]
Weight = Literal["critical", "high", "medium", "low"]


class Approval(Value):
    """Who let a plan go, when and why. ``restore_anyway``: also when orders came in meanwhile."""

    by: str
    at: datetime
    why: str
    restore_anyway: bool = False


class ApprovePlan(Value):
    model_config = example(why="updates of November")

    why: str = ""
    restore_anyway: bool = False


class SitePlan(Value):
    """A plan for one site, with the verdicts it came from and the state it starts at."""

    id: int
    site: Slug
    made_at: datetime
    start: dict[str, str]
    answer: Answer
    plan: Plan
    targets: dict[str, str]
    state: PlanState = "draft"
    approval: Approval | None = None

    def changed_since(self, inventory: Inventory) -> list[str]:
        """The products that are not, or no longer, at the version the plan starts from."""
        now = {c.product: c.version for c in inventory.components}
        return sorted(p for p in {*now, *self.start} if now.get(p) != self.start.get(p))


class Book(Value):
    """When a plan is to run: at an instant, or (None) at the site's next window."""

    model_config = example(at="2026-11-24T01:10:00Z")

    at: datetime | None = None


class Booking(Value):
    """The time at which a plan will be carried out, and why then."""

    id: int
    plan: int
    site: Slug
    starts_at: datetime
    why: str
    state: BookingState = "waiting"
    rollout: int | None = None
    made_by: str = ""


class NewRollout(Value):
    """One release taken across a twin and its production site, the twin first."""

    model_config = example(
        product="core/millrace",
        version="6.4.3",
        site="skerry-light",
        quiet_minutes=1200,
        why="it holds a security fix",
    )

    product: ProductId
    version: VersionText
    site: Slug
    quiet_minutes: Annotated[float, Field(ge=0)] = 20 * 60
    why: str = ""


class Rollout(NewRollout):
    id: int
    twin: Slug
    state: RolloutState
    text: str
    made_by: str
    made_at: datetime
    twin_run: int | None = None
    site_run: int | None = None
    quiet_until: datetime | None = None


class Look(Value):
    """What one page said when it was looked at. ``marks`` are its title and headings."""

    name: str
    status: int | None
    seconds: float
    bytes: int
    marks: tuple[str, ...] = ()
    faults: tuple[str, ...] = ()


class Probe(Value):
    """A look at a site: its pages past every cache, its editor, its counts and its error log.

    ``earlier`` are the errors that were logged before this look began.
    """

    at: datetime
    looks: tuple[Look, ...]
    editor_blocks: int | None
    counts: dict[str, int]
    settings: str
    errors: tuple[str, ...]
    earlier: tuple[str, ...] = ()
    written: str


class Seen(Value):
    """One line of a probe held against the baseline."""

    name: str
    before: str
    now: str
    verdict: Literal["as before", "worse", "differs"]


class JournalEntry(Value):
    """One line of what a run meant to do and did."""

    id: int
    run: int
    at: datetime
    step: int | None
    act: str
    state: EntryState
    change: str | None = None
    text: str = ""
    detail: dict[str, Any] = {}


class Run(Value):
    """One plan being carried out on one site. ``step`` counts from 1; 0 before the first."""

    id: int
    plan: int
    site: Slug
    state: RunState
    phase: RunPhase
    step: int
    steps: int
    text: str
    started_at: datetime
    ended_at: datetime | None = None
    last_sign_at: datetime
    by: str = ""
    stop_asked: bool = False


class RunStep(Value):
    """A step of a run as it stands."""

    number: int
    title: str
    why: str
    state: Literal["to come", "running", "done", "failed", "put back"]
    started_at: datetime | None = None
    ended_at: datetime | None = None
    seen: tuple[Seen, ...] = ()


class RunStory(Value):
    """A run with its steps, what the probes saw, and its journal."""

    run: Run
    steps: tuple[RunStep, ...]
    seen: tuple[Seen, ...]
    seen_after: int
    journal: tuple[JournalEntry, ...]
    as_it_was: str


class NextAct(Value):
    """The next act for a finding: its words, and the place or command that does it."""

    label: str
    command: str
    path: str


class SnoozeFinding(Value):
    """Until when a finding is put aside; dismissed is not solved, so it always has an end."""

    model_config = example(until="2026-12-01", why="the client answers after the fair")

    until: Day
    why: Annotated[str, Field(min_length=1)]


class Snooze(SnoozeFinding):
    by: str
    at: datetime


class Finding(Value):
    """Something that wants attention; ``id`` is made of kind and subject, so it opens once.

    While it is ``snoozed`` it is listed apart; it closes by itself when its cause is gone.
    """

    id: str
    kind: str
    state: State
    weight: Weight
    subject: str
    subject_label: str
    headline: str
    text: str
    act: NextAct
    opened_at: datetime
    deadline: datetime | None = None
    snoozed: Snooze | None = None


class LedgerEntry(Value):
    """One line of the record of what was decided and done."""

    id: int
    at: datetime
    who: str
    what: str
    subject: str
    why: str = ""
    result: str = ""


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


class Helps(Value):
    """A set of acts that would bring a component on; ``suppose`` are its acts as ``if`` takes
    them, to see it without changing anything.
    """

    text: str
    suppose: tuple[str, ...]


class Proposal(Value):
    """Something a site could do without, and why; ``by`` is what does its work now."""

    product: ProductId
    why: Literal["withdrawn", "included", "spare"]
    text: str
    by: ProductId | None = None


class ComponentView(Value):
    """One component of a site: from, to, why, and the next act.

    ``four`` keeps the four answers to "newest" apart; ``passes`` is what lies between.
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
    acts: tuple[Helps, ...] = ()


class SiteView(Value):
    """One site whole: its components with verdicts, its latest plan, its history."""

    summary: SiteSummary
    timezone: str
    window: str
    link_text: str
    link_state: str
    components: tuple[ComponentView, ...]
    plan: int | None
    plan_text: str
    history: tuple[LedgerEntry, ...]
    twin: str | None
    situation: str | None = None
    reasoned_at: datetime | None = None
    proposals: tuple[Proposal, ...] = ()


class Today(Value):
    """What wants attention, what is put aside, what is booked, and how old the facts are."""

    at: datetime
    findings: tuple[Finding, ...]
    asleep: tuple[Finding, ...] = ()
    sites: tuple[SiteSummary, ...]
    bookings: tuple[Booking, ...]
    feeds: tuple[tuple[str, str, datetime | None], ...]
    drives: bool = True


class Account(Value):
    """Somebody who may sign in; a closed account may not, and its history stays."""

    id: str
    name: str
    closed_at: datetime | None = None


class Principal(Value):
    """Who acts: a person signed in, or the holder of a token of theirs."""

    account: str
    name: str
    via: Literal["session", "token", "service"]


class NewToken(Value):
    model_config = example(label="Rhona's laptop")

    label: str


class Token(Value):
    """A token; ``secret`` is there only in the answer that made it."""

    id: str
    label: str
    last4: str
    made_at: datetime
    secret: str | None = None


class Event(Value):
    """Something that happened, in order; ``kind`` is "run", "site", "feed", "booking", ..."""

    id: int
    at: datetime
    kind: str
    subject: str
    text: str
