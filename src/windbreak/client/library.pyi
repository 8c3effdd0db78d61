# Made by `python -m windbreak.client.stub` from calls.py and library.py.
from collections.abc import AsyncIterator, Callable, Iterator
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from dataclasses import replace
from datetime import date, datetime
from datetime import timedelta
from functools import wraps
from importlib import import_module
from inspect import Parameter, signature
from inspect import isfunction
from pydantic import BaseModel
from pydantic import TypeAdapter
from types import TracebackType
from typing import TYPE_CHECKING, Any, Generic, TypeVar
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import quote
from windbreak.client import calls, transport
from windbreak.client.calls import Call
from windbreak.client.errors import Unreachable
from windbreak.core.case.reading import case_from
from windbreak.core.case.situation import Case
from windbreak.core.explanation.passing import Passed
from windbreak.core.values.accounts import Account, Invitation, Principal, Token
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.bookings import BookedAll, Booking
from windbreak.core.values.charts import Chart
from windbreak.core.values.entitlements import Entitlement
from windbreak.core.values.errands import Errand
from windbreak.core.values.feeds import CredentialCheck, Feed, FeedChange, NewFeed, PollResult
from windbreak.core.values.findings import Finding, SnoozeFinding
from windbreak.core.values.freezes import CalendarRead, FreezeCalendar, Frozen, NewFreeze, NewFreezeCalendar, SiteFreeze
from windbreak.core.values.holds import NewHold, StandingHold
from windbreak.core.values.hooks import Delivery, Hook, Instance, NewHook
from windbreak.core.values.integrity import Integrity
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.ledger import Event
from windbreak.core.values.licences import Licence, LicenceChange, NewLicence, NewSeat, Seat
from windbreak.core.values.matters import Debt, Matter
from windbreak.core.values.packages import Package, ShelfRight
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.policy import InForce, NewRule, Rule
from windbreak.core.values.products import KnownProduct, ProductChange
from windbreak.core.values.releases import DecideRepublished, KnownRelease, NewRelease
from windbreak.core.values.rollouts import ApproveRollout, FailedMove, NewRollout, Rollout, WaitingMove
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Host, LinkCode, NewByHand, NewSite, NoteFor, Site, SiteChange, Window, WindowsOf
from windbreak.core.values.tasks import Task
from windbreak.core.values.ties import KnownClash, KnownLockstep, NewClash, NewLockstep
from windbreak.core.values.verdicts import Answer, Verdict
from windbreak.core.values.watching import NewWatch, WatchHours
from windbreak.documents.calendar import Calendar
from windbreak.documents.ledger import ClientReport, LedgerLine
from windbreak.documents.licences import CredentialRow, EntryResult, Forecast, LicenceView
from windbreak.documents.named import Named
from windbreak.documents.outlook import ActRow, Outlook
from windbreak.documents.products import Coverage, ProductRow, ProductView
from windbreak.documents.rollouts import RolloutDraft, RolloutStory
from windbreak.documents.runs import MatterStory, RunStory
from windbreak.documents.runs import RunStory
from windbreak.documents.sheets import PlanSheet
from windbreak.documents.sites import SiteSummary, SiteView
from windbreak.documents.today import Today
import asyncio
import httpx
import json
import time
from windbreak.client.calls import Call as Call

T = TypeVar("T")

class _Library:
    def __init__(self, address: str, token: str | None=None) -> None:
        ...
    def _request(self, call: Call[Any]) -> dict[str, Any]:
        ...
    def _read(self, call: Call[T], response: httpx.Response) -> T:
        ...
    def _unless_retried(self, call: Call[Any], tried: int, error: httpx.HTTPError) -> None:
        ...
    address: str
    token: str | None
    written: int
    ahead: timedelta

