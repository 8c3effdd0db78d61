"""The stand-ins, all of them, on loopback: ``python -m windbreak.standins.server FOLDER``.

Each site answers on a port of its own. The ports are kept in the folder, so that addresses,
which are part of a site's identity, are the same after a restart.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import signal
import socket
import sys
from pathlib import Path

import uvicorn
from starlette.applications import Starlette

from windbreak.standins.feeds import feeds_app
from windbreak.standins.fleet import SITES, lay_out
from windbreak.standins.pages import site_app


class _Quiet(uvicorn.Server):
    """A server that leaves signals to whoever runs it."""

    @contextlib.contextmanager
    def capture_signals(self):  # type: ignore[no-untyped-def]
        yield


def addresses(folder: Path) -> dict[str, str]:
    """The address of each stand-in, by name; ports are chosen once and kept."""
    kept = folder / "ports.json"
    ports: dict[str, int] = json.loads(kept.read_text()) if kept.exists() else {}
    names = ["feeds", *(site.slug for site in SITES)]
    open_: list[socket.socket] = []
    for name in names:
        if name not in ports:
            free = socket.socket()
            free.bind(("127.0.0.1", 0))
            open_.append(free)
            ports[name] = free.getsockname()[1]
    for one in open_:
        one.close()
    folder.mkdir(parents=True, exist_ok=True)
    kept.write_text(json.dumps(ports))
    return {name: f"http://127.0.0.1:{ports[name]}" for name in names}


async def serve(folder: Path) -> None:
    """Serve until stopped."""
    where = addresses(folder)
    apps: dict[str, Starlette] = {"feeds": feeds_app()}
    for demo in SITES:
        apps[demo.slug] = site_app(*lay_out(folder, demo))
    servers = []
    for name, app in apps.items():
        port = int(where[name].rsplit(":", 1)[1])
        config = uvicorn.Config(
            app, "127.0.0.1", port, log_level="error", access_log=False, lifespan="off"
        )
        servers.append(_Quiet(config))

    def stop() -> None:
        for server in servers:
            server.should_exit = True

    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, stop)
    await asyncio.gather(*(server.serve() for server in servers))


if __name__ == "__main__":
    asyncio.run(serve(Path(sys.argv[1])))
