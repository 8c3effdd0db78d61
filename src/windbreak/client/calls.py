"""Every call of the service as a value: what is asked, and how its answer is read.

The sync and the async client share these, and differ only in how they carry one out.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from functools import wraps
from importlib import import_module
from inspect import isfunction
from typing import TYPE_CHECKING, Any, Generic, TypeVar
from urllib.parse import quote

if TYPE_CHECKING:
    from pydantic import BaseModel

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
    from windbreak.core.values.freezes import (
        CalendarRead,
        FreezeCalendar,
        Frozen,
        NewFreeze,
        NewFreezeCalendar,
        SiteFreeze,
    )
    from windbreak.core.values.holds import NewHold, StandingHold
    from windbreak.core.values.hooks import Delivery, Hook, Instance, NewHook
    from windbreak.core.values.integrity import Integrity
    from windbreak.core.values.inventories import Inventory
    from windbreak.core.values.licences import Licence, LicenceChange, NewLicence, NewSeat, Seat
    from windbreak.core.values.matters import Debt, Matter
    from windbreak.core.values.packages import Package, ShelfRight
    from windbreak.core.values.plans import SitePlan
    from windbreak.core.values.policy import InForce, NewRule, Rule
    from windbreak.core.values.products import KnownProduct, ProductChange
    from windbreak.core.values.releases import DecideRepublished, KnownRelease, NewRelease
    from windbreak.core.values.rollouts import (
        ApproveRollout,
        FailedMove,
        NewRollout,
        Rollout,
        WaitingMove,
    )
    from windbreak.core.values.runs import Run
    from windbreak.core.values.sites import (
        Host,
        LinkCode,
        NewByHand,
        NewSite,
        NoteFor,
        Site,
        SiteChange,
        Window,
        WindowsOf,
    )
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
    from windbreak.documents.sheets import PlanSheet
    from windbreak.documents.sites import SiteSummary, SiteView
    from windbreak.documents.today import Today


T = TypeVar("T")


# Where the types of answers live. They are loaded when an answer is read, so that a command that
# prints what came, or a program that asks one thing, does not load all of them.
HOMES = {
    "core.case.situation": "Case",
    "core.explanation.passing": "Passed",
    "core.values.accounts": "Account Invitation Principal Token",
    "core.values.advisories": "KnownAdvisory",
    "core.values.bookings": "BookedAll Booking",
    "core.values.freezes": "CalendarRead FreezeCalendar Frozen SiteFreeze",
    "core.values.charts": "Chart",
    "core.values.errands": "Errand",
    "core.values.entitlements": "Entitlement",
    "core.values.feeds": "CredentialCheck Feed PollResult",
    "core.values.findings": "Finding",
    "core.values.holds": "StandingHold",
    "core.values.hooks": "Delivery Hook Instance",
    "core.values.integrity": "Integrity",
    "core.values.inventories": "Inventory",
    "core.values.licences": "Licence Seat",
    "core.values.packages": "Package ShelfRight",
    "core.values.plans": "SitePlan",
    "core.values.policy": "InForce Rule",
    "core.values.products": "KnownProduct",
    "core.values.releases": "KnownRelease",
    "core.values.matters": "Debt Matter",
    "core.values.rollouts": "FailedMove Rollout WaitingMove",
    "core.values.runs": "Run",
    "core.values.sites": "Host LinkCode Site",
    "core.values.tasks": "Task",
    "core.values.ties": "KnownClash KnownLockstep",
    "core.values.verdicts": "Answer Verdict",
    "core.values.watching": "WatchHours",
    "documents.calendar": "Calendar",
    "documents.ledger": "ClientReport LedgerLine",
    "documents.licences": "CredentialRow EntryResult Forecast LicenceView",
    "documents.named": "Named",
    "documents.outlook": "ActRow Outlook",
    "documents.products": "Coverage ProductRow ProductView",
    "documents.rollouts": "RolloutDraft RolloutStory",
    "documents.runs": "MatterStory RunStory",
    "documents.sheets": "PlanSheet",
    "documents.sites": "SiteSummary SiteView",
    "documents.today": "Today",
}


class _Types(dict[str, Any]):
    """The names that an answer's type is written with, each loaded when it is met."""

    def __missing__(self, name: str) -> Any:
        for home, names in HOMES.items():
            if name in names.split():
                return getattr(import_module(f"windbreak.{home}"), name)
        raise KeyError(name)


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request; ``answer`` is the type of its answer as it is written, "None" for nothing."""

    method: str
    path: str
    params: Mapping[str, str | list[str]] = field(default_factory=dict)
    body: Any = None
    content: bytes | None = None
    answer: str = "None"

    def read(self, content: bytes) -> T:
        """The answer as a value of its type."""
        if self.answer == "None":
            return None  # type: ignore[return-value]
        if self.answer == "str":
            return content.decode()  # type: ignore[return-value]
        if self.answer == "Case":
            from windbreak.core.case.reading import case_from

            return case_from(json.loads(content))  # type: ignore[return-value]
        from pydantic import TypeAdapter

        kind = eval(self.answer, {}, _Types(Any=Any))
        return TypeAdapter(kind).validate_json(content)  # type: ignore[no-any-return]


def _at(template: str, *ids: object) -> str:
    """An address with ids in their places. Each is quoted here, and nowhere else, so that none
    leads to another address than its own.
    """
    for id in ids:
        if str(id).strip(".") == "":
            raise ValueError(f"{id!r} is no id")
    return template.format(*(quote(str(id), safe="") for id in ids))


def _parts(product: str) -> tuple[str, str]:
    """The kind and the slug of a product's id, which are two steps of its address."""
    kind, _, slug = product.partition("/")
    return kind, slug


