"""The demo: stand-ins and service started together, and the fleet set up through the API."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx

from windbreak.client import Windbreak
from windbreak.core.fleet import Host, NewLicence, NewSite
from windbreak.core.tracking import NewFeed, ProductChange
from windbreak.operations import accounts
from windbreak.operations.context import open_context
from windbreak.standins.catalogue import CORE
from windbreak.standins.feeds import TOKEN
from windbreak.standins.fleet import HOSTS, SITES
from windbreak.standins.server import addresses

ACCOUNT, NAME = "rhona", "Rhona Vale"
_PATIENCE = 40.0


class Demo:
    """A running demo: two processes, and where they lie."""

    def __init__(self, data: Path, port: int = 0) -> None:
        self.data, self.port = data, port
        self.standins_folder = data / "standins"
        self.service_folder = data / "service"
        self.processes: dict[str, subprocess.Popen[bytes]] = {}
        self.address = ""

    def start_standins(self) -> dict[str, str]:
        """Start the feeds and sites; their addresses, by name."""
        self.standins_folder.mkdir(parents=True, exist_ok=True)
        where = addresses(self.standins_folder)
        self._start("standins", "windbreak.standins.server", str(self.standins_folder))
        for name, address in where.items():
            self._until_up("standins", f"{address}/", name)
        return where

    def start_service(self) -> str:
        """Start the service; its address."""
        self.service_folder.mkdir(parents=True, exist_ok=True)
        told = self.service_folder / "address"
        told.unlink(missing_ok=True)
        options = ["--account", ACCOUNT, "--account-name", NAME, "--port", str(self.port)]
        self._start("service", "windbreak", "serve", "--data", str(self.service_folder), *options)
        until = time.monotonic() + _PATIENCE
        while not told.exists() or not told.read_text():
            self._alive("service")
            if time.monotonic() > until:
                raise RuntimeError("the service did not start")
            time.sleep(0.05)
        self.address = told.read_text()
        self.port = int(self.address.rsplit(":", 1)[1])
        self._until_up("service", f"{self.address}/ready", "the service")
        return self.address

    def _start(self, name: str, module: str, *args: str) -> None:
        log = (self.data / f"{name}.log").open("ab")
        # A group of their own: Ctrl-C reaches us alone, and we end them in order.
        self.processes[name] = subprocess.Popen(
            [sys.executable, "-m", module, *args],
            stdout=log,
            stderr=log,
            start_new_session=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1"},
        )
        log.close()

    def _alive(self, name: str) -> None:
        if self.processes[name].poll() is not None:
            lines = (self.data / f"{name}.log").read_text().strip().splitlines()
            said = "\n".join(lines[-5:])
            raise RuntimeError(f"{name} did not start; {self.data / f'{name}.log'} says:\n{said}")

    def _until_up(self, process: str, url: str, name: str) -> None:
        until = time.monotonic() + _PATIENCE
        while True:
            self._alive(process)
            try:
                httpx.get(url, timeout=5, trust_env=False)
                return
            except httpx.HTTPError:
                if time.monotonic() > until:
                    raise RuntimeError(f"{name} does not answer at {url}") from None
                time.sleep(0.1)

    def kill_service(self) -> None:
        """End the service as a power cut would."""
        process = self.processes.pop("service")
        process.send_signal(signal.SIGKILL)
        process.wait()

    def stop(self) -> None:
        """End everything that was started; a second Ctrl-C does not leave half of it behind."""
        with _undisturbed():
            for name in ("service", "standins"):
                process = self.processes.pop(name, None)
                if process is not None:
                    process.terminate()
                    try:
                        process.wait(timeout=10)
                    except subprocess.TimeoutExpired:
                        process.kill()
                        process.wait()

    def link(self) -> str:
        """A one-time sign-in link."""
        context = open_context(self.service_folder)
        try:
            return f"{self.address}/sign-in#{accounts.make_link(context, ACCOUNT)}"
        finally:
            context.store.close()
            context.http.close()

    def token(self, label: str) -> str:
        """A token of the demo's account."""
        context = open_context(self.service_folder)
        try:
            return accounts.make_token(context, ACCOUNT, label).secret or ""
        finally:
            context.store.close()
            context.http.close()


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Signals that end a program are put off, where this is the main thread that gets them."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    kept = {one: signal.signal(one, signal.SIG_IGN) for one in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for one, handler in kept.items():
            signal.signal(one, handler)


