"""Every call of the service as a value: what is asked, and how its answer is read.

The sync and the async client share these, and differ only in how they carry one out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from windbreak.core.case.reading import case_from
from windbreak.core.case.situation import Case
from windbreak.core.explanation.passing import Passed
from windbreak.core.values.accounts import Account, Principal, Token
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.bookings import Booking, NewRollout, Rollout
from windbreak.core.values.feeds import CredentialCheck, Feed, FeedChange, NewFeed, PollResult
from windbreak.core.values.findings import Finding, SnoozeFinding
from windbreak.core.values.holds import NewHold, StandingHold
from windbreak.core.values.hooks import Delivery, Hook, Instance, NewHook
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.ledger import LedgerEntry
from windbreak.core.values.licences import Licence, LicenceChange, NewLicence, NewSeat, Seat
from windbreak.core.values.packages import Package, ShelfRight
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.policy import InForce, NewRule, Rule
from windbreak.core.values.products import KnownProduct, ProductChange
from windbreak.core.values.releases import DecideRepublished, KnownRelease, NewRelease
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Host, LinkCode, NewSite, Site, SiteChange, Window
from windbreak.core.values.ties import KnownClash, KnownLockstep, NewClash, NewLockstep
from windbreak.core.values.verdicts import Answer, Verdict
from windbreak.documents.charts import Chart
from windbreak.documents.licences import EntryResult, Forecast, LicenceView
from windbreak.documents.outlook import ActRow, Outlook
from windbreak.documents.products import Coverage, ProductRow, ProductView
from windbreak.documents.runs import RunStory
from windbreak.documents.sites import SiteSummary, SiteView
from windbreak.documents.today import Today

T = TypeVar("T")


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request and the type of its answer; ``answer`` None where nothing is answered."""

    method: str
    path: str
    answer: Any
    params: Mapping[str, str | list[str]] = field(default_factory=dict)
    body: Any = None
    content: bytes | None = None

    def read(self, content: bytes) -> T:
        if self.answer is None:
            return None  # type: ignore[return-value]
        if self.answer is str:
            return content.decode()  # type: ignore[return-value]
        if self.answer is Case:
            return case_from(TypeAdapter(dict[str, Any]).validate_json(content))  # type: ignore[return-value]
        return TypeAdapter(self.answer).validate_json(content)  # type: ignore[no-any-return]


def _get(path: str, answer: Any, **params: object) -> Call[Any]:
    return Call("GET", path, answer, {k: str(v) for k, v in params.items() if v is not None})


def _supposing(path: str, answer: Any, suppose: Sequence[str]) -> Call[Any]:
    return Call("GET", path, answer, {"if": list(suppose)})


def _send(method: str, path: str, answer: Any, body: object = None, **params: object) -> Call[Any]:
    sent = _plain(body) if isinstance(body, BaseModel) else body
    given = {k: str(v) for k, v in params.items() if v is not None}
    return Call(method, path, answer, given, sent)


def _plain(body: BaseModel) -> Any:
    """A value as JSON; a secret goes out as it is."""
    said = body.model_dump(mode="json", by_alias=True)
    for name in type(body).model_fields:
        value = getattr(body, name)
        if hasattr(value, "get_secret_value"):
            said[name] = value.get_secret_value()
    return said


def who_am_i() -> Call[Principal]:
    return _get("/session", Principal)


def sign_in(link: str) -> Call[Principal]:
    return _send("POST", "/session", Principal, {"link": link})


def set_password(password: str) -> Call[None]:
    return _send("PUT", "/session/password", None, {"password": password})


def make_token(label: str) -> Call[Token]:
    return _send("POST", "/tokens", Token, {"label": label})


def tokens() -> Call[list[Token]]:
    return _get("/tokens", list[Token])


def revoke_token(id: str) -> Call[None]:
    return _send("DELETE", f"/tokens/{id}", None)


def hosts() -> Call[list[Host]]:
    return _get("/hosts", list[Host])


def put_host(host: Host) -> Call[Host]:
    return _send("PUT", f"/hosts/{host.id}", Host, host)


def sites(
    client: str | None = None,
    host: str | None = None,
    text: str | None = None,
    state: str | None = None,
    tag: str | None = None,
    runs: str | None = None,
    limit: int | None = None,
    offset: int | None = None,
) -> Call[list[SiteSummary]]:
    return _get(
        "/sites",
        list[SiteSummary],
        client=client,
        host=host,
        text=text,
        state=state,
        tag=tag,
        runs=runs,
        limit=limit,
        offset=offset,
    )