def _get(path: str, **params: object) -> Call[Any]:
    return Call("GET", path, {k: str(v) for k, v in params.items() if v is not None})


def _supposing(path: str, suppose: Sequence[str]) -> Call[Any]:
    return Call("GET", path, {"if": list(suppose)})


def _send(method: str, path: str, body: Any = None, **params: object) -> Call[Any]:
    sent = _plain(body) if hasattr(body, "model_dump") else body
    given = {k: str(v) for k, v in params.items() if v is not None}
    return Call(method, path, given, sent)


def _plain(body: BaseModel) -> Any:
    """A value as JSON; a secret goes out as it is."""
    plain = body.model_dump(mode="json", by_alias=True)
    for name in type(body).model_fields:
        value = getattr(body, name)
        if hasattr(value, "get_secret_value"):
            plain[name] = value.get_secret_value()
    return plain


def who_am_i() -> Call[Principal]:
    """Who is signed in."""
    return _get("/session")


def sign_in(link: str) -> Call[Principal]:
    """Sign in; the session is a cookie."""
    return _send("POST", "/session", {"link": link})


def set_password(password: str) -> Call[None]:
    """Set your password."""
    return _send("PUT", "/session/password", {"password": password})


def make_token(label: str) -> Call[Token]:
    """Make a token; its secret is in this answer only."""
    return _send("POST", "/tokens", {"label": label})


def tokens() -> Call[list[Token]]:
    """Your tokens, without their secrets."""
    return _get("/tokens")


def revoke_token(id: str) -> Call[None]:
    """Revoke a token."""
    return _send("DELETE", _at("/tokens/{}", id))


def hosts() -> Call[list[Host]]:
    """The hosts."""
    return _get("/hosts")


def put_host(host: Host) -> Call[Host]:
    """Register a host, or change what it offers."""
    return _send("PUT", _at("/hosts/{}", host.id), host)


def drop_host(id: str) -> Call[None]:
    """Forget a host that no site is on."""
    return _send("DELETE", _at("/hosts/{}", id))


def sites(
    client: str | None = None,
    host: str | None = None,
    text: str | None = None,
    state: str | None = None,
    tag: str | None = None,
    runs: str | None = None,
    limit: int | None = None,
    after: str | None = None,
) -> Call[list[SiteSummary]]:
    """The sites as rows, worst first, each twin after its site."""
    return _get(
        "/sites",
        client=client,
        host=host,
        text=text,
        state=state,
        tag=tag,
        runs=runs,
        limit=limit,
        after=after,
    )


def site(id: str) -> Call[SiteView]:
    """One site whole."""
    return _get(_at("/sites/{}", id))


def register_site(new: NewSite, id: str | None = None) -> Call[Site]:
    """Register a site."""
    return _send("POST", "/sites", new, id=id)


def change_site(id: str, change: SiteChange) -> Call[Site]:
    """Change a site's label, client, host or tags."""
    return _send("PATCH", _at("/sites/{}", id), change)


def retire_site(id: str, why: str = "") -> Call[Site]:
    """Retire a site: its work stops, its link ends, its seats are freed, its history stays."""
    return _send("POST", _at("/sites/{}/retirement", id), {"why": why})


def mark_own(id: str, product: str, own: bool = True) -> Call[Site]:
    """Mark a component as made for this site."""
    return _send("PUT" if own else "DELETE", _at("/sites/{}/own/{}/{}", id, *_parts(product)))


def look_after(id: str, product: str, new: NewByHand) -> Call[Site]:
    """Note that a person looks after a component of which no feed tells."""
    return _send("PUT", _at("/sites/{}/by-hand/{}/{}", id, *_parts(product)), new)