class Windbreak(_Library):
    def __init__(self, address: str, token: str | None=None) -> None:
        ...
    def __enter__(self) -> Windbreak:
        ...
    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        ...
    def close(self) -> None:
        ...
    def do(self, call: Call[T]) -> T:
        """Carry out a call. Raises Unreachable, NotPermitted, Problem."""
    def text(self, call: Call[Any]) -> str:
        """The answer of a call as it came: JSON, whose types need not be loaded."""
    def events(self, after: int | None=None) -> Iterator[Event]:
        """What happens, as it happens, without end. Raises Unreachable when the stream breaks."""
    def wait(self, run: int, *, timeout: float | None=None, heard: Callable[[RunStory], None]=...) -> RunStory:
        """Wait until a run has ended; ``heard`` is told the story whenever it went on.

``timeout`` is in seconds. Raises TimeoutError; the run goes on all the same. With one, a
service that is away for a while is waited for."""
    def who_am_i(self) -> Principal:
        """Who is signed in."""
    def sign_in(self, link: str) -> Principal:
        """Sign in; the session is a cookie."""
    def set_password(self, password: str) -> None:
        """Set your password."""
    def make_token(self, label: str) -> Token:
        """Make a token; its secret is in this answer only."""
    def tokens(self) -> list[Token]:
        """Your tokens, without their secrets."""
    def revoke_token(self, id: str) -> None:
        """Revoke a token."""
    def hosts(self) -> list[Host]:
        """The hosts."""
    def put_host(self, host: Host) -> Host:
        """Register a host, or change what it offers."""
    def drop_host(self, id: str) -> None:
        """Forget a host that no site is on."""
    def sites(self, client: str | None=None, host: str | None=None, text: str | None=None, state: str | None=None, tag: str | None=None, runs: str | None=None, limit: int | None=None, after: str | None=None) -> list[SiteSummary]:
        """The sites as rows, worst first, each twin after its site."""
    def site(self, id: str) -> SiteView:
        """One site whole."""
    def register_site(self, new: NewSite, id: str | None=None) -> Site:
        """Register a site."""
    def change_site(self, id: str, change: SiteChange) -> Site:
        """Change a site's label, client, host or tags."""
    def retire_site(self, id: str, why: str='') -> Site:
        """Retire a site: its work stops, its link ends, its seats are freed, its history stays."""
    def mark_own(self, id: str, product: str, own: bool=True) -> Site:
        """Mark a component as made for this site."""
    def look_after(self, id: str, product: str, new: NewByHand) -> Site:
        """Note that a person looks after a component of which no feed tells."""
    def look_after_no_more(self, id: str, product: str) -> Site:
        """Nobody looks after a component by hand any longer."""
    def write_note(self, id: str, audience: NoteFor, text: str) -> Site:
        """Write a note on a site, for staff or for its client; empty text takes it away."""
    def set_windows_of(self, where: WindowsOf) -> list[Site]:
        """Set the hours of all sites of a client, or on a host, at once."""
    def set_windows(self, id: str, windows: list[Window], timezone: str) -> Site:
        """Set the hours in which a site may be worked on."""
    def link_line(self, id: str) -> LinkCode:
        """Make the one line for the site's agent."""
    def link_site(self, id: str) -> Site:
        """Link the site, once the line was pasted into its agent; then refresh it."""
    def unlink_site(self, id: str) -> Site:
        """End the link."""
    def refresh_site(self, id: str) -> Site:
        """Ask the site's agent what is installed."""
    def refresh_sites(self, sites: Sequence[str]=()) -> Task:
        """Ask many sites what is installed, all that are linked where none is named; a task."""
    def refresh_twin(self, id: str) -> Task:
        """Make a twin as its production site is now; a task."""
    def prove_backup(self, id: str) -> Task:
        """Prove on its twin that a site's backup can be restored; a task."""
    def rotate_keys(self) -> Task:
        """Turn the keys that sign for the service and its agents; a task."""
    def tasks(self, limit: int=30) -> list[Task]:
        """The work of the service that outlives a request, newest first."""
    def task(self, id: int) -> Task:
        """One task, and how far it has come."""
    def errands(self, site: str | None=None, every: bool=False) -> list[Errand]:
        """Work for a person: what keeps a run first, then by its day; ``every``: also what is done."""
    def errand(self, id: int) -> Errand:
        """One errand."""
    def add_errand(self, site: str, text: str, due: date | None=None) -> Errand:
        """Write down an errand."""
    def close_errand(self, id: int, how: str='') -> Errand:
        """Close an errand: it is done."""
    def inventory(self, id: str) -> Inventory:
        """What is on the site, as its agent last said."""
    def case(self, id: str) -> Case:
        """The site's situation as a windbreak-case/1 document."""
    def verdicts(self, id: str, suppose: Sequence[str]=()) -> Answer:
        """What the reasoning says of each component; with ``if``, what it would say."""
    def verdict(self, id: str, product: str, suppose: Sequence[str]=()) -> Verdict:
        """What the reasoning says of one product on a site; with ``if``, what it would say."""
    def files(self, id: str) -> Integrity:
        """The files of a site's components, held against their packages, as they were seen last."""
    def look_at_files(self, id: str) -> Integrity:
        """Hold the files of a site's components against their packages now."""
    def right(self, id: str, product: str, version: str | None=None) -> Entitlement:
        """Whether a site may take a release of a product, and by which right; what would bring it."""
    def outlook(self, id: str, suppose: Sequence[str]=()) -> Outlook:
        """A site's verdicts and plan, with acts taken as done. Nothing is changed or kept."""
    def acts(self, suppose: Sequence[str]=()) -> list[ActRow]:
        """What somebody could do, what frees most across the fleet first."""
    def draft_plan(self, id: str) -> SitePlan:
        """Make a plan for the site as it stands."""
    def draft_removal(self, id: str, products: Sequence[str]) -> SitePlan:
        """Make a plan by which some components leave a site: a step for each, nothing else moves."""
    def named(self, kind: str, text: str) -> list[Named]:
        """The sites or products ("site", "product") that a person may mean by a text."""
    def plans(self, id: str) -> list[SitePlan]:
        """The site's plans, newest first."""
    def plan(self, id: int) -> SitePlan:
        """One plan."""
    def plan_sheet(self, id: int) -> PlanSheet:
        """A plan as a sheet: when it runs, how long each part takes, and what it asks of a person."""
    def charts(self, id: int) -> list[Chart]:
        """The pairs of a plan that bind each other: which versions go together, and the way through."""
    def approve_plan(self, id: int, why: str='', restore_anyway: bool=False, changed_files: str | None=None, patches_until: date | None=None) -> SitePlan:
        """Let a plan go: exactly its targets, or up to a day patch releases of them too."""
    def book_plan(self, id: int, at: datetime | None=None, outside_window: bool=False) -> Booking:
        """Book an approved plan: at an instant, or where the timetable has a place for it."""
    def run_plan(self, id: int, outside_window: bool=False, although_it_failed: bool=False) -> Run:
        """Carry an approved plan out now; outside of its site's windows only where that is meant."""
    def book_all(self) -> BookedAll:
        """Book every approved plan that is not booked yet, by one timetable."""
    def freezes(self) -> list[SiteFreeze]:
        """The freezes that are not over, soonest first."""
    def add_freeze(self, new: NewFreeze) -> Frozen:
        """Leave sites alone for a while; bookings that it meets are booked anew."""
    def lift_freeze(self, id: int) -> None:
        """Lift a freeze."""
    def night_book(self) -> dict[str, Any]:
        """The live night book: what a timetable of the next four weeks is made from."""
    def nights(self, first: date | None=None, days: int=7, zone: str='UTC', proposed: bool=True, wait: float=0) -> Calendar:
        """The nights from a day on, each from noon to noon in a zone: what is booked and why then, what
could be, what is not and why. The answer waits so many seconds at the most until what could be
booked is as things are now."""
    def bookings(self, state: str | None='waiting') -> list[Booking]:
        """The bookings of a state, soonest first."""
    def move_booking(self, id: int, at: datetime | None=None, outside_window: bool=False) -> Booking:
        """Pin a booking: to another time, or without one where it is."""
    def book_again(self, id: int) -> Booking:
        """Let the timetable find a place anew for a booking, pinned or not."""
    def withdraw_booking(self, id: int, why: str='') -> Booking:
        """Take a booking out: its plan stays approved, and is booked no more by itself."""
    def freezes_ics(self) -> str:
        """The freezes that are not over, as iCalendar."""
    def freeze_calendars(self) -> list[FreezeCalendar]:
        """The calendars whose events are freezes."""
    def add_freeze_calendar(self, new: NewFreezeCalendar) -> CalendarRead:
        """Take the events of a calendar (iCalendar) for freezes."""
    def read_freeze_calendar(self, id: str) -> CalendarRead:
        """Read a subscribed calendar again now."""
    def drop_freeze_calendar(self, id: str) -> None:
        """Forget a calendar, and lift what it froze."""
    def watch(self) -> list[WatchHours]:
        """Who is there to watch, and when; what is over is left out."""
    def add_watch(self, new: NewWatch) -> WatchHours:
        """Say when somebody is there to watch."""
    def drop_watch(self, id: int) -> None:
        """Say that somebody is not there after all."""
    def draft_rollout(self, new: NewRollout, wait: float=20) -> RolloutDraft:
        """What a rollout would do if it were approved now: who goes when, who stays out, and why. The
answer waits so many seconds at the most until its times are final."""
    def rollout_draft(self, id: str, wait: float=20) -> RolloutDraft:
        """A draft of a rollout as far as it is by now."""
    def rollouts(self) -> list[Rollout]:
        """The rollouts, newest first."""
    def rollout(self, id: int) -> RolloutStory:
        """One rollout: its waves, its gates, and who is not in them."""
    def approve_rollout(self, new: ApproveRollout | NewRollout) -> Rollout:
        """Let go what a draft has shown, in waves. Without one: what is asked for, to every site that
can take it now."""
    def stop_rollout(self, id: int, why: str='') -> Rollout:
        """Stop a rollout: what runs goes on to its end, what is booked is taken out."""
    def go_on_with_rollout(self, id: int, why: str='') -> Rollout:
        """Go on with a rollout that was stopped: what has not run is planned and booked anew."""
    def leave_out(self, id: int, site: str, why: str='') -> Rollout:
        """Go on with a rollout without one of its sites."""
    def open_gate(self, id: int, gate: str, why: str='') -> Rollout:
        """Let a gate of a rollout open though a run before it did not end well."""
    def failed_moves(self) -> list[WaitingMove]:
        """The moves that failed somewhere and wait everywhere for a person's word, newest first."""
    def let_move_go(self, product: str, version: str, why: str='') -> FailedMove:
        """Let a move be made elsewhere though it failed somewhere."""
    def runs(self, site: str | None=None, limit: int=50, after: int | None=None) -> list[Run]:
        """The runs, newest first; those before a number with ``after``."""
    def run(self, id: int) -> RunStory:
        """A run with its steps, what the probes saw, and its journal."""
    def ask_now(self, id: int) -> Run:
        """Ask the site of a run that waits for it now."""
    def go_on(self, id: int) -> Run:
        """Go on with a run that waited for an errand which is done."""
    def matters(self, every: bool=False) -> list[Matter]:
        """Runs that ended badly and wait for a person, newest first; ``every``: also closed ones."""
    def lost_csv(self, run: int) -> str:
        """What was written on the site and lost when a run restored its snapshot, as CSV."""
    def matter(self, id: int) -> MatterStory:
        """A matter with what is owed to its site, and the ways out as they stand now."""
    def take_way_out(self, id: int, act: str, why: str) -> Matter:
        """Take a way out of a matter, as "restore" or "accept"; it is done in the background."""
    def debts(self, site: str) -> list[Debt]:
        """What runs still owe to a site."""
    def stop_run(self, id: int) -> Run:
        """Stop a run after the step it is at."""
    def feeds(self) -> list[Feed]:
        """The feeds, with their state; credentials are masked."""
    def register_feed(self, new: NewFeed) -> Feed:
        """Register a feed."""
    def change_feed(self, id: str, change: FeedChange) -> Feed:
        """Change a feed's label, address, origins, reading or interval."""
    def drop_feed(self, id: str) -> None:
        """Read a feed no more; what it told stays known."""
    def poll_feed(self, id: str) -> PollResult:
        """Look at a feed now, past every cache unless told otherwise."""
    def poll_feeds(self) -> list[PollResult]:
        """Look at every feed now, past every cache."""
    def check_feed(self, id: str) -> CredentialCheck:
        """Ask the maker what the feed's credential may do."""
    def replace_credential(self, id: str, credential: str, everywhere: bool=False) -> Feed:
        """Replace the feed's credential; ``everywhere`` also where the old one is used else."""
    def try_recipe(self, text: str, credential: str | None=None) -> dict[str, Any]:
        """Ask by a recipe and read by it; nothing is kept."""
    def put_recipe(self, name: str, text: str) -> dict[str, Any]:
        """Keep a recipe under a name."""
    def products(self) -> list[ProductRow]:
        """The products across the fleet, what wants attention first."""
    def product(self, id: str) -> ProductView:
        """One product across the fleet."""
    def change_product(self, id: str, change: ProductChange) -> KnownProduct:
        """Set what a person knows of a product."""
    def releases(self, product: str) -> list[KnownRelease]:
        """The known releases of a product, newest first."""
    def passed(self, product: str, start: str, end: str) -> Passed:
        """What a move passes: changes, form of licence, tasks and watch items of every release."""
    def decide_release(self, product: str, version: str, choice: DecideRepublished) -> KnownRelease:
        """Say which package of a version that came twice is right."""
    def type_in_release(self, new: NewRelease) -> KnownRelease:
        """Type in a release that no feed tells of."""
    def advisories(self) -> list[KnownAdvisory]:
        """The published weaknesses of products of ours."""
    def coverage(self) -> Coverage:
        """Which components feeds cover, and what none covers."""
    def shelf(self) -> list[Package]:
        """The packages in hand."""
    def put_on_shelf(self, archive: bytes, sites: tuple[str, ...]=()) -> Package:
        """Put an archive on the shelf; the body is the archive itself."""
    def drop_package(self, id: str) -> None:
        """Take a package from the shelf, unless it is kept for going back."""
    def give_package(self, id: str, site: str) -> ShelfRight:
        """Let a site have a package of the shelf."""
    def holds(self) -> list[StandingHold]:
        """The holds."""
    def make_hold(self, new: NewHold) -> StandingHold:
        """Decide not to move a product."""
    def lift_hold(self, id: str) -> None:
        """Lift a hold."""
    def rules(self) -> list[Rule]:
        """The rules of the house."""
    def set_rule(self, new: NewRule) -> Rule:
        """Decide how releases are taken, somewhere or everywhere."""
    def drop_rule(self, id: str) -> None:
        """Drop a rule."""
    def locksteps(self) -> list[KnownLockstep]:
        """The groups of products whose versions must match."""
    def set_lockstep(self, new: NewLockstep) -> KnownLockstep:
        """Say that products must match: from then on no plan lets them come apart."""
    def drop_lockstep(self, id: str) -> None:
        """Products need match no longer."""
    def clashes(self) -> list[KnownClash]:
        """The pairs of products known not to work together."""
    def add_clash(self, new: NewClash) -> KnownClash:
        """Say that two products don't work together: from then on no plan brings them together."""
    def drop_clash(self, id: str) -> None:
        """Two products clash no longer."""
    def policy(self, id: str) -> list[InForce]:
        """What holds for each product on a site, and which rule says so."""
    def licences(self) -> list[LicenceView]:
        """The licences as they stand, those that end first first; codes are masked."""
    def credentials(self) -> list[CredentialRow]:
        """Where each credential is used: by product and site, with the state of each; all masked."""
    def licence(self, id: str) -> LicenceView:
        """One licence as it stands."""
    def add_licence(self, new: NewLicence) -> Licence:
        """Enter a licence."""
    def change_licence(self, id: str, change: LicenceChange) -> Licence:
        """Change what is known of a licence."""
    def drop_licence(self, id: str) -> None:
        """Forget a licence that no site holds a seat of."""
    def seat_site(self, licence: str, new: NewSeat) -> Seat:
        """Allot a seat; a copy rides along where that is permitted."""
    def unseat_site(self, licence: str, site: str) -> None:
        """Take a seat back, with that of the copy that rides along."""
    def rotate_code(self, licence: str, code: str, site: str | None=None) -> Licence:
        """Put a new code in the place of the old one; nothing is entered on a site yet."""
    def enter_code(self, licence: str, site: str | None=None) -> list[EntryResult]:
        """Enter the code on the sites that hold a seat, through their agents, and read it back."""
    def forecasts(self) -> list[Forecast]:
        """Seats that will be asked for by releases that change the form of licence."""
    def findings(self, snoozed: bool=False) -> list[Finding]:
        """What wants attention, most urgent first."""
    def snooze_finding(self, id: str, snooze: SnoozeFinding) -> Finding:
        """Put a finding aside until a day; dismissed is not solved."""
    def wake_finding(self, id: str) -> Finding:
        """Bring a snoozed finding back."""
    def sites_csv(self) -> str:
        """Every site, as CSV."""
    def import_sites(self, text: str) -> dict[str, Any]:
        """Register the sites of a CSV, all or none."""
    def inventory_cyclonedx(self, site: str) -> str:
        """A site's inventory, as CycloneDX."""
    def metrics(self) -> str:
        """The fleet in numbers, as OpenMetrics."""
    def calendar_address(self) -> dict[str, str]:
        """Make the address of your calendar; an older one is good no more."""
    def send_digest(self) -> dict[str, str]:
        """Mail the digest now, to whom the settings say."""
    def hooks(self) -> list[Hook]:
        """The web hooks and how they take our news."""
    def add_hook(self, new: NewHook) -> Hook:
        """Register a web hook; the answer holds the key to check our signatures with."""
    def drop_hook(self, id: str) -> None:
        """Tell a web hook no more."""
    def deliveries(self, hook: str) -> list[Delivery]:
        """What was sent to a web hook, newest first."""
    def accounts(self) -> list[Account]:
        """Who may sign in, and whose account is closed."""
    def add_account(self, id: str, name: str) -> Account:
        """Open an account."""
    def close_account(self, id: str) -> Account:
        """Close an account; what it did stays."""
    def reopen_account(self, id: str) -> Account:
        """Open a closed account again."""
    def invite_account(self, id: str) -> Invitation:
        """A one-time link for somebody who can't sign in yet; it is good for half an hour."""
    def instance(self) -> Instance:
        """This service itself, and whether it drives sites."""
    def take_over(self, why: str) -> Instance:
        """Let a restored copy drive the sites."""
    def today(self) -> Today:
        """What wants attention, what is booked, and how old the facts are."""
    def ledger(self, subject: str | None=None, limit: int=100, after: int | None=None, *, client: str | None=None, person: str | None=None, part: str | None=None, since: datetime | None=None, until: datetime | None=None, words: str='', wrong: bool=False) -> list[LedgerLine]:
        """What was decided and done, newest first; what came before a number with ``after``. ``part``:
"decisions" of people, or "acts" of the service; ``wrong``: runs that did not end well."""
    def report(self, client: str, month: str, looks: bool=False) -> ClientReport:
        """What a client is told of a month, as 2026-11; ``looks``: also what was seen after steps."""
    def stream_events(self, after: int | None=None) -> None:
        """Every change of state, from now on or from after an event; ids let a reader go on."""