def site(id: str) -> Call[SiteView]:
    return _get(f"/sites/{id}", SiteView)


def register_site(new: NewSite, id: str | None = None) -> Call[Site]:
    return _send("POST", "/sites", Site, new, id=id)


def change_site(id: str, change: SiteChange) -> Call[Site]:
    return _send("PATCH", f"/sites/{id}", Site, change)


def retire_site(id: str, why: str = "") -> Call[Site]:
    return _send("POST", f"/sites/{id}/retirement", Site, {"why": why})


def mark_own(id: str, product: str, own: bool = True) -> Call[Site]:
    return _send("PUT" if own else "DELETE", f"/sites/{id}/own/{product}", Site)


def set_windows(id: str, windows: list[Window], timezone: str) -> Call[Site]:
    said = {"windows": [_plain(w) for w in windows], "timezone": timezone}
    return _send("PUT", f"/sites/{id}/windows", Site, said)


def link_line(id: str) -> Call[LinkCode]:
    return _send("POST", f"/sites/{id}/link-line", LinkCode)


def link_site(id: str) -> Call[Site]:
    return _send("POST", f"/sites/{id}/link", Site)


def unlink_site(id: str) -> Call[Site]:
    return _send("DELETE", f"/sites/{id}/link", Site)


def refresh_site(id: str) -> Call[Site]:
    return _send("POST", f"/sites/{id}/refresh", Site)


def refresh_sites() -> Call[list[Site]]:
    return _send("POST", "/sites/refresh", list[Site])


def inventory(id: str) -> Call[Inventory]:
    return _get(f"/sites/{id}/inventory", Inventory)


def case(id: str) -> Call[Case]:
    return _get(f"/sites/{id}/case", Case)


def verdicts(id: str, suppose: Sequence[str] = ()) -> Call[Answer]:
    return _supposing(f"/sites/{id}/verdicts", Answer, suppose)


def verdict(id: str, product: str, suppose: Sequence[str] = ()) -> Call[Verdict]:
    return _supposing(f"/sites/{id}/verdicts/{product}", Verdict, suppose)


def outlook(id: str, suppose: Sequence[str] = ()) -> Call[Outlook]:
    return _supposing(f"/sites/{id}/outlook", Outlook, suppose)


def acts(suppose: Sequence[str] = ()) -> Call[list[ActRow]]:
    return _supposing("/acts", list[ActRow], suppose)


def draft_plan(id: str) -> Call[SitePlan]:
    return _send("POST", f"/sites/{id}/plans", SitePlan)


def plans(id: str) -> Call[list[SitePlan]]:
    return _get(f"/sites/{id}/plans", list[SitePlan])


def plan(id: int) -> Call[SitePlan]:
    return _get(f"/plans/{id}", SitePlan)


def charts(id: int) -> Call[list[Chart]]:
    return _get(f"/plans/{id}/charts", list[Chart])


def approve_plan(id: int, why: str = "", restore_anyway: bool = False) -> Call[SitePlan]:
    said = ApprovePlan(why=why, restore_anyway=restore_anyway)
    return _send("POST", f"/plans/{id}/approval", SitePlan, said)


def book_plan(id: int, at: datetime | None = None) -> Call[Booking]:
    said = {"at": at.isoformat() if at else None}
    return _send("POST", f"/plans/{id}/bookings", Booking, said)


def run_plan(id: int) -> Call[Run]:
    return _send("POST", f"/plans/{id}/runs", Run)


def bookings(state: str | None = "waiting") -> Call[list[Booking]]:
    return _get("/bookings", list[Booking], state=state)


def move_booking(id: int, at: datetime) -> Call[Booking]:
    return _send("PUT", f"/bookings/{id}", Booking, {"at": at.isoformat()})


def withdraw_booking(id: int) -> Call[Booking]:
    return _send("DELETE", f"/bookings/{id}", Booking)


def rollouts() -> Call[list[Rollout]]:
    return _get("/rollouts", list[Rollout])


def rollout(id: int) -> Call[Rollout]:
    return _get(f"/rollouts/{id}", Rollout)


def start_rollout(new: NewRollout) -> Call[Rollout]:
    return _send("POST", "/rollouts", Rollout, new)