def look_after_no_more(id: str, product: str) -> Call[Site]:
    """Nobody looks after a component by hand any longer."""
    return _send("DELETE", _at("/sites/{}/by-hand/{}/{}", id, *_parts(product)))


def write_note(id: str, audience: NoteFor, text: str) -> Call[Site]:
    """Write a note on a site, for staff or for its client; empty text takes it away."""
    return _send("PUT", _at("/sites/{}/notes/{}", id, audience), {"text": text})


def set_windows_of(where: WindowsOf) -> Call[list[Site]]:
    """Set the hours of all sites of a client, or on a host, at once."""
    return _send("PUT", "/windows", where)


def set_windows(id: str, windows: list[Window], timezone: str) -> Call[Site]:
    """Set the hours in which a site may be worked on."""
    body = {"windows": [_plain(w) for w in windows], "timezone": timezone}
    return _send("PUT", _at("/sites/{}/windows", id), body)


def link_line(id: str) -> Call[LinkCode]:
    """Make the one line for the site's agent."""
    return _send("POST", _at("/sites/{}/link-line", id))


def link_site(id: str) -> Call[Site]:
    """Link the site, once the line was pasted into its agent; then refresh it."""
    return _send("POST", _at("/sites/{}/link", id))


def unlink_site(id: str) -> Call[Site]:
    """End the link."""
    return _send("DELETE", _at("/sites/{}/link", id))


def refresh_site(id: str) -> Call[Site]:
    """Ask the site's agent what is installed."""
    return _send("POST", _at("/sites/{}/refresh", id))


def refresh_sites(sites: Sequence[str] = ()) -> Call[Task]:
    """Ask many sites what is installed, all that are linked where none is named; a task."""
    return _send("POST", "/sites/refresh", {"sites": list(sites)})


def refresh_twin(id: str) -> Call[Task]:
    """Make a twin as its production site is now; a task."""
    return _send("POST", _at("/sites/{}/twin-refresh", id))


def prove_backup(id: str) -> Call[Task]:
    """Prove on its twin that a site's backup can be restored; a task."""
    return _send("POST", _at("/sites/{}/proof", id))


def rotate_keys() -> Call[Task]:
    """Turn the keys that sign for the service and its agents; a task."""
    return _send("POST", "/instance/keys")


def tasks(limit: int = 30) -> Call[list[Task]]:
    """The work of the service that outlives a request, newest first."""
    return _get("/tasks", limit=limit)


def task(id: int) -> Call[Task]:
    """One task, and how far it has come."""
    return _get(_at("/tasks/{}", id))


def errands(site: str | None = None, every: bool = False) -> Call[list[Errand]]:
    """Work for a person: what keeps a run first, then by its day; ``every``: also what is done."""
    return _get("/errands", site=site, every=every)


def errand(id: int) -> Call[Errand]:
    """One errand."""
    return _get(_at("/errands/{}", id))


def add_errand(site: str, text: str, due: date | None = None) -> Call[Errand]:
    """Write down an errand."""
    day = due.isoformat() if due else None
    return _send("POST", "/errands", {"site": site, "text": text, "due": day})


def close_errand(id: int, how: str = "") -> Call[Errand]:
    """Close an errand: it is done."""
    return _send("POST", _at("/errands/{}/done", id), {"how": how})


def inventory(id: str) -> Call[Inventory]:
    """What is on the site, as its agent last said."""
    return _get(_at("/sites/{}/inventory", id))


def case(id: str) -> Call[Case]:
    """The site's situation as a windbreak-case/1 document."""
    return _get(_at("/sites/{}/case", id))


def verdicts(id: str, suppose: Sequence[str] = ()) -> Call[Answer]:
    """What the reasoning says of each component; with ``if``, what it would say."""
    return _supposing(_at("/sites/{}/verdicts", id), suppose)


def verdict(id: str, product: str, suppose: Sequence[str] = ()) -> Call[Verdict]:
    """What the reasoning says of one product on a site; with ``if``, what it would say."""
    return _supposing(_at("/sites/{}/verdicts/{}/{}", id, *_parts(product)), suppose)


def files(id: str) -> Call[Integrity]:
    """The files of a site's components, held against their packages, as they were seen last."""
    return _get(_at("/sites/{}/files", id))


def look_at_files(id: str) -> Call[Integrity]:
    """Hold the files of a site's components against their packages now."""
    return _send("POST", _at("/sites/{}/files", id))


def right(id: str, product: str, version: str | None = None) -> Call[Entitlement]:
    """Whether a site may take a release of a product, and by which right; what would bring it."""
    return _get(_at("/sites/{}/rights/{}/{}", id, *_parts(product)), version=version)


