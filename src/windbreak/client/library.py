"""The client library, and its async twin.

    with Windbreak("http://127.0.0.1:8470", token) as windbreak:
        for site in windbreak.sites():
            print(site.label, site.state, site.text)

Results are the core's own types. Errors are in ``windbreak.client.errors``. Both libraries have a
method for each call of ``client/calls.py``, with its name, its arguments and its words; editors
read them in ``library.pyi``, made from the same list (``python -m windbreak.client.stub``).

Whoever has written something reads it: a read after a write waits until the service's views show
it.
"""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Callable, Iterator
from dataclasses import replace
from datetime import timedelta
from functools import wraps
from inspect import Parameter, signature
from types import TracebackType
from typing import TYPE_CHECKING, Any, TypeVar

import httpx

from windbreak.client import calls, transport
from windbreak.client.calls import Call
from windbreak.client.errors import Unreachable

if TYPE_CHECKING:
    from windbreak.core.values.ledger import Event
    from windbreak.documents.runs import RunStory

T = TypeVar("T")
_BETWEEN = 0.3


class _Library:
    """What both libraries know: where the service is, who asks, and what was written last."""

    def __init__(self, address: str, token: str | None = None) -> None:
        self.address, self.token = address.rstrip("/"), token
        self.written = 0  # the generation of the last thing written through this library
        self.ahead = timedelta()  # how far the service's clock is ahead of our own

    def _request(self, call: Call[Any]) -> dict[str, Any]:
        return transport.request_of(call, self.address, self.token, self.written)

    def _read(self, call: Call[T], response: httpx.Response) -> T:
        self.ahead = transport.ahead_by(response, self.ahead)
        if call.method != "GET":
            self.written = max(self.written, transport.generation_of(response))
        return transport.read(call, response)

    def _unless_retried(self, call: Call[Any], tried: int, error: httpx.HTTPError) -> None:
        if not transport.may_retry(call, tried):
            raise transport.unreachable(self.address, error) from error


class _Waiting:
    """Waiting for a run: the patience, and whom to tell when it went on."""

    def __init__(self, run: int, timeout: float | None, heard: Callable[[RunStory], None]) -> None:
        self.run, self.timeout, self.heard = run, timeout, heard
        self.until = None if timeout is None else time.monotonic() + timeout
        self.last: object = None

    def ended(self, story: RunStory) -> bool:
        sign = (story.run.last_sign_at, story.run.phase, story.run.step)
        if sign != self.last:
            self.heard(story)
            self.last = sign
        return story.run.ended_at is not None

    def away(self, error: Unreachable) -> None:
        """A service that is away for a while is waited for, within the patience."""
        if self.until is None:
            raise error

    def patience(self) -> None:
        if self.until is not None and time.monotonic() > self.until:
            raise TimeoutError(
                f"run {self.run} has not ended in {self.timeout:.0f} seconds; it goes on"
            )


def _event(text: str) -> Event:
    from windbreak.core.values.ledger import Event

    return Event.model_validate_json(text)


def _unheard(story: RunStory) -> None:
    """Nobody listens."""


async def _pause(seconds: float) -> None:
    import asyncio  # a terminal needs none of it

    await asyncio.sleep(seconds)