class AsyncWindbreak(_Library):
    def __init__(self, address: str, token: str | None=None) -> None:
        ...
    async def __aenter__(self) -> AsyncWindbreak:
        ...
    async def __aexit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        ...
    async def close(self) -> None:
        ...
    async def do(self, call: Call[T]) -> T:
        """Carry out a call. Raises Unreachable, NotPermitted, Problem."""
    async def text(self, call: Call[Any]) -> str:
        """The answer of a call as it came: JSON, whose types need not be loaded."""
    def events(self, after: int | None=None) -> AsyncIterator[Event]:
        """What happens, as it happens, without end. Raises Unreachable when the stream breaks."""
    async def wait(self, run: int, *, timeout: float | None=None, heard: Callable[[RunStory], None]=...) -> RunStory:
        """Wait until a run has ended; ``heard`` is told the story whenever it went on.

``timeout`` is in seconds. Raises TimeoutError; the run goes on all the same. With one, a
service that is away for a while is waited for."""
    async def who_am_i(self) -> Principal:
        """Who is signed in."""
    async def sign_in(self, link: str) -> Principal:
        """Sign in; the session is a cookie."""
    async def set_password(self, password: str) -> None:
        """Set your password."""
    async def make_token(self, label: str) -> Token:
        """Make a token; its secret is in this answer only."""
    async def tokens(self) -> list[Token]:
        """Your tokens, without their secrets."""
    async def revoke_token(self, id: str) -> None:
        """Revoke a token."""
    async def hosts(self) -> list[Host]:
        """The hosts."""
    async def put_host(self, host: Host) -> Host:
        """Register a host, or change what it offers."""
    async def drop_host(self, id: str) -> None:
        """Forget a host that no site is on."""
    async def sites(self, client: str | None=None, host: str | None=None, text: str | None=None, state: str | None=None, tag: str | None=None, runs: str | None=None, limit: int | None=None, after: str | None=None) -> list[SiteSummary]:
        """The sites as rows, worst first, each twin after its site."""
    async def site(self, id: str) -> SiteView:
        """One site whole."""
    async def register_site(self, new: NewSite, id: str | None=None) -> Site:
        """Register a site."""
    async def change_site(self, id: str, change: SiteChange) -> Site:
        """Change a site's label, client, host or tags."""
    async def retire_site(self, id: str, why: str='') -> Site:
        """Retire a site: its work stops, its link ends, its seats are freed, its history stays."""
    async def mark_own(self, id: str, product: str, own: bool=True) -> Site:
        """Mark a component as made for this site."""
    async def look_after(self, id: str, product: str, new: NewByHand) -> Site:
        """Note that a person looks after a component of which no feed tells."""
    async def look_after_no_more(self, id: str, product: str) -> Site:
        """Nobody looks after a component by hand any longer."""
    async def write_note(self, id: str, audience: NoteFor, text: str) -> Site:
        """Write a note on a site, for staff or for its client; empty text takes it away."""
    async def set_windows_of(self, where: WindowsOf) -> list[Site]:
        """Set the hours of all sites of a client, or on a host, at once."""
    async def set_windows(self, id: str, windows: list[Window], timezone: str) -> Site:
        """Set the hours in which a site may be worked on."""
    async def link_line(self, id: str) -> LinkCode:
        """Make the one line for the site's agent."""
    async def link_site(self, id: str) -> Site:
        """Link the site, once the line was pasted into its agent; then refresh it."""
    async def unlink_site(self, id: str) -> Site:
        """End the link."""
    async def refresh_site(self, id: str) -> Site:
        """Ask the site's agent what is installed."""
    async def refresh_sites(self, sites: Sequence[str]=()) -> Task:
        """Ask many sites what is installed, all that are linked where none is named; a task."""
    async def refresh_twin(self, id: str) -> Task:
        """Make a twin as its production site is now; a task."""
    async def prove_backup(self, id: str) -> Task:
        """Prove on its twin that a site's backup can be restored; a task."""
    async def rotate_keys(self) -> Task:
        """Turn the keys that sign for the service and its agents; a task."""
    async def tasks(self, limit: int=30) -> list[Task]:
        """The work of the service that outlives a request, newest first."""
    async def task(self, id: int) -> Task:
        """One task, and how far it has come."""
    async def errands(self, site: str | None=None, every: bool=False) -> list[Errand]:
        """Work for a person: what keeps a run first, then by its day; ``every``: also what is done."""
    async def errand(self, id: int) -> Errand:
        """One errand."""
    async def add_errand(self, site: str, text: str, due: date | None=None) -> Errand:
        """Write down an errand."""
    async def close_errand(self, id: int, how: str='') -> Errand:
        """Close an errand: it is done."""
    async def inventory(self, id: str) -> Inventory:
        """What is on the site, as its agent last said."""
    async def case(self, id: str) -> Case:
        """The site's situation as a windbreak-case/1 document."""
    async def verdicts(self, id: str, suppose: Sequence[str]=()) -> Answer:
        """What the reasoning says of each component; with ``if``, what it would say."""
    async def verdict(self, id: str, product: str, suppose: Sequence[str]=()) -> Verdict:
        """What the reasoning says of one product on a site; with ``if``, what it would say."""
    async def files(self, id: str) -> Integrity:
        """The files of a site's components, held against their packages, as they were seen last."""
    async def look_at_files(self, id: str) -> Integrity:
        """Hold the files of a site's components against their packages now."""
    async def right(self, id: str, product: str, version: str | None=None) -> Entitlement:
        """Whether a site may take a release of a product, and by which right; what would bring it."""
    async def outlook(self, id: str, suppose: Sequence[str]=()) -> Outlook:
        """A site's verdicts and plan, with acts taken as done. Nothing is changed or kept."""
    async def acts(self, suppose: Sequence[str]=()) -> list[ActRow]:
        """What somebody could do, what frees most across the fleet first."""
    async def draft_plan(self, id: str) -> SitePlan:
        """Make a plan for the site as it stands."""
    async def draft_removal(self, id: str, products: Sequence[str]) -> SitePlan:
        """Make a plan by which some components leave a site: a step for each, nothing else moves."""
    async def named(self, kind: str, text: str) -> list[Named]:
        """The sites or products ("site", "product") that a person may mean by a text."""
    async def plans(self, id: str) -> list[SitePlan]:
        """The site's plans, newest first."""
    async def plan(self, id: int) -> SitePlan:
        """One plan."""
    async def plan_sheet(self, id: int) -> PlanSheet:
        """A plan as a sheet: when it runs, how long each part takes, and what it asks of a person."""
    async def charts(self, id: int) -> list[Chart]:
        """The pairs of a plan that bind each other: which versions go together, and the way through."""
    async def approve_plan(self, id: int, why: str='', restore_anyway: bool=False, changed_files: str | None=None, patches_until: date | None=None) -> SitePlan:
        """Let a plan go: exactly its targets, or up to a day patch releases of them too."""
    async def book_plan(self, id: int, at: datetime | None=None, outside_window: bool=False) -> Booking:
        """Book an approved plan: at an instant, or where the timetable has a place for it."""
    async def run_plan(self, id: int, outside_window: bool=False, although_it_failed: bool=False) -> Run:
        """Carry an approved plan out now; outside of its site's windows only where that is meant."""
    async def book_all(self) -> BookedAll:
        """Book every approved plan that is not booked yet, by one timetable."""
    async def freezes(self) -> list[SiteFreeze]:
        """The freezes that are not over, soonest first."""
    async def add_freeze(self, new: NewFreeze) -> Frozen:
        """Leave sites alone for a while; bookings that it meets are booked anew."""
    async def lift_freeze(self, id: int) -> None:
        """Lift a freeze."""
    async def night_book(self) -> dict[str, Any]:
        """The live night book: what a timetable of the next four weeks is made from."""
    async def nights(self, first: date | None=None, days: int=7, zone: str='UTC', proposed: bool=True, wait: float=0) -> Calendar:
        """The nights from a day on, each from noon to noon in a zone: what is booked and why then, what
could be, what is not and why. The answer waits so many seconds at the most until what could be
booked is as things are now."""
    async def bookings(self, state: str | None='waiting') -> list[Booking]:
        """The bookings of a state, soonest first."""
    async def move_booking(self, id: int, at: datetime | None=None, outside_window: bool=False) -> Booking:
        """Pin a booking: to another time, or without one where it is."""
    async def book_again(self, id: int) -> Booking:
        """Let the timetable find a place anew for a booking, pinned or not."""
    async def withdraw_booking(self, id: int, why: str='') -> Booking:
        """Take a booking out: its plan stays approved, and is booked no more by itself."""
    async def freezes_ics(self) -> str:
        """The freezes that are not over, as iCalendar."""
    async def freeze_calendars(self) -> list[FreezeCalendar]:
        """The calendars whose events are freezes."""
    async def add_freeze_calendar(self, new: NewFreezeCalendar) -> CalendarRead:
        """Take the events of a calendar (iCalendar) for freezes."""
    async def read_freeze_calendar(self, id: str) -> CalendarRead:
        """Read a subscribed calendar again now."""
    async def drop_freeze_calendar(self, id: str) -> None:
        """Forget a calendar, and lift what it froze."""
    async def watch(self) -> list[WatchHours]:
        """Who is there to watch, and when; what is over is left out."""
    async def add_watch(self, new: NewWatch) -> WatchHours:
        """Say when somebody is there to watch."""
    async def drop_watch(self, id: int) -> None:
        """Say that somebody is not there after all."""
    async def draft_rollout(self, new: NewRollout, wait: float=20) -> RolloutDraft:
        """What a rollout would do if it were approved now: who goes when, who stays out, and why. The
answer waits so many seconds at the most until its times are final."""
    async def rollout_draft(self, id: str, wait: float=20) -> RolloutDraft:
        """A draft of a rollout as far as it is by now."""
    async def rollouts(self) -> list[Rollout]:
        """The rollouts, newest first."""
    async def rollout(self, id: int) -> RolloutStory:
        """One rollout: its waves, its gates, and who is not in them."""
    async def approve_rollout(self, new: ApproveRollout | NewRollout) -> Rollout:
        """Let go what a draft has shown, in waves. Without one: what is asked for, to every site that
can take it now."""
    async def stop_rollout(self, id: int, why: str='') -> Rollout:
        """Stop a rollout: what runs goes on to its end, what is booked is taken out."""
    async def go_on_with_rollout(self, id: int, why: str='') -> Rollout:
        """Go on with a rollout that was stopped: what has not run is planned and booked anew."""
    async def leave_out(self, id: int, site: str, why: str='') -> Rollout:
        """Go on with a rollout without one of its sites."""
    async def open_gate(self, id: int, gate: str, why: str='') -> Rollout:
        """Let a gate of a rollout open though a run before it did not end well."""
    async def failed_moves(self) -> list[WaitingMove]:
        """The moves that failed somewhere and wait everywhere for a person's word, newest first."""
    async def let_move_go(self, product: str, version: str, why: str='') -> FailedMove:
        """Let a move be made elsewhere though it failed somewhere."""
    async def runs(self, site: str | None=None, limit: int=50, after: int | None=None) -> list[Run]:
        """The runs, newest first; those before a number with ``after``."""
    async def run(self, id: int) -> RunStory:
        """A run with its steps, what the probes saw, and its journal."""
    async def ask_now(self, id: int) -> Run:
        """Ask the site of a run that waits for it now."""
    async def go_on(self, id: int) -> Run:
        """Go on with a run that waited for an errand which is done."""
    async def matters(self, every: bool=False) -> list[Matter]:
        """Runs that ended badly and wait for a person, newest first; ``every``: also closed ones."""
    async def lost_csv(self, run: int) -> str:
        """What was written on the site and lost when a run restored its snapshot, as CSV."""
    async def matter(self, id: int) -> MatterStory:
        """A matter with what is owed to its site, and the ways out as they stand now."""
    async def take_way_out(self, id: int, act: str, why: str) -> Matter:
        """Take a way out of a matter, as "restore" or "accept"; it is done in the background."""
    async def debts(self, site: str) -> list[Debt]:
        """What runs still owe to a site."""
    async def stop_run(self, id: int) -> Run:
        """Stop a run after the step it is at."""
    async def feeds(self) -> list[Feed]:
        """The feeds, with their state; credentials are masked."""
    async def register_feed(self, new: NewFeed) -> Feed:
        """Register a feed."""
    async def change_feed(self, id: str, change: FeedChange) -> Feed:
        """Change a feed's label, address, origins, reading or interval."""
    async def drop_feed(self, id: str) -> None:
        """Read a feed no more; what it told stays known."""
    async def poll_feed(self, id: str) -> PollResult:
        """Look at a feed now, past every cache unless told otherwise."""
    async def poll_feeds(self) -> list[PollResult]:
        """Look at every feed now, past every cache."""
    async def check_feed(self, id: str) -> CredentialCheck:
        """Ask the maker what the feed's credential may do."""
    async def replace_credential(self, id: str, credential: str, everywhere: bool=False) -> Feed:
        """Replace the feed's credential; ``everywhere`` also where the old one is used else."""
    async def try_recipe(self, text: str, credential: str | None=None) -> dict[str, Any]:
        """Ask by a recipe and read by it; nothing is kept."""
    async def put_recipe(self, name: str, text: str) -> dict[str, Any]:
        """Keep a recipe under a name."""
    async def products(self) -> list[ProductRow]:
        """The products across the fleet, what wants attention first."""
    async def product(self, id: str) -> ProductView:
        """One product across the fleet."""
    async def change_product(self, id: str, change: ProductChange) -> KnownProduct:
        """Set what a person knows of a product."""
    async def releases(self, product: str) -> list[KnownRelease]:
        """The known releases of a product, newest first."""
    async def passed(self, product: str, start: str, end: str) -> Passed:
        """What a move passes: changes, form of licence, tasks and watch items of every release."""
    async def decide_release(self, product: str, version: str, choice: DecideRepublished) -> KnownRelease:
        """Say which package of a version that came twice is right."""
    async def type_in_release(self, new: NewRelease) -> KnownRelease:
        """Type in a release that no feed tells of."""
    async def advisories(self) -> list[KnownAdvisory]:
        """The published weaknesses of products of ours."""
    async def coverage(self) -> Coverage:
        """Which components feeds cover, and what none covers."""
    async def shelf(self) -> list[Package]:
        """The packages in hand."""
    async def put_on_shelf(self, archive: bytes, sites: tuple[str, ...]=()) -> Package:
        """Put an archive on the shelf; the body is the archive itself."""
    async def drop_package(self, id: str) -> None:
        """Take a package from the shelf, unless it is kept for going back."""
    async def give_package(self, id: str, site: str) -> ShelfRight:
        """Let a site have a package of the shelf."""
    async def holds(self) -> list[StandingHold]:
        """The holds."""
    async def make_hold(self, new: NewHold) -> StandingHold:
        """Decide not to move a product."""
    async def lift_hold(self, id: str) -> None:
        """Lift a hold."""
    async def rules(self) -> list[Rule]:
        """The rules of the house."""
    async def set_rule(self, new: NewRule) -> Rule:
        """Decide how releases are taken, somewhere or everywhere."""
    async def drop_rule(self, id: str) -> None:
        """Drop a rule."""
    async def locksteps(self) -> list[KnownLockstep]:
        """The groups of products whose versions must match."""
    async def set_lockstep(self, new: NewLockstep) -> KnownLockstep:
        """Say that products must match: from then on no plan lets them come apart."""
    async def drop_lockstep(self, id: str) -> None:
        """Products need match no longer."""
    async def clashes(self) -> list[KnownClash]:
        """The pairs of products known not to work together."""
    async def add_clash(self, new: NewClash) -> KnownClash:
        """Say that two products don't work together: from then on no plan brings them together."""
    async def drop_clash(self, id: str) -> None:
        """Two products clash no longer."""
    async def policy(self, id: str) -> list[InForce]:
        """What holds for each product on a site, and which rule says so."""
    async def licences(self) -> list[LicenceView]:
        """The licences as they stand, those that end first first; codes are masked."""
    async def credentials(self) -> list[CredentialRow]:
        """Where each credential is used: by product and site, with the state of each; all masked."""
    async def licence(self, id: str) -> LicenceView:
        """One licence as it stands."""
    async def add_licence(self, new: NewLicence) -> Licence:
        """Enter a licence."""
    async def change_licence(self, id: str, change: LicenceChange) -> Licence:
        """Change what is known of a licence."""
    async def drop_licence(self, id: str) -> None:
        """Forget a licence that no site holds a seat of."""
    async def seat_site(self, licence: str, new: NewSeat) -> Seat:
        """Allot a seat; a copy rides along where that is permitted."""
    async def unseat_site(self, licence: str, site: str) -> None:
        """Take a seat back, with that of the copy that rides along."""
    async def rotate_code(self, licence: str, code: str, site: str | None=None) -> Licence:
        """Put a new code in the place of the old one; nothing is entered on a site yet."""
    async def enter_code(self, licence: str, site: str | None=None) -> list[EntryResult]:
        """Enter the code on the sites that hold a seat, through their agents, and read it back."""
    async def forecasts(self) -> list[Forecast]:
        """Seats that will be asked for by releases that change the form of licence."""
    async def findings(self, snoozed: bool=False) -> list[Finding]:
        """What wants attention, most urgent first."""
    async def snooze_finding(self, id: str, snooze: SnoozeFinding) -> Finding:
        """Put a finding aside until a day; dismissed is not solved."""
    async def wake_finding(self, id: str) -> Finding:
        """Bring a snoozed finding back."""
    async def sites_csv(self) -> str:
        """Every site, as CSV."""
    async def import_sites(self, text: str) -> dict[str, Any]:
        """Register the sites of a CSV, all or none."""
    async def inventory_cyclonedx(self, site: str) -> str:
        """A site's inventory, as CycloneDX."""
    async def metrics(self) -> str:
        """The fleet in numbers, as OpenMetrics."""
    async def calendar_address(self) -> dict[str, str]:
        """Make the address of your calendar; an older one is good no more."""
    async def send_digest(self) -> dict[str, str]:
        """Mail the digest now, to whom the settings say."""
    async def hooks(self) -> list[Hook]:
        """The web hooks and how they take our news."""
    async def add_hook(self, new: NewHook) -> Hook:
        """Register a web hook; the answer holds the key to check our signatures with."""
    async def drop_hook(self, id: str) -> None:
        """Tell a web hook no more."""
    async def deliveries(self, hook: str) -> list[Delivery]:
        """What was sent to a web hook, newest first."""
    async def accounts(self) -> list[Account]:
        """Who may sign in, and whose account is closed."""
    async def add_account(self, id: str, name: str) -> Account:
        """Open an account."""
    async def close_account(self, id: str) -> Account:
        """Close an account; what it did stays."""
    async def reopen_account(self, id: str) -> Account:
        """Open a closed account again."""
    async def invite_account(self, id: str) -> Invitation:
        """A one-time link for somebody who can't sign in yet; it is good for half an hour."""
    async def instance(self) -> Instance:
        """This service itself, and whether it drives sites."""
    async def take_over(self, why: str) -> Instance:
        """Let a restored copy drive the sites."""
    async def today(self) -> Today:
        """What wants attention, what is booked, and how old the facts are."""
    async def ledger(self, subject: str | None=None, limit: int=100, after: int | None=None, *, client: str | None=None, person: str | None=None, part: str | None=None, since: datetime | None=None, until: datetime | None=None, words: str='', wrong: bool=False) -> list[LedgerLine]:
        """What was decided and done, newest first; what came before a number with ``after``. ``part``:
"decisions" of people, or "acts" of the service; ``wrong``: runs that did not end well."""
    async def report(self, client: str, month: str, looks: bool=False) -> ClientReport:
        """What a client is told of a month, as 2026-11; ``looks``: also what was seen after steps."""
    async def stream_events(self, after: int | None=None) -> None:
        """Every change of state, from now on or from after an event; ids let a reader go on."""