def outlook(id: str, suppose: Sequence[str] = ()) -> Call[Outlook]:
    """A site's verdicts and plan, with acts taken as done. Nothing is changed or kept."""
    return _supposing(_at("/sites/{}/outlook", id), suppose)


def acts(suppose: Sequence[str] = ()) -> Call[list[ActRow]]:
    """What somebody could do, what frees most across the fleet first."""
    return _supposing("/acts", suppose)


def draft_plan(id: str) -> Call[SitePlan]:
    """Make a plan for the site as it stands."""
    return _send("POST", _at("/sites/{}/plans", id))


def draft_removal(id: str, products: Sequence[str]) -> Call[SitePlan]:
    """Make a plan by which some components leave a site: a step for each, nothing else moves."""
    return _send("POST", _at("/sites/{}/removals", id), {"products": list(products)})


def named(kind: str, text: str) -> Call[list[Named]]:
    """The sites or products ("site", "product") that a person may mean by a text."""
    return _get("/named", kind=kind, text=text)


def plans(id: str) -> Call[list[SitePlan]]:
    """The site's plans, newest first."""
    return _get(_at("/sites/{}/plans", id))


def plan(id: int) -> Call[SitePlan]:
    """One plan."""
    return _get(_at("/plans/{}", id))


def plan_sheet(id: int) -> Call[PlanSheet]:
    """A plan as a sheet: when it runs, how long each part takes, and what it asks of a person."""
    return _get(_at("/plans/{}/sheet", id))


def charts(id: int) -> Call[list[Chart]]:
    """The pairs of a plan that bind each other: which versions go together, and the way through."""
    return _get(_at("/plans/{}/charts", id))


def approve_plan(
    id: int,
    why: str = "",
    restore_anyway: bool = False,
    changed_files: str | None = None,
    patches_until: date | None = None,
) -> Call[SitePlan]:
    """Let a plan go: exactly its targets, or up to a day patch releases of them too."""
    body = {
        "why": why,
        "restore_anyway": restore_anyway,
        "changed_files": changed_files,
        "patches_until": patches_until.isoformat() if patches_until else None,
    }
    return _send("POST", _at("/plans/{}/approval", id), body)


def book_plan(id: int, at: datetime | None = None, outside_window: bool = False) -> Call[Booking]:
    """Book an approved plan: at an instant, or where the timetable has a place for it."""
    when = {"at": at.isoformat() if at else None, "outside_window": outside_window}
    return _send("POST", _at("/plans/{}/bookings", id), when)


def run_plan(id: int, outside_window: bool = False, although_it_failed: bool = False) -> Call[Run]:
    """Carry an approved plan out now; outside of its site's windows only where that is meant."""
    how = {"outside_window": outside_window, "although_it_failed": although_it_failed}
    return _send("POST", _at("/plans/{}/runs", id), how)


def book_all() -> Call[BookedAll]:
    """Book every approved plan that is not booked yet, by one timetable."""
    return _send("POST", "/bookings", {})


def freezes() -> Call[list[SiteFreeze]]:
    """The freezes that are not over, soonest first."""
    return _get("/freezes")


def add_freeze(new: NewFreeze) -> Call[Frozen]:
    """Leave sites alone for a while; bookings that it meets are booked anew."""
    return _send("POST", "/freezes", new)


def lift_freeze(id: int) -> Call[None]:
    """Lift a freeze."""
    return _send("DELETE", _at("/freezes/{}", id))


def night_book() -> Call[dict[str, Any]]:
    """The live night book: what a timetable of the next four weeks is made from."""
    return _get("/night-book")


def nights(
    first: date | None = None,
    days: int = 7,
    zone: str = "UTC",
    proposed: bool = True,
    wait: float = 0,
) -> Call[Calendar]:
    """The nights from a day on, each from noon to noon in a zone: what is booked and why then, what
    could be, what is not and why. The answer waits so many seconds at the most until what could be
    booked is as things are now.
    """
    asked = {"from": first, "days": days, "zone": zone, "proposed": proposed, "wait": wait}
    return _get("/nights", **asked)


def bookings(state: str | None = "waiting") -> Call[list[Booking]]:
    """The bookings of a state, soonest first."""
    return _get("/bookings", state=state)


def move_booking(
    id: int, at: datetime | None = None, outside_window: bool = False
) -> Call[Booking]:
    """Pin a booking: to another time, or without one where it is."""
    when = {"at": at.isoformat() if at else None, "outside_window": outside_window}
    return _send("PUT", _at("/bookings/{}", id), when)


def book_again(id: int) -> Call[Booking]:
    """Let the timetable find a place anew for a booking, pinned or not."""
    return _send("POST", _at("/bookings/{}/again", id))