@contextmanager
def running(data: Path, port: int = 0) -> Iterator[tuple[Demo, dict[str, str]]]:
    """A demo that is ended again whatever happens."""
    demo = Demo(data, port)
    try:
        where = demo.start_standins()
        demo.start_service()
        yield demo, where
    finally:
        demo.stop()


def register_feeds(windbreak: Windbreak, where: dict[str, str]) -> list[str]:
    """Register both feeds and poll them; what each said."""
    base = where["feeds"]
    known = {feed.id for feed in windbreak.feeds()}
    said = []
    if "commons" not in known:
        feed = {"id": "commons", "label": "Millrace Commons"}
        url = f"{base}/commons/releases.json"
        windbreak.register_feed(NewFeed.model_validate({**feed, "url": url}))
        said.append(windbreak.poll_feed("commons").text)
    if "chandlery" not in known:
        feed = {"id": "chandlery", "label": "The Chandlery", "sign_in": "bearer"}
        url = f"{base}/chandlery/releases.json"
        # White space around a pasted token does no harm.
        credential = {"credential": f"  {TOKEN}\n"}
        windbreak.register_feed(NewFeed.model_validate({**feed, "url": url, **credential}))
        said.append(windbreak.poll_feed("chandlery").text)
        said.append(f"Its token: {windbreak.check_feed('chandlery').text}")
    windbreak.change_product(CORE, ProductChange(major_place=2))
    return said


def register_sites(windbreak: Windbreak, where: dict[str, str]) -> list[str]:
    """Register hosts and sites, link each by its line, refresh it; what was done."""
    for id, fields in HOSTS.items():
        windbreak.put_host(Host.model_validate({"id": id, **fields}))
    known = {site.id for site in windbreak.sites()}
    said = []
    for demo in SITES:
        if demo.slug in known:
            continue
        windbreak.register_site(
            NewSite.model_validate(
                {
                    "label": demo.label,
                    "address": where[demo.slug],
                    "client": demo.client,
                    "host": demo.host,
                    "environment": demo.environment,
                    "twin_of": demo.twin_of,
                }
            ),
            demo.slug,
        )
        line = windbreak.link_line(demo.slug).line
        # The owner pastes it with what the mail program put around it.
        pasted = httpx.post(
            f"{where[demo.slug]}/owner/link", data={"line": f" {line}\n "}, trust_env=False
        )
        pasted.raise_for_status()
        site = windbreak.link_site(demo.slug)
        for product in demo.licences:
            windbreak.add_licence(NewLicence(site=demo.slug, product=product))
        said.append(f"{site.label} is {site.link.state}: {site.link.reason}")
    return said


def run(data: Path, port: int) -> int:
    """Start the demo and keep it running until Ctrl-C; the exit status."""
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        with running(data, port) as (demo, where):
            with Windbreak(demo.address, demo.token("demo set-up")) as windbreak:
                for line in [*register_feeds(windbreak, where), *register_sites(windbreak, where)]:
                    print(f"  {line}")
                for token in windbreak.tokens():
                    if token.label == "demo set-up":
                        windbreak.revoke_token(token.id)
            _greet(demo)
            return _wait(demo)
    except KeyboardInterrupt:
        print("\nThe demo has ended.")
        return 0
    except RuntimeError as error:
        print(f"error: {error}", file=sys.stderr)
        return 1


def _greet(demo: Demo) -> None:
    print(f"\nWindbreak serves the demo fleet at {demo.address}")
    print(f"  console, sign in once:  {demo.link()}")
    print(f"  this terminal, once:    .venv/bin/windbreak sign-in '{demo.link()}'")
    print(f"  everything lies in      {demo.data}")
    print("Ctrl-C ends it.", flush=True)


def _wait(demo: Demo) -> int:
    while True:
        for name, process in demo.processes.items():
            if process.poll() is not None:
                print(f"error: {name} has ended; see {demo.data / f'{name}.log'}", file=sys.stderr)
                return 1
        time.sleep(0.5)