def stop_rollout(id: int) -> Call[Rollout]:
    return _send("POST", f"/rollouts/{id}/stop", Rollout)


def runs(site: str | None = None, limit: int = 50) -> Call[list[Run]]:
    return _get("/runs", list[Run], site=site, limit=limit)


def run(id: int) -> Call[RunStory]:
    return _get(f"/runs/{id}", RunStory)


def stop_run(id: int) -> Call[Run]:
    return _send("POST", f"/runs/{id}/stop", Run)


def feeds() -> Call[list[Feed]]:
    return _get("/feeds", list[Feed])


def register_feed(new: NewFeed) -> Call[Feed]:
    return _send("POST", "/feeds", Feed, new)


def change_feed(id: str, change: FeedChange) -> Call[Feed]:
    return _send("PATCH", f"/feeds/{id}", Feed, change)


def drop_feed(id: str) -> Call[None]:
    return _send("DELETE", f"/feeds/{id}", None)


def poll_feed(id: str) -> Call[PollResult]:
    return _send("POST", f"/feeds/{id}/poll", PollResult)


def poll_feeds() -> Call[list[PollResult]]:
    return _send("POST", "/feeds/poll", list[PollResult])


def check_feed(id: str) -> Call[CredentialCheck]:
    return _send("POST", f"/feeds/{id}/check", CredentialCheck)


def replace_credential(id: str, credential: str, everywhere: bool = False) -> Call[Feed]:
    said = {"credential": credential}
    wide = "true" if everywhere else None
    return _send("PUT", f"/feeds/{id}/credential", Feed, said, everywhere=wide)


def try_recipe(text: str, credential: str | None = None) -> Call[dict[str, Any]]:
    said = {"text": text, "credential": credential}
    return _send("POST", "/recipes/try", dict[str, Any], said)


def put_recipe(name: str, text: str) -> Call[dict[str, Any]]:
    return _send("PUT", f"/recipes/{name}", dict[str, Any], {"text": text})


def products() -> Call[list[ProductRow]]:
    return _get("/products", list[ProductRow])


def product(id: str) -> Call[ProductView]:
    return _get(f"/products/{id}", ProductView)


def change_product(id: str, change: ProductChange) -> Call[KnownProduct]:
    return _send("PATCH", f"/products/{id}", KnownProduct, change)


def releases(product: str) -> Call[list[KnownRelease]]:
    return _get(f"/products/{product}/releases", list[KnownRelease])


def passed(product: str, start: str, end: str) -> Call[Passed]:
    return _get(f"/products/{product}/passed", Passed, start=start, end=end)


def decide_release(product: str, version: str, choice: DecideRepublished) -> Call[KnownRelease]:
    path = f"/products/{product}/releases/{version}/decision"
    return _send("POST", path, KnownRelease, choice)


def type_in_release(new: NewRelease) -> Call[KnownRelease]:
    return _send("POST", "/releases", KnownRelease, new)


def advisories() -> Call[list[KnownAdvisory]]:
    return _get("/advisories", list[KnownAdvisory])


def coverage() -> Call[Coverage]:
    return _get("/coverage", Coverage)


def shelf() -> Call[list[Package]]:
    return _get("/shelf", list[Package])


def put_on_shelf(archive: bytes, sites: tuple[str, ...] = ()) -> Call[Package]:
    return Call("POST", "/shelf", Package, {"site": list(sites)}, content=archive)


def drop_package(id: str) -> Call[None]:
    return _send("DELETE", f"/shelf/{id}", None)


def give_package(id: str, site: str) -> Call[ShelfRight]:
    return _send("POST", f"/shelf/{id}/rights", ShelfRight, {"site": site})


def holds() -> Call[list[StandingHold]]:
    return _get("/holds", list[StandingHold])


def make_hold(new: NewHold) -> Call[StandingHold]:
    return _send("POST", "/holds", StandingHold, new)


def lift_hold(id: str) -> Call[None]:
    return _send("DELETE", f"/holds/{id}", None)


def rules() -> Call[list[Rule]]:
    return _get("/rules", list[Rule])


def set_rule(new: NewRule) -> Call[Rule]:
    return _send("POST", "/rules", Rule, new)


def drop_rule(id: str) -> Call[None]:
    return _send("DELETE", f"/rules/{id}", None)


def locksteps() -> Call[list[KnownLockstep]]:
    return _get("/lockstep", list[KnownLockstep])