def withdraw_booking(id: int, why: str = "") -> Call[Booking]:
    """Take a booking out: its plan stays approved, and is booked no more by itself."""
    return _send("DELETE", _at("/bookings/{}", id), why=why)


def freezes_ics() -> Call[str]:
    """The freezes that are not over, as iCalendar."""
    return _get("/freezes.ics")


def freeze_calendars() -> Call[list[FreezeCalendar]]:
    """The calendars whose events are freezes."""
    return _get("/freeze-calendars")


def add_freeze_calendar(new: NewFreezeCalendar) -> Call[CalendarRead]:
    """Take the events of a calendar (iCalendar) for freezes."""
    return _send("POST", "/freeze-calendars", {**_plain(new), "text": new.text})


def read_freeze_calendar(id: str) -> Call[CalendarRead]:
    """Read a subscribed calendar again now."""
    return _send("POST", _at("/freeze-calendars/{}/read", id))


def drop_freeze_calendar(id: str) -> Call[None]:
    """Forget a calendar, and lift what it froze."""
    return _send("DELETE", _at("/freeze-calendars/{}", id))


def watch() -> Call[list[WatchHours]]:
    """Who is there to watch, and when; what is over is left out."""
    return _get("/watch")


def add_watch(new: NewWatch) -> Call[WatchHours]:
    """Say when somebody is there to watch."""
    return _send("POST", "/watch", new)


def drop_watch(id: int) -> Call[None]:
    """Say that somebody is not there after all."""
    return _send("DELETE", _at("/watch/{}", id))


def draft_rollout(new: NewRollout, wait: float = 20) -> Call[RolloutDraft]:
    """What a rollout would do if it were approved now: who goes when, who stays out, and why. The
    answer waits so many seconds at the most until its times are final.
    """
    return _send("POST", "/rollouts/drafts", new, wait=wait)


def rollout_draft(id: str, wait: float = 20) -> Call[RolloutDraft]:
    """A draft of a rollout as far as it is by now."""
    return _get(_at("/rollouts/drafts/{}", id), wait=wait)


def rollouts() -> Call[list[Rollout]]:
    """The rollouts, newest first."""
    return _get("/rollouts")


def rollout(id: int) -> Call[RolloutStory]:
    """One rollout: its waves, its gates, and who is not in them."""
    return _get(_at("/rollouts/{}", id))


def approve_rollout(new: ApproveRollout | NewRollout) -> Call[Rollout]:
    """Let go what a draft has shown, in waves. Without one: what is asked for, to every site that
    can take it now.
    """
    return _send("POST", "/rollouts", new)


def stop_rollout(id: int, why: str = "") -> Call[Rollout]:
    """Stop a rollout: what runs goes on to its end, what is booked is taken out."""
    return _send("POST", _at("/rollouts/{}/stop", id), {"why": why})


def go_on_with_rollout(id: int, why: str = "") -> Call[Rollout]:
    """Go on with a rollout that was stopped: what has not run is planned and booked anew."""
    return _send("POST", _at("/rollouts/{}/go-on", id), {"why": why})


def leave_out(id: int, site: str, why: str = "") -> Call[Rollout]:
    """Go on with a rollout without one of its sites."""
    return _send("POST", _at("/rollouts/{}/leave-out", id), {"site": site, "why": why})


def open_gate(id: int, gate: str, why: str = "") -> Call[Rollout]:
    """Let a gate of a rollout open though a run before it did not end well."""
    return _send("POST", _at("/rollouts/{}/open-gate", id), {"gate": gate, "why": why})


def failed_moves() -> Call[list[WaitingMove]]:
    """The moves that failed somewhere and wait everywhere for a person's word, newest first."""
    return _get("/failed-moves")


def let_move_go(product: str, version: str, why: str = "") -> Call[FailedMove]:
    """Let a move be made elsewhere though it failed somewhere."""
    path = _at("/failed-moves/{}/{}/{}/let-go", *_parts(product), version)
    return _send("POST", path, {"why": why})


def runs(site: str | None = None, limit: int = 50, after: int | None = None) -> Call[list[Run]]:
    """The runs, newest first; those before a number with ``after``."""
    return _get("/runs", site=site, limit=limit, after=after)


def run(id: int) -> Call[RunStory]:
    """A run with its steps, what the probes saw, and its journal."""
    return _get(_at("/runs/{}", id))


def ask_now(id: int) -> Call[Run]:
    """Ask the site of a run that waits for it now."""
    return _send("POST", _at("/runs/{}/ask", id))


def go_on(id: int) -> Call[Run]:
    """Go on with a run that waited for an errand which is done."""
    return _send("POST", _at("/runs/{}/go-on", id))


