"""The stand-ins on loopback: ``python -m windbreak.standins.server FOLDER [few]``.

Each site answers on a port of its own. The ports are kept in the folder, so that addresses,
which are part of a site's identity, are the same after a restart.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import socket
import sys
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from email.utils import format_datetime
from functools import partial
from pathlib import Path

import uvicorn
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from windbreak.standins import clock
from windbreak.standins.agent import MillraceAgent
from windbreak.standins.feeds import Feeds
from windbreak.standins.fleet import FEW, SITES, DemoSite, lay_out
from windbreak.standins.pages import site_app

# Below the ports that systems give to calls going out.
_PORTS = range(20_000, 32_000)


class _Quiet(uvicorn.Server):
    """A server that leaves signals to whoever runs it."""

    @contextlib.contextmanager
    def capture_signals(self):  # type: ignore[no-untyped-def]
        yield


def addresses(folder: Path, sites: Sequence[DemoSite]) -> dict[str, str]:
    """The address of each stand-in, by name; ports are chosen once and kept."""
    kept = folder / "ports.json"
    ports: dict[str, int] = json.loads(kept.read_text()) if kept.exists() else {}
    names = ["feeds", *(site.slug for site in sites)]
    free = _free_ports(set(ports.values()))
    for name in names:
        if name not in ports:
            ports[name] = next(free)
    folder.mkdir(parents=True, exist_ok=True)
    kept.write_text(json.dumps(ports))
    return {name: f"http://127.0.0.1:{ports[name]}" for name in names}


def _free_ports(taken: set[int]) -> Iterator[int]:
    """Ports nobody listens on, below those the system gives to calls that go out.

    A call going out could take such a port for itself while the stand-in is down. Each process
    begins elsewhere, so that two started at one instant do not choose the same.
    """
    first = os.getpid() * 64 % len(_PORTS)
    for port in (*_PORTS[first:], *_PORTS[:first]):
        if port not in taken:
            with contextlib.suppress(OSError):
                _listener(port, shared=False).close()
                yield port


def _listener(port: int, *, shared: bool = True) -> socket.socket:
    """A socket bound to the port; an ``OSError`` where somebody else listens there; or, unless it
    may be ``shared``, has it and does not listen yet.
    """
    # The protocol is named: asyncio sets TCP_NODELAY by it, and without that answers wait 40 ms.
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    try:
        if shared:
            listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listener.bind(("127.0.0.1", port))
    except OSError:
        listener.close()
        raise
    return listener


def _dated(app: ASGIApp, now: Callable[[], datetime]) -> ASGIApp:
    """An app whose answers are dated by the clock of its own machine."""

    async def answer(scope: Scope, receive: Receive, send: Send) -> None:
        async def send_dated(message: Message) -> None:
            if message["type"] == "http.response.start":
                MutableHeaders(scope=message)["date"] = format_datetime(
                    now().astimezone(UTC), usegmt=True
                )
            await send(message)

        await app(scope, receive, send_dated)

    return answer


class _Place:
    """One stand-in at its port; a site that is down answers nothing there."""

    def __init__(self, app: ASGIApp, port: int, is_down: Callable[[], bool]) -> None:
        self.app, self.port, self.is_down = app, port, is_down
        self.server: _Quiet | None = None
        self.task: asyncio.Task[None] | None = None

    async def tend(self) -> None:
        """Open or close the port, as it should be."""
        if self.is_down():
            await self.close()
        elif self.task is None or self.task.done():
            # Where somebody else has the port for now, it is tried again at the next look.
            with contextlib.suppress(OSError):
                listener = _listener(self.port)
                config = uvicorn.Config(
                    self.app,
                    log_level="error",
                    access_log=False,
                    lifespan="off",
                    date_header=False,
                )
                self.server = _Quiet(config)
                self.task = asyncio.create_task(self.server.serve([listener]))

    async def close(self) -> None:
        if self.server is not None and self.task is not None:
            self.server.should_exit = True
            await self.task
            self.server = self.task = None


def _places(folder: Path, sites: Sequence[DemoSite]) -> Iterator[_Place]:
    where = addresses(folder, sites)

    def port(name: str) -> int:
        return int(where[name].rsplit(":", 1)[1])

    yield _Place(_dated(Feeds(folder / "feeds").app(), clock.now), port("feeds"), lambda: False)
    for demo in sites:
        site, agent = lay_out(folder, demo)
        site.settle(where[demo.slug])
        yield _Place(
            _dated(site_app(site, agent), agent.now), port(demo.slug), partial(_is_down, agent)
        )


def _is_down(agent: MillraceAgent) -> bool:
    return agent.faults.down


async def serve(folder: Path, sites: Sequence[DemoSite], stopped: asyncio.Event) -> None:
    """Serve until stopped."""
    places = list(_places(folder, sites))
    while not stopped.is_set():
        for place in places:
            await place.tend()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(stopped.wait(), 0.5)
    await asyncio.gather(*(place.close() for place in places))


async def _serve_here(folder: Path, sites: Sequence[DemoSite]) -> None:
    """Serve until the process is told to end."""
    stopped = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, stopped.set)
    await serve(folder, sites, stopped)


if __name__ == "__main__":
    asyncio.run(_serve_here(Path(sys.argv[1]), FEW if "few" in sys.argv[2:] else SITES))
