"""Every call of the service as a value: what is asked, and how its answer is read.

The sync and the async client share these, and differ only in how they carry one out.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Generic, TypeVar

from pydantic import BaseModel, TypeAdapter

from windbreak.core.case import Case, case_from
from windbreak.core.explain import Answer, Verdict
from windbreak.core.fleet import (
    Host,
    Inventory,
    LinkCode,
    NewHold,
    NewLicence,
    NewSite,
    Site,
    SiteLicence,
    StandingHold,
    Window,
)
from windbreak.core.tracking import (
    CredentialCheck,
    Feed,
    KnownProduct,
    KnownRelease,
    NewFeed,
    Package,
    PollResult,
    ProductChange,
)
from windbreak.core.work import (
    ApprovePlan,
    Booking,
    Finding,
    LedgerEntry,
    NewRollout,
    Principal,
    Rollout,
    Run,
    RunStory,
    SitePlan,
    SiteSummary,
    SiteView,
    Today,
    Token,
)

T = TypeVar("T")


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request and the type of its answer; ``answer`` None where nothing is answered."""

    method: str
    path: str
    answer: Any
    params: dict[str, str] = field(default_factory=dict)
    body: Any = None
    content: bytes | None = None

    def read(self, content: bytes) -> T:
        if self.answer is None:
            return None  # type: ignore[return-value]
        if self.answer is Case:
            return case_from(TypeAdapter(dict[str, Any]).validate_json(content))  # type: ignore[return-value]
        return TypeAdapter(self.answer).validate_json(content)  # type: ignore[no-any-return]


def _get(path: str, answer: Any, **params: object) -> Call[Any]:
    return Call("GET", path, answer, {k: str(v) for k, v in params.items() if v is not None})


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
    client: str | None = None, host: str | None = None, text: str | None = None
) -> Call[list[SiteSummary]]:
    return _get("/sites", list[SiteSummary], client=client, host=host, text=text)


def site(id: str) -> Call[SiteView]:
    return _get(f"/sites/{id}", SiteView)


def register_site(new: NewSite, id: str | None = None) -> Call[Site]:
    return _send("POST", "/sites", Site, new, id=id)


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


def verdicts(id: str) -> Call[Answer]:
    return _get(f"/sites/{id}/verdicts", Answer)


def verdict(id: str, product: str) -> Call[Verdict]:
    return _get(f"/sites/{id}/verdicts/{product}", Verdict)


def draft_plan(id: str) -> Call[SitePlan]:
    return _send("POST", f"/sites/{id}/plans", SitePlan)


def plans(id: str) -> Call[list[SitePlan]]:
    return _get(f"/sites/{id}/plans", list[SitePlan])


def plan(id: int) -> Call[SitePlan]:
    return _get(f"/plans/{id}", SitePlan)


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


def poll_feed(id: str) -> Call[PollResult]:
    return _send("POST", f"/feeds/{id}/poll", PollResult)


def check_feed(id: str) -> Call[CredentialCheck]:
    return _send("POST", f"/feeds/{id}/check", CredentialCheck)


def replace_credential(id: str, credential: str) -> Call[Feed]:
    return _send("PUT", f"/feeds/{id}/credential", Feed, {"credential": credential})


def products() -> Call[list[KnownProduct]]:
    return _get("/products", list[KnownProduct])


def product(id: str) -> Call[KnownProduct]:
    return _get(f"/products/{id}", KnownProduct)


def change_product(id: str, change: ProductChange) -> Call[KnownProduct]:
    return _send("PATCH", f"/products/{id}", KnownProduct, change)


def releases(product: str) -> Call[list[KnownRelease]]:
    return _get(f"/products/{product}/releases", list[KnownRelease])


def shelf() -> Call[list[Package]]:
    return _get("/shelf", list[Package])


def put_on_shelf(archive: bytes) -> Call[Package]:
    return Call("POST", "/shelf", Package, content=archive)


def holds() -> Call[list[StandingHold]]:
    return _get("/holds", list[StandingHold])


def make_hold(new: NewHold) -> Call[StandingHold]:
    return _send("POST", "/holds", StandingHold, new)


def lift_hold(id: str) -> Call[None]:
    return _send("DELETE", f"/holds/{id}", None)


def licences() -> Call[list[SiteLicence]]:
    return _get("/licences", list[SiteLicence])


def add_licence(new: NewLicence) -> Call[SiteLicence]:
    return _send("POST", "/licences", SiteLicence, new)


def drop_licence(id: str) -> Call[None]:
    return _send("DELETE", f"/licences/{id}", None)


def findings() -> Call[list[Finding]]:
    return _get("/findings", list[Finding])


def today() -> Call[Today]:
    return _get("/today", Today)


def ledger(subject: str | None = None, limit: int = 100) -> Call[list[LedgerEntry]]:
    return _get("/ledger", list[LedgerEntry], subject=subject, limit=limit)


def stream_events(after: int | None = None) -> Call[None]:
    return _get("/events", None, after=after)