def matters(every: bool = False) -> Call[list[Matter]]:
    """Runs that ended badly and wait for a person, newest first; ``every``: also closed ones."""
    return _get("/matters", every=every)


def lost_csv(run: int) -> Call[str]:
    """What was written on the site and lost when a run restored its snapshot, as CSV."""
    return _get(_at("/runs/{}/lost.csv", run))


def matter(id: int) -> Call[MatterStory]:
    """A matter with what is owed to its site, and the ways out as they stand now."""
    return _get(_at("/matters/{}", id))


def take_way_out(id: int, act: str, why: str) -> Call[Matter]:
    """Take a way out of a matter, as "restore" or "accept"; it is done in the background."""
    return _send("POST", _at("/matters/{}/ways", id), {"act": act, "why": why})


def debts(site: str) -> Call[list[Debt]]:
    """What runs still owe to a site."""
    return _get(_at("/sites/{}/debts", site))


def stop_run(id: int) -> Call[Run]:
    """Stop a run after the step it is at."""
    return _send("POST", _at("/runs/{}/stop", id))


def feeds() -> Call[list[Feed]]:
    """The feeds, with their state; credentials are masked."""
    return _get("/feeds")


def register_feed(new: NewFeed) -> Call[Feed]:
    """Register a feed."""
    return _send("POST", "/feeds", new)


def change_feed(id: str, change: FeedChange) -> Call[Feed]:
    """Change a feed's label, address, origins, reading or interval."""
    return _send("PATCH", _at("/feeds/{}", id), change)


def drop_feed(id: str) -> Call[None]:
    """Read a feed no more; what it told stays known."""
    return _send("DELETE", _at("/feeds/{}", id))


def poll_feed(id: str) -> Call[PollResult]:
    """Look at a feed now, past every cache unless told otherwise."""
    return _send("POST", _at("/feeds/{}/poll", id))


def poll_feeds() -> Call[list[PollResult]]:
    """Look at every feed now, past every cache."""
    return _send("POST", "/feeds/poll")


def check_feed(id: str) -> Call[CredentialCheck]:
    """Ask the maker what the feed's credential may do."""
    return _send("POST", _at("/feeds/{}/check", id))


def replace_credential(id: str, credential: str, everywhere: bool = False) -> Call[Feed]:
    """Replace the feed's credential; ``everywhere`` also where the old one is used else."""
    body = {"credential": credential}
    wide = "true" if everywhere else None
    return _send("PUT", _at("/feeds/{}/credential", id), body, everywhere=wide)


def try_recipe(text: str, credential: str | None = None) -> Call[dict[str, Any]]:
    """Ask by a recipe and read by it; nothing is kept."""
    body = {"text": text, "credential": credential}
    return _send("POST", "/recipes/try", body)


def put_recipe(name: str, text: str) -> Call[dict[str, Any]]:
    """Keep a recipe under a name."""
    return _send("PUT", _at("/recipes/{}", name), {"text": text})


def products() -> Call[list[ProductRow]]:
    """The products across the fleet, what wants attention first."""
    return _get("/products")


def product(id: str) -> Call[ProductView]:
    """One product across the fleet."""
    return _get(_at("/products/{}/{}", *_parts(id)))


def change_product(id: str, change: ProductChange) -> Call[KnownProduct]:
    """Set what a person knows of a product."""
    return _send("PATCH", _at("/products/{}/{}", *_parts(id)), change)


def releases(product: str) -> Call[list[KnownRelease]]:
    """The known releases of a product, newest first."""
    return _get(_at("/products/{}/{}/releases", *_parts(product)))


def passed(product: str, start: str, end: str) -> Call[Passed]:
    """What a move passes: changes, form of licence, tasks and watch items of every release."""
    return _get(_at("/products/{}/{}/passed", *_parts(product)), start=start, end=end)


def decide_release(product: str, version: str, choice: DecideRepublished) -> Call[KnownRelease]:
    """Say which package of a version that came twice is right."""
    path = _at("/products/{}/{}/releases/{}/decision", *_parts(product), version)
    return _send("POST", path, choice)


def type_in_release(new: NewRelease) -> Call[KnownRelease]:
    """Type in a release that no feed tells of."""
    return _send("POST", "/releases", new)


def advisories() -> Call[list[KnownAdvisory]]:
    """The published weaknesses of products of ours."""
    return _get("/advisories")


def coverage() -> Call[Coverage]:
    """Which components feeds cover, and what none covers."""
    return _get("/coverage")


def shelf() -> Call[list[Package]]:
    """The packages in hand."""
    return _get("/shelf")


