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
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from functools import wraps
from inspect import Parameter, signature
from types import TracebackType
from typing import Concatenate, ParamSpec, TypeVar

import httpx

from windbreak.client import calls, transport
from windbreak.client.calls import Call
from windbreak.client.errors import Unreachable
from windbreak.core.values.ledger import Event
from windbreak.documents.runs import RunStory

T = TypeVar("T")
P = ParamSpec("P")
M = TypeVar("M", bound=Callable[..., object])
_BETWEEN = 0.3


def _does(call: Callable[P, Call[T]]) -> Callable[Concatenate[Windbreak, P], T]:
    """A method that carries out a call."""

    @wraps(call)
    def method(self: Windbreak, /, *args: P.args, **named: P.kwargs) -> T:
        return self.do(call(*args, **named))

    return _as_method(method, call)


def _awaits(
    call: Callable[P, Call[T]],
) -> Callable[Concatenate[AsyncWindbreak, P], Awaitable[T]]:
    """The same, to be awaited."""

    @wraps(call)
    async def method(self: AsyncWindbreak, /, *args: P.args, **named: P.kwargs) -> T:
        return await self.do(call(*args, **named))

    return _as_method(method, call)


def _as_method(method: M, call: Callable[..., object]) -> M:
    """The method with the call's signature after itself, as ``help`` and editors show it."""
    own = signature(call)
    itself = Parameter("self", Parameter.POSITIONAL_ONLY)
    method.__dict__["__signature__"] = own.replace(parameters=[itself, *own.parameters.values()])
    return method


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

    # Each call of the service, in the order of client/calls.py
    who_am_i = _does(calls.who_am_i)
    sign_in = _does(calls.sign_in)
    set_password = _does(calls.set_password)
    make_token = _does(calls.make_token)
    tokens = _does(calls.tokens)
    revoke_token = _does(calls.revoke_token)
    hosts = _does(calls.hosts)
    put_host = _does(calls.put_host)
    sites = _does(calls.sites)
    site = _does(calls.site)
    register_site = _does(calls.register_site)
    change_site = _does(calls.change_site)
    retire_site = _does(calls.retire_site)
    mark_own = _does(calls.mark_own)
    set_windows = _does(calls.set_windows)
    link_line = _does(calls.link_line)
    link_site = _does(calls.link_site)
    unlink_site = _does(calls.unlink_site)
    refresh_site = _does(calls.refresh_site)
    refresh_sites = _does(calls.refresh_sites)
    inventory = _does(calls.inventory)
    case = _does(calls.case)
    verdicts = _does(calls.verdicts)
    verdict = _does(calls.verdict)
    outlook = _does(calls.outlook)
    acts = _does(calls.acts)
    draft_plan = _does(calls.draft_plan)
    plans = _does(calls.plans)
    plan = _does(calls.plan)
    charts = _does(calls.charts)
    approve_plan = _does(calls.approve_plan)
    book_plan = _does(calls.book_plan)
    run_plan = _does(calls.run_plan)
    bookings = _does(calls.bookings)
    move_booking = _does(calls.move_booking)
    withdraw_booking = _does(calls.withdraw_booking)
    rollouts = _does(calls.rollouts)
    rollout = _does(calls.rollout)
    start_rollout = _does(calls.start_rollout)
    stop_rollout = _does(calls.stop_rollout)
    runs = _does(calls.runs)
    run = _does(calls.run)
    stop_run = _does(calls.stop_run)
    feeds = _does(calls.feeds)
    register_feed = _does(calls.register_feed)
    change_feed = _does(calls.change_feed)
    drop_feed = _does(calls.drop_feed)
    poll_feed = _does(calls.poll_feed)
    poll_feeds = _does(calls.poll_feeds)
    check_feed = _does(calls.check_feed)
    replace_credential = _does(calls.replace_credential)
    try_recipe = _does(calls.try_recipe)
    put_recipe = _does(calls.put_recipe)
    products = _does(calls.products)
    product = _does(calls.product)
    change_product = _does(calls.change_product)
    releases = _does(calls.releases)
    passed = _does(calls.passed)
    decide_release = _does(calls.decide_release)
    type_in_release = _does(calls.type_in_release)
    advisories = _does(calls.advisories)
    coverage = _does(calls.coverage)
    shelf = _does(calls.shelf)
    put_on_shelf = _does(calls.put_on_shelf)
    drop_package = _does(calls.drop_package)
    give_package = _does(calls.give_package)
    holds = _does(calls.holds)
    make_hold = _does(calls.make_hold)
    lift_hold = _does(calls.lift_hold)
    rules = _does(calls.rules)
    set_rule = _does(calls.set_rule)
    drop_rule = _does(calls.drop_rule)
    locksteps = _does(calls.locksteps)
    set_lockstep = _does(calls.set_lockstep)
    drop_lockstep = _does(calls.drop_lockstep)
    clashes = _does(calls.clashes)
    add_clash = _does(calls.add_clash)
    drop_clash = _does(calls.drop_clash)
    policy = _does(calls.policy)
    licences = _does(calls.licences)
    licence = _does(calls.licence)
    add_licence = _does(calls.add_licence)
    change_licence = _does(calls.change_licence)
    drop_licence = _does(calls.drop_licence)
    seat_site = _does(calls.seat_site)
    unseat_site = _does(calls.unseat_site)
    rotate_code = _does(calls.rotate_code)
    enter_code = _does(calls.enter_code)
    forecasts = _does(calls.forecasts)
    findings = _does(calls.findings)
    snooze_finding = _does(calls.snooze_finding)
    wake_finding = _does(calls.wake_finding)
    sites_csv = _does(calls.sites_csv)
    import_sites = _does(calls.import_sites)
    inventory_cyclonedx = _does(calls.inventory_cyclonedx)
    metrics = _does(calls.metrics)
    calendar_address = _does(calls.calendar_address)
    send_digest = _does(calls.send_digest)
    hooks = _does(calls.hooks)
    add_hook = _does(calls.add_hook)
    drop_hook = _does(calls.drop_hook)
    deliveries = _does(calls.deliveries)
    accounts = _does(calls.accounts)
    add_account = _does(calls.add_account)
    close_account = _does(calls.close_account)
    instance = _does(calls.instance)
    take_over = _does(calls.take_over)
    today = _does(calls.today)
    ledger = _does(calls.ledger)


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

    # Each call of the service, in the order of client/calls.py
    who_am_i = _awaits(calls.who_am_i)
    sign_in = _awaits(calls.sign_in)
    set_password = _awaits(calls.set_password)
    make_token = _awaits(calls.make_token)
    tokens = _awaits(calls.tokens)
    revoke_token = _awaits(calls.revoke_token)
    hosts = _awaits(calls.hosts)
    put_host = _awaits(calls.put_host)
    sites = _awaits(calls.sites)
    site = _awaits(calls.site)
    register_site = _awaits(calls.register_site)
    change_site = _awaits(calls.change_site)
    retire_site = _awaits(calls.retire_site)
    mark_own = _awaits(calls.mark_own)
    set_windows = _awaits(calls.set_windows)
    link_line = _awaits(calls.link_line)
    link_site = _awaits(calls.link_site)
    unlink_site = _awaits(calls.unlink_site)
    refresh_site = _awaits(calls.refresh_site)
    refresh_sites = _awaits(calls.refresh_sites)
    inventory = _awaits(calls.inventory)
    case = _awaits(calls.case)
    verdicts = _awaits(calls.verdicts)
    verdict = _awaits(calls.verdict)
    outlook = _awaits(calls.outlook)
    acts = _awaits(calls.acts)
    draft_plan = _awaits(calls.draft_plan)
    plans = _awaits(calls.plans)
    plan = _awaits(calls.plan)
    charts = _awaits(calls.charts)
    approve_plan = _awaits(calls.approve_plan)
    book_plan = _awaits(calls.book_plan)
    run_plan = _awaits(calls.run_plan)
    bookings = _awaits(calls.bookings)
    move_booking = _awaits(calls.move_booking)
    withdraw_booking = _awaits(calls.withdraw_booking)
    rollouts = _awaits(calls.rollouts)
    rollout = _awaits(calls.rollout)
    start_rollout = _awaits(calls.start_rollout)
    stop_rollout = _awaits(calls.stop_rollout)
    runs = _awaits(calls.runs)
    run = _awaits(calls.run)
    stop_run = _awaits(calls.stop_run)
    feeds = _awaits(calls.feeds)
    register_feed = _awaits(calls.register_feed)
    change_feed = _awaits(calls.change_feed)
    drop_feed = _awaits(calls.drop_feed)
    poll_feed = _awaits(calls.poll_feed)
    poll_feeds = _awaits(calls.poll_feeds)
    check_feed = _awaits(calls.check_feed)
    replace_credential = _awaits(calls.replace_credential)
    try_recipe = _awaits(calls.try_recipe)
    put_recipe = _awaits(calls.put_recipe)
    products = _awaits(calls.products)
    product = _awaits(calls.product)
    change_product = _awaits(calls.change_product)
    releases = _awaits(calls.releases)
    passed = _awaits(calls.passed)
    decide_release = _awaits(calls.decide_release)
    type_in_release = _awaits(calls.type_in_release)
    advisories = _awaits(calls.advisories)
    coverage = _awaits(calls.coverage)
    shelf = _awaits(calls.shelf)
    put_on_shelf = _awaits(calls.put_on_shelf)
    drop_package = _awaits(calls.drop_package)
    give_package = _awaits(calls.give_package)
    holds = _awaits(calls.holds)
    make_hold = _awaits(calls.make_hold)
    lift_hold = _awaits(calls.lift_hold)
    rules = _awaits(calls.rules)
    set_rule = _awaits(calls.set_rule)
    drop_rule = _awaits(calls.drop_rule)
    locksteps = _awaits(calls.locksteps)
    set_lockstep = _awaits(calls.set_lockstep)
    drop_lockstep = _awaits(calls.drop_lockstep)
    clashes = _awaits(calls.clashes)
    add_clash = _awaits(calls.add_clash)
    drop_clash = _awaits(calls.drop_clash)
    policy = _awaits(calls.policy)
    licences = _awaits(calls.licences)
    licence = _awaits(calls.licence)
    add_licence = _awaits(calls.add_licence)
    change_licence = _awaits(calls.change_licence)
    drop_licence = _awaits(calls.drop_licence)
    seat_site = _awaits(calls.seat_site)
    unseat_site = _awaits(calls.unseat_site)
    rotate_code = _awaits(calls.rotate_code)
    enter_code = _awaits(calls.enter_code)
    forecasts = _awaits(calls.forecasts)
    findings = _awaits(calls.findings)
    snooze_finding = _awaits(calls.snooze_finding)
    wake_finding = _awaits(calls.wake_finding)
    sites_csv = _awaits(calls.sites_csv)
    import_sites = _awaits(calls.import_sites)
    inventory_cyclonedx = _awaits(calls.inventory_cyclonedx)
    metrics = _awaits(calls.metrics)
    calendar_address = _awaits(calls.calendar_address)
    send_digest = _awaits(calls.send_digest)
    hooks = _awaits(calls.hooks)
    add_hook = _awaits(calls.add_hook)
    drop_hook = _awaits(calls.drop_hook)
    deliveries = _awaits(calls.deliveries)
    accounts = _awaits(calls.accounts)
    add_account = _awaits(calls.add_account)
    close_account = _awaits(calls.close_account)
    instance = _awaits(calls.instance)
    take_over = _awaits(calls.take_over)
    today = _awaits(calls.today)
    ledger = _awaits(calls.ledger)
