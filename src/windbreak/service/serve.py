"""Starting the service: its data directory, its lease, its first account, its log."""

from __future__ import annotations

import contextlib
import ctypes
import logging
import socket
import sys
from pathlib import Path
from typing import TextIO

import uvicorn

from windbreak.operations.administration import accounts, clocks, instance
from windbreak.operations.context import Context, open_context
from windbreak.operations.errors import Refused
from windbreak.operations.executors import executor
from windbreak.service.app import JsonLines, create_app
from windbreak.service.drive import Lease
from windbreak.service.settings import SettingRefused, Settings

_TURN = 0.0002  # seconds that a thread may keep others waiting, requests among them
_ARENAS = 2  # from which all threads take memory, instead of up to eight for each core
_M_ARENA_MAX = -8  # of glibc's malloc.h


def serve(data: Path, settings: Settings) -> int:
    """Serve until stopped. Raises LeaseTaken when another service drives the directory."""
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    lease = Lease(data)
    _log_to(sys.stderr)
    try:
        context = open_context(
            data,
            soak=settings.soak,
            private_networks=settings.private_networks,
            per_host=max(1, settings.per_host),
            executor=executor(settings.workers, settings.cluster),
            kept_days=settings.kept_days,
            prove_days=settings.prove_days,
            patience_minutes=max(1, settings.patience_minutes),
            browser=settings.browser,
        )
    except Refused as error:
        lease.end()
        raise SettingRefused(str(error)) from None
    except ValueError as error:
        lease.end()
        raise SettingRefused(f"private_networks: {error}") from None
    sys.setswitchinterval(_TURN)
    _share_memory()
    clocks.tell(data, settings.clock_file)
    context.clock = clocks.of(data)
    first = not context.store.accounts.all()
    accounts.ensure_account(context, settings.account, settings.account_name)
    app = create_app(
        context,
        refresh_minutes=settings.refresh_minutes,
        pages_minutes=settings.pages_minutes,
        mail=settings.mail,
        shelf=settings.shelf,
        digest_hour=settings.digest_hour,
        retention=settings.retention,
    )
    # The protocol is named: asyncio sets TCP_NODELAY by it, and without that answers wait 40 ms.
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((settings.host, settings.port))
    except OSError as error:
        lease.end()
        raise OSError(
            f"can't listen at {settings.host}:{settings.port} ({error.strerror}); "
            "give another --port"
        ) from None
    port = int(listening.getsockname()[1])
    context.own_ports.add(port)
    instance.settle(context)
    address = f"http://{settings.host}:{port}"
    _greet(context, settings, address, first=first)
    config = uvicorn.Config(app, log_config=None, access_log=False, timeout_graceful_shutdown=3)
    uvicorn.Server(config).run(sockets=[listening])
    lease.end()
    return 0


def _greet(context: Context, settings: Settings, address: str, *, first: bool) -> None:
    (context.data / "address").write_text(address)
    print(f"Windbreak serves at {address}", flush=True)
    # A link is a secret for half an hour: it goes to a person's terminal, not into a log.
    if first and sys.stdout.isatty():
        link = accounts.make_link(context, settings.account)
        print(f"Sign in, once, within half an hour: {address}/sign-in#{link}", flush=True)
    else:
        print(
            f"A sign-in link: windbreak sign-in-link --data {context.data} --at {address}",
            flush=True,
        )


def _share_memory() -> None:
    """Let threads share memory that one of them has given back. Else each arena keeps what it once
    needed, and a service with many readers grows for hours. Where the C library has no such
    setting, nothing is done.
    """
    with contextlib.suppress(AttributeError, OSError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, _ARENAS)


def _log_to(stream: TextIO) -> None:
    handler = logging.StreamHandler(stream)
    handler.setFormatter(JsonLines())
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(logging.INFO)
    for noisy in ("httpx", "httpcore", "uvicorn.error", "asyncio"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