def put_on_shelf(archive: bytes, sites: tuple[str, ...] = ()) -> Call[Package]:
    """Put an archive on the shelf; the body is the archive itself."""
    return Call("POST", "/shelf", {"site": list(sites)}, content=archive)


def drop_package(id: str) -> Call[None]:
    """Take a package from the shelf, unless it is kept for going back."""
    return _send("DELETE", _at("/shelf/{}", id))


def give_package(id: str, site: str) -> Call[ShelfRight]:
    """Let a site have a package of the shelf."""
    return _send("POST", _at("/shelf/{}/rights", id), {"site": site})


def holds() -> Call[list[StandingHold]]:
    """The holds."""
    return _get("/holds")


def make_hold(new: NewHold) -> Call[StandingHold]:
    """Decide not to move a product."""
    return _send("POST", "/holds", new)


def lift_hold(id: str) -> Call[None]:
    """Lift a hold."""
    return _send("DELETE", _at("/holds/{}", id))


def rules() -> Call[list[Rule]]:
    """The rules of the house."""
    return _get("/rules")


def set_rule(new: NewRule) -> Call[Rule]:
    """Decide how releases are taken, somewhere or everywhere."""
    return _send("POST", "/rules", new)


def drop_rule(id: str) -> Call[None]:
    """Drop a rule."""
    return _send("DELETE", _at("/rules/{}", id))


def locksteps() -> Call[list[KnownLockstep]]:
    """The groups of products whose versions must match."""
    return _get("/lockstep")


def set_lockstep(new: NewLockstep) -> Call[KnownLockstep]:
    """Say that products must match: from then on no plan lets them come apart."""
    return _send("POST", "/lockstep", new)


def drop_lockstep(id: str) -> Call[None]:
    """Products need match no longer."""
    return _send("DELETE", _at("/lockstep/{}", id))


def clashes() -> Call[list[KnownClash]]:
    """The pairs of products known not to work together."""
    return _get("/clashes")


def add_clash(new: NewClash) -> Call[KnownClash]:
    """Say that two products don't work together: from then on no plan brings them together."""
    return _send("POST", "/clashes", new)


def drop_clash(id: str) -> Call[None]:
    """Two products clash no longer."""
    return _send("DELETE", _at("/clashes/{}", id))


def policy(id: str) -> Call[list[InForce]]:
    """What holds for each product on a site, and which rule says so."""
    return _get(_at("/sites/{}/policy", id))


def licences() -> Call[list[LicenceView]]:
    """The licences as they stand, those that end first first; codes are masked."""
    return _get("/licences")


def credentials() -> Call[list[CredentialRow]]:
    """Where each credential is used: by product and site, with the state of each; all masked."""
    return _get("/credentials")


def licence(id: str) -> Call[LicenceView]:
    """One licence as it stands."""
    return _get(_at("/licences/{}", id))


def add_licence(new: NewLicence) -> Call[Licence]:
    """Enter a licence."""
    return _send("POST", "/licences", new)


def change_licence(id: str, change: LicenceChange) -> Call[Licence]:
    """Change what is known of a licence."""
    return _send("PATCH", _at("/licences/{}", id), change)


def drop_licence(id: str) -> Call[None]:
    """Forget a licence that no site holds a seat of."""
    return _send("DELETE", _at("/licences/{}", id))


def seat_site(licence: str, new: NewSeat) -> Call[Seat]:
    """Allot a seat; a copy rides along where that is permitted."""
    return _send("POST", _at("/licences/{}/seats", licence), new)


def unseat_site(licence: str, site: str) -> Call[None]:
    """Take a seat back, with that of the copy that rides along."""
    return _send("DELETE", _at("/licences/{}/seats/{}", licence, site))


def rotate_code(licence: str, code: str, site: str | None = None) -> Call[Licence]:
    """Put a new code in the place of the old one; nothing is entered on a site yet."""
    return _send("PUT", _at("/licences/{}/code", licence), {"code": code, "site": site})


def enter_code(licence: str, site: str | None = None) -> Call[list[EntryResult]]:
    """Enter the code on the sites that hold a seat, through their agents, and read it back."""
    return _send("POST", _at("/licences/{}/entries", licence), site=site)


def forecasts() -> Call[list[Forecast]]:
    """Seats that will be asked for by releases that change the form of licence."""
    return _get("/forecasts")


def findings(snoozed: bool = False) -> Call[list[Finding]]:
    """What wants attention, most urgent first."""
    return _get("/findings", snoozed="true" if snoozed else None)


def snooze_finding(id: str, snooze: SnoozeFinding) -> Call[Finding]:
    """Put a finding aside until a day; dismissed is not solved."""
    return _send("PUT", _at("/findings/{}/snooze", id), snooze)


