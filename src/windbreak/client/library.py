"""The client library, and its async twin.

    with Windbreak("http://127.0.0.1:8470", token) as windbreak:
        for site in windbreak.sites():
            print(site.label, site.state, site.text)

Results are the core's own types. Errors are in ``windbreak.client.errors``.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Callable, Iterator, Sequence
from datetime import datetime
from types import TracebackType
from typing import Any, TypeVar

import httpx

from windbreak.client import calls, transport
from windbreak.client.calls import Call
from windbreak.client.errors import Unreachable
from windbreak.core.case import Case
from windbreak.core.chart import Chart
from windbreak.core.explain import Answer, Verdict
from windbreak.core.fleet import (
    Host,
    Inventory,
    LinkCode,
    NewHold,
    NewSite,
    Site,
    SiteChange,
    StandingHold,
    Window,
)
from windbreak.core.licences import (
    EntryResult,
    Forecast,
    Licence,
    LicenceChange,
    LicenceView,
    NewLicence,
    NewSeat,
    Seat,
)
from windbreak.core.outlook import ActRow, Outlook
from windbreak.core.outward import Delivery, Hook, Instance, NewHook
from windbreak.core.overview import Coverage, ProductRow, ProductView
from windbreak.core.passing import Passed
from windbreak.core.policy import InForce, NewRule, Rule
from windbreak.core.tracking import (
    CredentialCheck,
    DecideRepublished,
    Feed,
    FeedChange,
    KnownAdvisory,
    KnownProduct,
    KnownRelease,
    NewFeed,
    NewRelease,
    Package,
    PollResult,
    ProductChange,
    ShelfRight,
)
from windbreak.core.work import (
    Account,
    Booking,
    Event,
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
    SnoozeFinding,
    Today,
    Token,
)

T = TypeVar("T")
_BETWEEN = 0.3


class Windbreak:
    """A service of Windbreak. ``token`` is made by ``windbreak token add`` or the console."""

    def __init__(self, address: str, token: str | None = None) -> None:
        self.address, self.token = address.rstrip("/"), token
        self._http = httpx.Client(timeout=transport.TIMEOUT, trust_env=False)

    def __enter__(self) -> Windbreak:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def do(self, call: Call[T]) -> T:
        """Carry out a call. Raises Unreachable, NotPermitted, Problem."""
        tried = 0
        while True:
            tried += 1
            try:
                request = transport.request_of(call, self.address, self.token)
                return transport.read(call, self._http.request(**request))
            except httpx.HTTPError as error:
                if not transport.may_retry(call, tried):
                    raise transport.unreachable(self.address, error) from error
                time.sleep(_BETWEEN * tried)

    def events(self, after: int | None = None) -> Iterator[Event]:
        """What happens, as it happens, without end. Raises Unreachable when the stream breaks."""
        call = calls.stream_events(after)
        request = transport.request_of(call, self.address, self.token)
        timeout = httpx.Timeout(None, connect=5)
        try:
            with self._http.stream(**request, timeout=timeout) as response:
                if not response.is_success:
                    response.read()
                    transport.read(call, response)
                for line in response.iter_lines():
                    if line.startswith("data:"):
                        yield Event.model_validate(json.loads(line[5:]))
        except httpx.HTTPError as error:
            raise transport.unreachable(self.address, error) from error

    def wait(
        self,
        run: int,
        *,
        timeout: float | None = None,
        heard: Callable[[RunStory], None] = lambda story: None,
    ) -> RunStory:
        """Wait until a run has ended; ``heard`` is told the story whenever it went on.

        ``timeout`` is in seconds. Raises TimeoutError; the run goes on all the same. A service
        that is away for a while is waited for.
        """
        until = None if timeout is None else time.monotonic() + timeout
        last = None
        while True:
            try:
                story = self.run(run)
            except Unreachable:
                if until is None:
                    raise
            else:
                sign = (story.run.last_sign_at, story.run.phase, story.run.step)
                if sign != last:
                    heard(story)
                    last = sign
                if story.run.ended_at is not None:
                    return story
            if until is not None and time.monotonic() > until:
                raise TimeoutError(f"run {run} has not ended in {timeout:.0f} seconds; it goes on")
            time.sleep(_BETWEEN)

    def who_am_i(self) -> Principal:
        return self.do(calls.who_am_i())

    def sign_in(self, link: str) -> Principal:
        return self.do(calls.sign_in(link))

    def set_password(self, password: str) -> None:
        return self.do(calls.set_password(password))

    def make_token(self, label: str) -> Token:
        return self.do(calls.make_token(label))

    def tokens(self) -> list[Token]:
        return self.do(calls.tokens())

    def revoke_token(self, id: str) -> None:
        return self.do(calls.revoke_token(id))

    def hosts(self) -> list[Host]:
        return self.do(calls.hosts())

    def put_host(self, host: Host) -> Host:
        return self.do(calls.put_host(host))

    def sites(
        self,
        client: str | None = None,
        host: str | None = None,
        text: str | None = None,
        state: str | None = None,
        tag: str | None = None,
        runs: str | None = None,
        limit: int | None = None,
        offset: int | None = None,
    ) -> list[SiteSummary]:
        return self.do(calls.sites(client, host, text, state, tag, runs, limit, offset))

    def site(self, id: str) -> SiteView:
        return self.do(calls.site(id))

    def register_site(self, new: NewSite, id: str | None = None) -> Site:
        return self.do(calls.register_site(new, id))

    def change_site(self, id: str, change: SiteChange) -> Site:
        return self.do(calls.change_site(id, change))

    def retire_site(self, id: str, why: str = "") -> Site:
        return self.do(calls.retire_site(id, why))

    def mark_own(self, id: str, product: str, own: bool = True) -> Site:
        return self.do(calls.mark_own(id, product, own))

    def set_windows(self, id: str, windows: list[Window], timezone: str) -> Site:
        return self.do(calls.set_windows(id, windows, timezone))

    def link_line(self, id: str) -> LinkCode:
        return self.do(calls.link_line(id))

    def link_site(self, id: str) -> Site:
        return self.do(calls.link_site(id))

    def unlink_site(self, id: str) -> Site:
        return self.do(calls.unlink_site(id))

    def refresh_site(self, id: str) -> Site:
        return self.do(calls.refresh_site(id))

    def refresh_sites(self) -> list[Site]:
        return self.do(calls.refresh_sites())

    def inventory(self, id: str) -> Inventory:
        return self.do(calls.inventory(id))

    def case(self, id: str) -> Case:
        return self.do(calls.case(id))

    def verdicts(self, id: str, suppose: Sequence[str] = ()) -> Answer:
        return self.do(calls.verdicts(id, suppose))

    def verdict(self, id: str, product: str, suppose: Sequence[str] = ()) -> Verdict:
        return self.do(calls.verdict(id, product, suppose))

    def outlook(self, id: str, suppose: Sequence[str] = ()) -> Outlook:
        return self.do(calls.outlook(id, suppose))

    def acts(self, suppose: Sequence[str] = ()) -> list[ActRow]:
        return self.do(calls.acts(suppose))

    def draft_plan(self, id: str) -> SitePlan:
        return self.do(calls.draft_plan(id))

    def plans(self, id: str) -> list[SitePlan]:
        return self.do(calls.plans(id))

    def plan(self, id: int) -> SitePlan:
        return self.do(calls.plan(id))

    def charts(self, id: int) -> list[Chart]:
        return self.do(calls.charts(id))

    def approve_plan(self, id: int, why: str = "", restore_anyway: bool = False) -> SitePlan:
        return self.do(calls.approve_plan(id, why, restore_anyway))

    def book_plan(self, id: int, at: datetime | None = None) -> Booking:
        return self.do(calls.book_plan(id, at))

    def run_plan(self, id: int) -> Run:
        return self.do(calls.run_plan(id))

    def bookings(self, state: str | None = "waiting") -> list[Booking]:
        return self.do(calls.bookings(state))

    def move_booking(self, id: int, at: datetime) -> Booking:
        return self.do(calls.move_booking(id, at))

    def withdraw_booking(self, id: int) -> Booking:
        return self.do(calls.withdraw_booking(id))

    def rollouts(self) -> list[Rollout]:
        return self.do(calls.rollouts())

    def rollout(self, id: int) -> Rollout:
        return self.do(calls.rollout(id))

    def start_rollout(self, new: NewRollout) -> Rollout:
        return self.do(calls.start_rollout(new))

    def stop_rollout(self, id: int) -> Rollout:
        return self.do(calls.stop_rollout(id))

    def runs(self, site: str | None = None, limit: int = 50) -> list[Run]:
        return self.do(calls.runs(site, limit))

    def run(self, id: int) -> RunStory:
        return self.do(calls.run(id))

    def stop_run(self, id: int) -> Run:
        return self.do(calls.stop_run(id))

    def feeds(self) -> list[Feed]:
        return self.do(calls.feeds())

    def register_feed(self, new: NewFeed) -> Feed:
        return self.do(calls.register_feed(new))

    def change_feed(self, id: str, change: FeedChange) -> Feed:
        return self.do(calls.change_feed(id, change))

    def drop_feed(self, id: str) -> None:
        return self.do(calls.drop_feed(id))

    def poll_feed(self, id: str) -> PollResult:
        return self.do(calls.poll_feed(id))

    def poll_feeds(self) -> list[PollResult]:
        return self.do(calls.poll_feeds())

    def check_feed(self, id: str) -> CredentialCheck:
        return self.do(calls.check_feed(id))

    def replace_credential(self, id: str, credential: str, everywhere: bool = False) -> Feed:
        return self.do(calls.replace_credential(id, credential, everywhere))

    def try_recipe(self, text: str, credential: str | None = None) -> dict[str, Any]:
        return self.do(calls.try_recipe(text, credential))

    def put_recipe(self, name: str, text: str) -> dict[str, Any]:
        return self.do(calls.put_recipe(name, text))

    def products(self) -> list[ProductRow]:
        return self.do(calls.products())

    def product(self, id: str) -> ProductView:
        return self.do(calls.product(id))

    def change_product(self, id: str, change: ProductChange) -> KnownProduct:
        return self.do(calls.change_product(id, change))

    def releases(self, product: str) -> list[KnownRelease]:
        return self.do(calls.releases(product))

    def passed(self, product: str, start: str, end: str) -> Passed:
        return self.do(calls.passed(product, start, end))

    def decide_release(self, product: str, version: str, choice: DecideRepublished) -> KnownRelease:
        return self.do(calls.decide_release(product, version, choice))

    def type_in_release(self, new: NewRelease) -> KnownRelease:
        return self.do(calls.type_in_release(new))

    def advisories(self) -> list[KnownAdvisory]:
        return self.do(calls.advisories())

    def coverage(self) -> Coverage:
        return self.do(calls.coverage())

    def shelf(self) -> list[Package]:
        return self.do(calls.shelf())

    def put_on_shelf(self, archive: bytes, sites: tuple[str, ...] = ()) -> Package:
        return self.do(calls.put_on_shelf(archive, sites))

    def drop_package(self, id: str) -> None:
        return self.do(calls.drop_package(id))

    def give_package(self, id: str, site: str) -> ShelfRight:
        return self.do(calls.give_package(id, site))

    def holds(self) -> list[StandingHold]:
        return self.do(calls.holds())

    def make_hold(self, new: NewHold) -> StandingHold:
        return self.do(calls.make_hold(new))

    def lift_hold(self, id: str) -> None:
        return self.do(calls.lift_hold(id))

    def rules(self) -> list[Rule]:
        return self.do(calls.rules())

    def set_rule(self, new: NewRule) -> Rule:
        return self.do(calls.set_rule(new))

    def drop_rule(self, id: str) -> None:
        self.do(calls.drop_rule(id))

    def policy(self, id: str) -> list[InForce]:
        return self.do(calls.policy(id))

    def licences(self) -> list[LicenceView]:
        return self.do(calls.licences())

    def licence(self, id: str) -> LicenceView:
        return self.do(calls.licence(id))

    def add_licence(self, new: NewLicence) -> Licence:
        return self.do(calls.add_licence(new))

    def change_licence(self, id: str, change: LicenceChange) -> Licence:
        return self.do(calls.change_licence(id, change))

    def drop_licence(self, id: str) -> None:
        return self.do(calls.drop_licence(id))

    def seat_site(self, licence: str, new: NewSeat) -> Seat:
        return self.do(calls.seat_site(licence, new))

    def unseat_site(self, licence: str, site: str) -> None:
        return self.do(calls.unseat_site(licence, site))

    def rotate_code(self, licence: str, code: str, site: str | None = None) -> Licence:
        return self.do(calls.rotate_code(licence, code, site))

    def enter_code(self, licence: str, site: str | None = None) -> list[EntryResult]:
        return self.do(calls.enter_code(licence, site))

    def forecasts(self) -> list[Forecast]:
        return self.do(calls.forecasts())

    def findings(self, snoozed: bool = False) -> list[Finding]:
        return self.do(calls.findings(snoozed))

    def snooze_finding(self, id: str, said: SnoozeFinding) -> Finding:
        return self.do(calls.snooze_finding(id, said))

    def wake_finding(self, id: str) -> Finding:
        return self.do(calls.wake_finding(id))

    def sites_csv(self) -> str:
        return self.do(calls.sites_csv())

    def import_sites(self, text: str) -> dict[str, Any]:
        return self.do(calls.import_sites(text))

    def inventory_cyclonedx(self, site: str) -> str:
        return self.do(calls.inventory_cyclonedx(site))

    def metrics(self) -> str:
        return self.do(calls.metrics())

    def calendar_address(self) -> dict[str, str]:
        return self.do(calls.calendar_address())

    def send_digest(self) -> dict[str, str]:
        return self.do(calls.send_digest())

    def hooks(self) -> list[Hook]:
        return self.do(calls.hooks())

    def add_hook(self, new: NewHook) -> Hook:
        return self.do(calls.add_hook(new))

    def drop_hook(self, id: str) -> None:
        return self.do(calls.drop_hook(id))

    def deliveries(self, hook: str) -> list[Delivery]:
        return self.do(calls.deliveries(hook))

    def accounts(self) -> list[Account]:
        return self.do(calls.accounts())

    def add_account(self, id: str, name: str) -> Account:
        return self.do(calls.add_account(id, name))

    def close_account(self, id: str) -> Account:
        return self.do(calls.close_account(id))

    def instance(self) -> Instance:
        return self.do(calls.instance())

    def take_over(self, why: str) -> Instance:
        return self.do(calls.take_over(why))

    def today(self) -> Today:
        return self.do(calls.today())

    def ledger(self, subject: str | None = None, limit: int = 100) -> list[LedgerEntry]:
        return self.do(calls.ledger(subject, limit))


class AsyncWindbreak:
    """The same for asyncio."""

    def __init__(self, address: str, token: str | None = None) -> None:
        self.address, self.token = address.rstrip("/"), token
        self._http = httpx.AsyncClient(timeout=transport.TIMEOUT, trust_env=False)

    async def __aenter__(self) -> AsyncWindbreak:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._http.aclose()

    async def do(self, call: Call[T]) -> T:
        """Carry out a call. Raises Unreachable, NotPermitted, Problem."""
        tried = 0
        while True:
            tried += 1
            try:
                request = transport.request_of(call, self.address, self.token)
                return transport.read(call, await self._http.request(**request))
            except httpx.HTTPError as error:
                if not transport.may_retry(call, tried):
                    raise transport.unreachable(self.address, error) from error
                await asyncio.sleep(_BETWEEN * tried)

    async def events(self, after: int | None = None) -> AsyncIterator[Event]:
        """What happens, as it happens, without end. Raises Unreachable when the stream breaks."""
        call = calls.stream_events(after)
        request = transport.request_of(call, self.address, self.token)
        timeout = httpx.Timeout(None, connect=5)
        try:
            async with self._http.stream(**request, timeout=timeout) as response:
                if not response.is_success:
                    await response.aread()
                    transport.read(call, response)
                async for line in response.aiter_lines():
                    if line.startswith("data:"):
                        yield Event.model_validate(json.loads(line[5:]))
        except httpx.HTTPError as error:
            raise transport.unreachable(self.address, error) from error

    async def wait(self, run: int, *, timeout: float | None = None) -> RunStory:
        """Wait until a run has ended. Raises TimeoutError; the run goes on all the same."""
        async with asyncio.timeout(timeout):
            while True:
                story = await self.run(run)
                if story.run.ended_at is not None:
                    return story
                await asyncio.sleep(_BETWEEN)

    async def who_am_i(self) -> Principal:
        return await self.do(calls.who_am_i())

    async def sign_in(self, link: str) -> Principal:
        return await self.do(calls.sign_in(link))

    async def set_password(self, password: str) -> None:
        return await self.do(calls.set_password(password))

    async def make_token(self, label: str) -> Token:
        return await self.do(calls.make_token(label))

    async def tokens(self) -> list[Token]:
        return await self.do(calls.tokens())

    async def revoke_token(self, id: str) -> None:
        return await self.do(calls.revoke_token(id))

    async def hosts(self) -> list[Host]:
        return await self.do(calls.hosts())

    async def put_host(self, host: Host) -> Host:
        return await self.do(calls.put_host(host))

    async def sites(
        self,
        client: str | None = None,
        host: str | None = None,
        text: str | None = None,
        state: str | None = None,
        tag: str | None = None,
        runs: str | None = None,
        limit: int | None = None,
        offset: int | None = None,
    ) -> list[SiteSummary]:
        return await self.do(calls.sites(client, host, text, state, tag, runs, limit, offset))

    async def site(self, id: str) -> SiteView:
        return await self.do(calls.site(id))

    async def register_site(self, new: NewSite, id: str | None = None) -> Site:
        return await self.do(calls.register_site(new, id))

    async def change_site(self, id: str, change: SiteChange) -> Site:
        return await self.do(calls.change_site(id, change))

    async def retire_site(self, id: str, why: str = "") -> Site:
        return await self.do(calls.retire_site(id, why))

    async def mark_own(self, id: str, product: str, own: bool = True) -> Site:
        return await self.do(calls.mark_own(id, product, own))

    async def set_windows(self, id: str, windows: list[Window], timezone: str) -> Site:
        return await self.do(calls.set_windows(id, windows, timezone))

    async def link_line(self, id: str) -> LinkCode:
        return await self.do(calls.link_line(id))

    async def link_site(self, id: str) -> Site:
        return await self.do(calls.link_site(id))

    async def unlink_site(self, id: str) -> Site:
        return await self.do(calls.unlink_site(id))

    async def refresh_site(self, id: str) -> Site:
        return await self.do(calls.refresh_site(id))

    async def refresh_sites(self) -> list[Site]:
        return await self.do(calls.refresh_sites())

    async def inventory(self, id: str) -> Inventory:
        return await self.do(calls.inventory(id))

    async def case(self, id: str) -> Case:
        return await self.do(calls.case(id))

    async def verdicts(self, id: str, suppose: Sequence[str] = ()) -> Answer:
        return await self.do(calls.verdicts(id, suppose))

    async def verdict(self, id: str, product: str, suppose: Sequence[str] = ()) -> Verdict:
        return await self.do(calls.verdict(id, product, suppose))

    async def outlook(self, id: str, suppose: Sequence[str] = ()) -> Outlook:
        return await self.do(calls.outlook(id, suppose))

    async def acts(self, suppose: Sequence[str] = ()) -> list[ActRow]:
        return await self.do(calls.acts(suppose))

    async def draft_plan(self, id: str) -> SitePlan:
        return await self.do(calls.draft_plan(id))

    async def plans(self, id: str) -> list[SitePlan]:
        return await self.do(calls.plans(id))

    async def plan(self, id: int) -> SitePlan:
        return await self.do(calls.plan(id))

    async def charts(self, id: int) -> list[Chart]:
        return await self.do(calls.charts(id))

    async def approve_plan(self, id: int, why: str = "", restore_anyway: bool = False) -> SitePlan:
        return await self.do(calls.approve_plan(id, why, restore_anyway))

    async def book_plan(self, id: int, at: datetime | None = None) -> Booking:
        return await self.do(calls.book_plan(id, at))

    async def run_plan(self, id: int) -> Run:
        return await self.do(calls.run_plan(id))

    async def bookings(self, state: str | None = "waiting") -> list[Booking]:
        return await self.do(calls.bookings(state))

    async def move_booking(self, id: int, at: datetime) -> Booking:
        return await self.do(calls.move_booking(id, at))

    async def withdraw_booking(self, id: int) -> Booking:
        return await self.do(calls.withdraw_booking(id))

    async def rollouts(self) -> list[Rollout]:
        return await self.do(calls.rollouts())

    async def rollout(self, id: int) -> Rollout:
        return await self.do(calls.rollout(id))

    async def start_rollout(self, new: NewRollout) -> Rollout:
        return await self.do(calls.start_rollout(new))

    async def stop_rollout(self, id: int) -> Rollout:
        return await self.do(calls.stop_rollout(id))

    async def runs(self, site: str | None = None, limit: int = 50) -> list[Run]:
        return await self.do(calls.runs(site, limit))

    async def run(self, id: int) -> RunStory:
        return await self.do(calls.run(id))

    async def stop_run(self, id: int) -> Run:
        return await self.do(calls.stop_run(id))

    async def feeds(self) -> list[Feed]:
        return await self.do(calls.feeds())

    async def register_feed(self, new: NewFeed) -> Feed:
        return await self.do(calls.register_feed(new))

    async def change_feed(self, id: str, change: FeedChange) -> Feed:
        return await self.do(calls.change_feed(id, change))

    async def drop_feed(self, id: str) -> None:
        return await self.do(calls.drop_feed(id))

    async def poll_feed(self, id: str) -> PollResult:
        return await self.do(calls.poll_feed(id))

    async def poll_feeds(self) -> list[PollResult]:
        return await self.do(calls.poll_feeds())

    async def check_feed(self, id: str) -> CredentialCheck:
        return await self.do(calls.check_feed(id))

    async def replace_credential(self, id: str, credential: str, everywhere: bool = False) -> Feed:
        return await self.do(calls.replace_credential(id, credential, everywhere))

    async def try_recipe(self, text: str, credential: str | None = None) -> dict[str, Any]:
        return await self.do(calls.try_recipe(text, credential))

    async def put_recipe(self, name: str, text: str) -> dict[str, Any]:
        return await self.do(calls.put_recipe(name, text))

    async def products(self) -> list[ProductRow]:
        return await self.do(calls.products())

    async def product(self, id: str) -> ProductView:
        return await self.do(calls.product(id))

    async def change_product(self, id: str, change: ProductChange) -> KnownProduct:
        return await self.do(calls.change_product(id, change))

    async def releases(self, product: str) -> list[KnownRelease]:
        return await self.do(calls.releases(product))

    async def passed(self, product: str, start: str, end: str) -> Passed:
        return await self.do(calls.passed(product, start, end))

    async def decide_release(
        self, product: str, version: str, choice: DecideRepublished
    ) -> KnownRelease:
        return await self.do(calls.decide_release(product, version, choice))

    async def type_in_release(self, new: NewRelease) -> KnownRelease:
        return await self.do(calls.type_in_release(new))

    async def advisories(self) -> list[KnownAdvisory]:
        return await self.do(calls.advisories())

    async def coverage(self) -> Coverage:
        return await self.do(calls.coverage())

    async def shelf(self) -> list[Package]:
        return await self.do(calls.shelf())

    async def put_on_shelf(self, archive: bytes, sites: tuple[str, ...] = ()) -> Package:
        return await self.do(calls.put_on_shelf(archive, sites))

    async def drop_package(self, id: str) -> None:
        return await self.do(calls.drop_package(id))

    async def give_package(self, id: str, site: str) -> ShelfRight:
        return await self.do(calls.give_package(id, site))

    async def holds(self) -> list[StandingHold]:
        return await self.do(calls.holds())

    async def make_hold(self, new: NewHold) -> StandingHold:
        return await self.do(calls.make_hold(new))

    async def lift_hold(self, id: str) -> None:
        return await self.do(calls.lift_hold(id))

    async def rules(self) -> list[Rule]:
        return await self.do(calls.rules())

    async def set_rule(self, new: NewRule) -> Rule:
        return await self.do(calls.set_rule(new))

    async def drop_rule(self, id: str) -> None:
        await self.do(calls.drop_rule(id))

    async def policy(self, id: str) -> list[InForce]:
        return await self.do(calls.policy(id))

    async def licences(self) -> list[LicenceView]:
        return await self.do(calls.licences())

    async def licence(self, id: str) -> LicenceView:
        return await self.do(calls.licence(id))

    async def add_licence(self, new: NewLicence) -> Licence:
        return await self.do(calls.add_licence(new))

    async def change_licence(self, id: str, change: LicenceChange) -> Licence:
        return await self.do(calls.change_licence(id, change))

    async def drop_licence(self, id: str) -> None:
        return await self.do(calls.drop_licence(id))

    async def seat_site(self, licence: str, new: NewSeat) -> Seat:
        return await self.do(calls.seat_site(licence, new))

    async def unseat_site(self, licence: str, site: str) -> None:
        return await self.do(calls.unseat_site(licence, site))

    async def rotate_code(self, licence: str, code: str, site: str | None = None) -> Licence:
        return await self.do(calls.rotate_code(licence, code, site))

    async def enter_code(self, licence: str, site: str | None = None) -> list[EntryResult]:
        return await self.do(calls.enter_code(licence, site))

    async def forecasts(self) -> list[Forecast]:
        return await self.do(calls.forecasts())

    async def findings(self, snoozed: bool = False) -> list[Finding]:
        return await self.do(calls.findings(snoozed))

    async def snooze_finding(self, id: str, said: SnoozeFinding) -> Finding:
        return await self.do(calls.snooze_finding(id, said))

    async def wake_finding(self, id: str) -> Finding:
        return await self.do(calls.wake_finding(id))

    async def sites_csv(self) -> str:
        return await self.do(calls.sites_csv())

    async def import_sites(self, text: str) -> dict[str, Any]:
        return await self.do(calls.import_sites(text))

    async def inventory_cyclonedx(self, site: str) -> str:
        return await self.do(calls.inventory_cyclonedx(site))

    async def metrics(self) -> str:
        return await self.do(calls.metrics())

    async def calendar_address(self) -> dict[str, str]:
        return await self.do(calls.calendar_address())

    async def send_digest(self) -> dict[str, str]:
        return await self.do(calls.send_digest())

    async def hooks(self) -> list[Hook]:
        return await self.do(calls.hooks())

    async def add_hook(self, new: NewHook) -> Hook:
        return await self.do(calls.add_hook(new))

    async def drop_hook(self, id: str) -> None:
        return await self.do(calls.drop_hook(id))

    async def deliveries(self, hook: str) -> list[Delivery]:
        return await self.do(calls.deliveries(hook))

    async def accounts(self) -> list[Account]:
        return await self.do(calls.accounts())

    async def add_account(self, id: str, name: str) -> Account:
        return await self.do(calls.add_account(id, name))

    async def close_account(self, id: str) -> Account:
        return await self.do(calls.close_account(id))

    async def instance(self) -> Instance:
        return await self.do(calls.instance())

    async def take_over(self, why: str) -> Instance:
        return await self.do(calls.take_over(why))

    async def today(self) -> Today:
        return await self.do(calls.today())

    async def ledger(self, subject: str | None = None, limit: int = 100) -> list[LedgerEntry]:
        return await self.do(calls.ledger(subject, limit))