def set_lockstep(new: NewLockstep) -> Call[KnownLockstep]:
    return _send("POST", "/lockstep", KnownLockstep, new)


def drop_lockstep(id: str) -> Call[None]:
    return _send("DELETE", f"/lockstep/{id}", None)


def clashes() -> Call[list[KnownClash]]:
    return _get("/clashes", list[KnownClash])


def add_clash(new: NewClash) -> Call[KnownClash]:
    return _send("POST", "/clashes", KnownClash, new)


def drop_clash(id: str) -> Call[None]:
    return _send("DELETE", f"/clashes/{id}", None)


def policy(id: str) -> Call[list[InForce]]:
    return _get(f"/sites/{id}/policy", list[InForce])


def licences() -> Call[list[LicenceView]]:
    return _get("/licences", list[LicenceView])


def licence(id: str) -> Call[LicenceView]:
    return _get(f"/licences/{id}", LicenceView)


def add_licence(new: NewLicence) -> Call[Licence]:
    return _send("POST", "/licences", Licence, new)


def change_licence(id: str, change: LicenceChange) -> Call[Licence]:
    return _send("PATCH", f"/licences/{id}", Licence, change)


def drop_licence(id: str) -> Call[None]:
    return _send("DELETE", f"/licences/{id}", None)


def seat_site(licence: str, new: NewSeat) -> Call[Seat]:
    return _send("POST", f"/licences/{licence}/seats", Seat, new)


def unseat_site(licence: str, site: str) -> Call[None]:
    return _send("DELETE", f"/licences/{licence}/seats/{site}", None)


def rotate_code(licence: str, code: str, site: str | None = None) -> Call[Licence]:
    return _send("PUT", f"/licences/{licence}/code", Licence, {"code": code, "site": site})


def enter_code(licence: str, site: str | None = None) -> Call[list[EntryResult]]:
    return _send("POST", f"/licences/{licence}/entries", list[EntryResult], site=site)


def forecasts() -> Call[list[Forecast]]:
    return _get("/forecasts", list[Forecast])


def findings(snoozed: bool = False) -> Call[list[Finding]]:
    return _get("/findings", list[Finding], snoozed="true" if snoozed else None)


def snooze_finding(id: str, said: SnoozeFinding) -> Call[Finding]:
    return _send("PUT", f"/findings/{quote(id)}/snooze", Finding, said)


def wake_finding(id: str) -> Call[Finding]:
    return _send("DELETE", f"/findings/{quote(id)}/snooze", Finding)


def sites_csv() -> Call[str]:
    return _get("/sites.csv", str)


def import_sites(text: str) -> Call[dict[str, Any]]:
    return Call("POST", "/sites.csv", dict[str, Any], content=text.encode())


def inventory_cyclonedx(site: str) -> Call[str]:
    return _get(f"/sites/{site}/inventory.cdx.json", str)


def metrics() -> Call[str]:
    return _get("/metrics", str)


def calendar_address() -> Call[dict[str, str]]:
    return _send("POST", "/calendar-address", dict[str, str])


def send_digest() -> Call[dict[str, str]]:
    return _send("POST", "/digest", dict[str, str])


def hooks() -> Call[list[Hook]]:
    return _get("/hooks", list[Hook])


def add_hook(new: NewHook) -> Call[Hook]:
    return _send("POST", "/hooks", Hook, new)


def drop_hook(id: str) -> Call[None]:
    return _send("DELETE", f"/hooks/{id}", None)


def deliveries(hook: str) -> Call[list[Delivery]]:
    return _get(f"/hooks/{hook}/deliveries", list[Delivery])


def accounts() -> Call[list[Account]]:
    return _get("/accounts", list[Account])


def add_account(id: str, name: str) -> Call[Account]:
    return _send("POST", "/accounts", Account, {"id": id, "name": name})


def close_account(id: str) -> Call[Account]:
    return _send("DELETE", f"/accounts/{id}", Account)


def instance() -> Call[Instance]:
    return _get("/instance", Instance)


def take_over(why: str) -> Call[Instance]:
    return _send("POST", "/instance/take-over", Instance, {"why": why})


def today() -> Call[Today]:
    return _get("/today", Today)


def ledger(subject: str | None = None, limit: int = 100) -> Call[list[LedgerEntry]]:
    return _get("/ledger", list[LedgerEntry], subject=subject, limit=limit)


def stream_events(after: int | None = None) -> Call[None]:
    return _get("/events", None, after=after)