class Windbreak(_Library):
    """A service of Windbreak. ``token`` is made by ``windbreak token add`` or the console."""

    def __init__(self, address: str, token: str | None = None) -> None:
        super().__init__(address, token)
        self._http = httpx.Client(**transport.settings(address))

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
                return self._read(call, self._http.request(**self._request(call)))
            except httpx.HTTPError as error:
                self._unless_retried(call, tried, error)
                time.sleep(_BETWEEN * tried)

    def text(self, call: Call[Any]) -> str:
        """The answer of a call as it came: JSON, whose types need not be loaded."""
        as_text: Call[str] = replace(call, answer="str")
        return self.do(as_text)

    def events(self, after: int | None = None) -> Iterator[Event]:
        """What happens, as it happens, without end. Raises Unreachable when the stream breaks."""
        call = calls.stream_events(after)
        timeout = httpx.Timeout(None, connect=5)
        try:
            with self._http.stream(**self._request(call), timeout=timeout) as response:
                if not response.is_success:
                    response.read()
                    transport.read(call, response)
                for line in response.iter_lines():
                    if line.startswith("data:"):
                        yield _event(line[5:])
        except httpx.HTTPError as error:
            raise transport.unreachable(self.address, error) from error

    def wait(
        self,
        run: int,
        *,
        timeout: float | None = None,
        heard: Callable[[RunStory], None] = _unheard,
    ) -> RunStory:
        """Wait until a run has ended; ``heard`` is told the story whenever it went on.

        ``timeout`` is in seconds. Raises TimeoutError; the run goes on all the same. With one, a
        service that is away for a while is waited for.
        """
        waiting = _Waiting(run, timeout, heard)
        while True:
            try:
                story: RunStory = self.do(calls.run(run))
                if waiting.ended(story):
                    return story
            except Unreachable as error:
                waiting.away(error)
            waiting.patience()
            time.sleep(_BETWEEN)


class AsyncWindbreak(_Library):
    """The same for asyncio."""

    def __init__(self, address: str, token: str | None = None) -> None:
        super().__init__(address, token)
        self._http = httpx.AsyncClient(**transport.settings(address))

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
                return self._read(call, await self._http.request(**self._request(call)))
            except httpx.HTTPError as error:
                self._unless_retried(call, tried, error)
                await _pause(_BETWEEN * tried)

    async def text(self, call: Call[Any]) -> str:
        """The answer of a call as it came: JSON, whose types need not be loaded."""
        as_text: Call[str] = replace(call, answer="str")
        return await self.do(as_text)

    async def events(self, after: int | None = None) -> AsyncIterator[Event]:
        """What happens, as it happens, without end. Raises Unreachable when the stream breaks."""
        call = calls.stream_events(after)
        timeout = httpx.Timeout(None, connect=5)
        try:
            async with self._http.stream(**self._request(call), timeout=timeout) as response:
                if not response.is_success:
                    await response.aread()
                    transport.read(call, response)
                async for line in response.aiter_lines():
                    if line.startswith("data:"):
                        yield _event(line[5:])
        except httpx.HTTPError as error:
            raise transport.unreachable(self.address, error) from error

    async def wait(
        self,
        run: int,
        *,
        timeout: float | None = None,
        heard: Callable[[RunStory], None] = _unheard,
    ) -> RunStory:
        """Wait until a run has ended; ``heard`` is told the story whenever it went on.

        ``timeout`` is in seconds. Raises TimeoutError; the run goes on all the same. With one, a
        service that is away for a while is waited for.
        """
        waiting = _Waiting(run, timeout, heard)
        while True:
            try:
                story: RunStory = await self.do(calls.run(run))
                if waiting.ended(story):
                    return story
            except Unreachable as error:
                waiting.away(error)
            waiting.patience()
            await _pause(_BETWEEN)


def _methods(call: Callable[..., Call[Any]]) -> None:
    """Give both libraries a method that carries out a call."""

    @wraps(call)
    def does(self: Windbreak, /, *args: Any, **named: Any) -> Any:
        return self.do(call(*args, **named))

    @wraps(call)
    async def awaits(self: AsyncWindbreak, /, *args: Any, **named: Any) -> Any:
        return await self.do(call(*args, **named))

    itself = Parameter("self", Parameter.POSITIONAL_ONLY)
    own = signature(call)
    shown = own.replace(parameters=[itself, *own.parameters.values()])
    for library, method in ((Windbreak, does), (AsyncWindbreak, awaits)):
        method.__dict__["__signature__"] = shown
        setattr(library, call.__name__, method)


for _call in calls.CALLS:
    if not hasattr(Windbreak, _call.__name__):
        _methods(_call)