def wake_finding(id: str) -> Call[Finding]:
    """Bring a snoozed finding back."""
    return _send("DELETE", _at("/findings/{}/snooze", id))


def sites_csv() -> Call[str]:
    """Every site, as CSV."""
    return _get("/sites.csv")


def import_sites(text: str) -> Call[dict[str, Any]]:
    """Register the sites of a CSV, all or none."""
    return Call("POST", "/sites.csv", content=text.encode())


def inventory_cyclonedx(site: str) -> Call[str]:
    """A site's inventory, as CycloneDX."""
    return _get(_at("/sites/{}/inventory.cdx.json", site))


def metrics() -> Call[str]:
    """The fleet in numbers, as OpenMetrics."""
    return _get("/metrics")


def calendar_address() -> Call[dict[str, str]]:
    """Make the address of your calendar; an older one is good no more."""
    return _send("POST", "/calendar-address")


def send_digest() -> Call[dict[str, str]]:
    """Mail the digest now, to whom the settings say."""
    return _send("POST", "/digest")


def hooks() -> Call[list[Hook]]:
    """The web hooks and how they take our news."""
    return _get("/hooks")


def add_hook(new: NewHook) -> Call[Hook]:
    """Register a web hook; the answer holds the key to check our signatures with."""
    return _send("POST", "/hooks", new)


def drop_hook(id: str) -> Call[None]:
    """Tell a web hook no more."""
    return _send("DELETE", _at("/hooks/{}", id))


def deliveries(hook: str) -> Call[list[Delivery]]:
    """What was sent to a web hook, newest first."""
    return _get(_at("/hooks/{}/deliveries", hook))


def accounts() -> Call[list[Account]]:
    """Who may sign in, and whose account is closed."""
    return _get("/accounts")


def add_account(id: str, name: str) -> Call[Account]:
    """Open an account."""
    return _send("POST", "/accounts", {"id": id, "name": name})


def close_account(id: str) -> Call[Account]:
    """Close an account; what it did stays."""
    return _send("DELETE", _at("/accounts/{}", id))


def reopen_account(id: str) -> Call[Account]:
    """Open a closed account again."""
    return _send("POST", _at("/accounts/{}/reopening", id))


def invite_account(id: str) -> Call[Invitation]:
    """A one-time link for somebody who can't sign in yet; it is good for half an hour."""
    return _send("POST", _at("/accounts/{}/invitations", id))


def instance() -> Call[Instance]:
    """This service itself, and whether it drives sites."""
    return _get("/instance")


def take_over(why: str) -> Call[Instance]:
    """Let a restored copy drive the sites."""
    return _send("POST", "/instance/take-over", {"why": why})


def today() -> Call[Today]:
    """What wants attention, what is booked, and how old the facts are."""
    return _get("/today")


def ledger(
    subject: str | None = None,
    limit: int = 100,
    after: int | None = None,
    *,
    client: str | None = None,
    person: str | None = None,
    part: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    words: str = "",
    wrong: bool = False,
) -> Call[list[LedgerLine]]:
    """What was decided and done, newest first; what came before a number with ``after``. ``part``:
    "decisions" of people, or "acts" of the service; ``wrong``: runs that did not end well.
    """
    return _get(
        "/ledger",
        subject=subject,
        limit=limit,
        after=after,
        client=client,
        person=person,
        part=part,
        since=since.isoformat() if since else None,
        until=until.isoformat() if until else None,
        words=words or None,
        wrong=wrong,
    )


def report(client: str, month: str, looks: bool = False) -> Call[ClientReport]:
    """What a client is told of a month, as 2026-11; ``looks``: also what was seen after steps."""
    return _get("/report", client=client, month=month, looks=looks)


def stream_events(after: int | None = None) -> Call[None]:
    """Every change of state, from now on or from after an event; ids let a reader go on."""
    return _get("/events", after=after)


def _typed(call: Callable[..., Call[Any]]) -> Callable[..., Call[Any]]:
    """The call, its answer being of the type that it is annotated with: ``Call[list[Site]]``."""
    answer = str(call.__annotations__["return"]).removeprefix("Call[").removesuffix("]")

    @wraps(call)
    def typed(*args: Any, **named: Any) -> Call[Any]:
        return replace(call(*args, **named), answer=answer)

    return typed


def _every() -> tuple[Callable[..., Call[Any]], ...]:
    own = [item for item in globals().values() if isfunction(item) and item.__module__ == __name__]
    calls = [item for item in own if not item.__name__.startswith("_")]
    for call in calls:
        globals()[call.__name__] = _typed(call)
    return tuple(globals()[call.__name__] for call in calls)


CALLS = _every()
"""Every call, in the order in which they stand here; both libraries are made from it."""
