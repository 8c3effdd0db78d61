"""The demo: stand-ins and service started together, and the fleet set up through the API."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from datetime import date, timedelta
from functools import cache
from pathlib import Path

import httpx

from windbreak.client import Windbreak
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.freezes import NewFreezeCalendar
from windbreak.core.values.holds import NewHold
from windbreak.core.values.licences import NewLicence, NewSeat
from windbreak.core.values.policy import NewRule
from windbreak.core.values.products import ProductChange
from windbreak.core.values.releases import NewRelease
from windbreak.core.values.sites import Host, NewSite
from windbreak.core.values.watching import NewWatch
from windbreak.operations.administration import accounts, clocks
from windbreak.operations.context import close, open_context
from windbreak.standins import catalogue, faults, real, real_fleet
from windbreak.standins.catalogue import CORE
from windbreak.standins.clock import VARIABLE as CLOCK_FILE
from windbreak.standins.feeds import EBBING_KEY, EBBING_USER, GANTRY_KEY, TOKEN
from windbreak.standins.fleet import FEW, HOSTS, SITES, DemoSite, leave_as_told
from windbreak.standins.server import addresses

ACCOUNT, NAME = "rhona", "Rhona Vale"
_PATIENCE = 90.0


@cache
def _plain() -> httpx.Client:
    """A client for what is started here: one, since each reads the machine's certificates anew."""
    return httpx.Client(
        timeout=5, trust_env=False, limits=httpx.Limits(max_keepalive_connections=0)
    )


class Demo:
    """A running demo: two processes, and where they lie. ``few``: five sites of the fleet;
    ``browser``: what the service looks at sites with, none where it is empty.
    """

    def __init__(self, data: Path, port: int = 0, *, few: bool = False, browser: str = "") -> None:
        self.data, self.port, self.few, self.browser = data, port, few, browser
        self.sites = FEW if few else SITES
        self.standins_folder = data / "standins"
        self.service_folder = data / "service"
        self.clock = data / "clock"
        self.processes: dict[str, subprocess.Popen[bytes]] = {}
        self.address = ""

    def start_standins(self) -> dict[str, str]:
        """Start the feeds and sites; their addresses, by name."""
        self.standins_folder.mkdir(parents=True, exist_ok=True)
        where = addresses(self.standins_folder, self.sites)
        few = ["few"] if self.few else []
        self._start("standins", "windbreak.standins.server", str(self.standins_folder), *few)
        down = {site.slug for site in self.sites if self._is_down(site)}
        for name, address in where.items():
            if name not in down:
                self._until_up("standins", f"{address}/", name)
        return where

    def _is_down(self, site: DemoSite) -> bool:
        return "down" in faults.orders(self.standins_folder / site.slug / "agent" / "faults.json")

    def start_service(self) -> str:
        """Start the service; its address."""
        self.service_folder.mkdir(parents=True, exist_ok=True)
        file = self.service_folder / "address"
        file.unlink(missing_ok=True)
        options = ["--account", ACCOUNT, "--account-name", NAME, "--port", str(self.port)]
        options += ["--private-networks", "127.0.0.0/8", "--per-host", "4"]
        if self.browser:
            options += ["--browser", self.browser]
        self._start("service", "windbreak", "serve", "--data", str(self.service_folder), *options)
        until = time.monotonic() + _PATIENCE
        while not file.exists() or not file.read_text():
            self._alive("service")
            if time.monotonic() > until:
                raise RuntimeError("the service did not start")
            time.sleep(0.05)
        self.address = file.read_text()
        self.port = int(self.address.rsplit(":", 1)[1])
        self._until_up("service", f"{self.address}/ready", "the service")
        return self.address

    def _start(self, name: str, module: str, *args: str) -> None:
        log = (self.data / f"{name}.log").open("ab")
        # A group of their own: Ctrl-C reaches us alone, and we end them in order. Where we are
        # killed they end by themselves.
        self.processes[name] = subprocess.Popen(
            [sys.executable, "-m", "windbreak.standins.beside", module, *args],
            stdin=subprocess.PIPE,
            stdout=log,
            stderr=log,
            start_new_session=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1", CLOCK_FILE: str(self.clock.absolute())},
        )
        log.close()

    def _alive(self, name: str) -> None:
        if self.processes[name].poll() is not None:
            lines = (self.data / f"{name}.log").read_text().strip().splitlines()
            last_lines = "\n".join(lines[-5:])
            raise RuntimeError(
                f"{name} did not start; {self.data / f'{name}.log'} says:\n{last_lines}"
            )

    def _until_up(self, process: str, url: str, name: str) -> None:
        until = time.monotonic() + _PATIENCE
        while True:
            self._alive(process)
            try:
                _plain().get(url)
                return
            except httpx.HTTPError:
                if time.monotonic() > until:
                    raise RuntimeError(
                        f"{name} does not answer at {url}; another program may have the port"
                    ) from None
                time.sleep(0.05)

    def kill(self, name: str) -> None:
        """End the service or the stand-ins as a power cut would."""
        process = self.processes.pop(name)
        process.send_signal(signal.SIGKILL)
        _ended(process)

    def kill_service(self) -> None:
        """End the service as a power cut would."""
        self.kill("service")

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
                    _ended(process)

    def link(self) -> str:
        """A one-time sign-in link."""
        context = open_context(self.service_folder)
        context.clock = clocks.of(self.service_folder)
        try:
            return f"{self.address}/sign-in#{accounts.make_link(context, ACCOUNT)}"
        finally:
            close(context)

    def token(self, label: str, account: str = ACCOUNT) -> str:
        """A token of the demo's account, or of another."""
        context = open_context(self.service_folder)
        context.clock = clocks.of(self.service_folder)
        try:
            return accounts.make_token(context, account, label).secret or ""
        finally:
            close(context)


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Signals that end a program are put off, where this is the main thread that gets them."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    kept = {part: signal.signal(part, signal.SIG_IGN) for part in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for part, handler in kept.items():
            signal.signal(part, handler)


@contextmanager
def running(
    data: Path, port: int = 0, *, few: bool = False, browser: str = ""
) -> Iterator[tuple[Demo, dict[str, str]]]:
    """A demo that is ended again whatever happens."""
    demo = Demo(data, port, few=few, browser=browser)
    try:
        where = demo.start_standins()
        demo.start_service()
        yield demo, where
    finally:
        demo.stop()


def set_up(demo: Demo, where: dict[str, str]) -> list[str]:
    """Set the whole demo fleet up through the API, as far as it is not there; what was done."""
    with Windbreak(demo.address, demo.token("demo set-up")) as windbreak:
        lines = register_feeds(windbreak, where)
        if not demo.few:
            lines += _register_gantry_as_somebody_who_left(demo, windbreak, where)
        register_licences(windbreak, demo.sites)
        lines += register_sites(windbreak, where, demo.sites, demo.standins_folder)
        if not demo.few:
            _by_hand(windbreak)
            windbreak.look_at_files("cockle-row")
            changeover = "Changeover is on Saturdays: nothing on Friday nights."
            windbreak.write_note("fulmar-cottages", "us", changeover)
            _nights(windbreak, where)
        for token in windbreak.tokens():
            if token.label == "demo set-up":
                windbreak.revoke_token(token.id)
    return lines


def register_feeds(windbreak: Windbreak, where: dict[str, str]) -> list[str]:
    """Register the makers' feeds and poll them; what each said."""
    base = where["feeds"]
    feeds_now = {feed.id for feed in windbreak.feeds()}
    lines = []
    for fields in (
        {"id": "commons", "label": "Millrace Commons", "url": f"{base}/commons/releases.json"},
        {
            "id": "chandlery",
            "label": "The Chandlery",
            "url": f"{base}/chandlery/releases.json",
            "sign_in": "bearer",
            # White space around a pasted token does no harm.
            "credential": f"  {TOKEN}\n",
        },
        {
            "id": "ebbing",
            "label": "Ebbing Tide",
            "url": f"{base}/ebbing/releases.json",
            "sign_in": "user and key",
            "sign_in_name": EBBING_USER,
            "credential": EBBING_KEY,
        },
        {
            "id": "netloft",
            "label": "Netloft",
            "kind": "atom",
            "url": f"{base}/netloft/news.atom",
            "reading": {"product": "plugin/netloft"},
        },
        {
            "id": "advisories",
            "label": "Advisories",
            "kind": "advisories",
            "url": f"{base}/osv/all.json",
            "every_minutes": 15,
            "reading": {"packages": {"sextant": "plugin/sextant"}},
        },
    ):
        if fields["id"] not in feeds_now:
            feed = windbreak.register_feed(NewFeed.model_validate(fields))
            lines.append(windbreak.poll_feed(feed.id).text)
    if "chandlery" not in feeds_now:
        lines.append(f"The Chandlery's token: {windbreak.check_feed('chandlery').text}")
        windbreak.check_feed("ebbing")
        # What Ebbing Tide changes after it was first read is seen at the second look.
        windbreak.poll_feed("ebbing")
    if "gantry" not in feeds_now:
        lines.append(_register_gantry(windbreak, where))
    windbreak.change_product(CORE, ProductChange(major_place=2))
    return lines


def _register_gantry(windbreak: Windbreak, where: dict[str, str]) -> str:
    text = (Path(__file__).parent / "gantry.toml").read_text()
    text = text.replace("http://gantry.example", where["feeds"])
    windbreak.put_recipe("gantry", text)
    feed = NewFeed.model_validate(
        {
            "id": "gantry",
            "label": "Gantry House",
            "kind": "recipe",
            "url": f"{where['feeds']}/gantry/api/builds",
            "sign_in": "header",
            "sign_in_name": "X-Gantry-Key",
            "credential": GANTRY_KEY,
            "reading": {"recipe": "gantry"},
        }
    )
    windbreak.register_feed(feed)
    return windbreak.poll_feed("gantry").text


def _register_gantry_as_somebody_who_left(
    demo: Demo, windbreak: Windbreak, where: dict[str, str]
) -> list[str]:
    """Gantry House's key was entered by a colleague whose account is closed now."""
    if any(account.id == "owen" for account in windbreak.accounts()):
        return []
    windbreak.add_account("owen", "Owen Pell")
    with Windbreak(demo.address, demo.token("Owen's laptop", "owen")) as owens:
        owens.replace_credential("gantry", GANTRY_KEY)
        owens.check_feed("gantry")
    windbreak.close_account("owen")
    return ["Gantry House's key was set up by Owen Pell, whose account is closed."]


def register_licences(windbreak: Windbreak, sites: Sequence[DemoSite]) -> None:
    """Enter the licences that sites of the demo hold seats of, and those without seats."""
    today = date.today()
    wanted = {licence for site in sites for licence in site.seats}
    licences_now = {view.licence.id for view in windbreak.licences()}
    keel = ["theme/breakwater", "plugin/breakwater-keel"]
    ebbing = ["theme/mooring", "plugin/muster", "theme/capstan", "plugin/capstan-blocks"]
    carried = ["plugin/trestle", "plugin/foglamp"]
    for fields in (
        {
            "id": "breakwater",
            "label": "Breakwater 5",
            "form": "per-site code",
            "products": keel,
            "seats": 6,
            "covers_until": today + timedelta(days=280),
            "bought_by": "saltgrass",
            "renewal": "renewed by hand in the shop",
        },
        {
            "id": "breakwater-4",
            "label": "Breakwater 4",
            "form": "seats",
            "products": keel,
            "range": "<5",
            "seats": 3,
            "bought_by": "saltgrass",
        },
        {
            "id": "fulmar-breakwater",
            "label": "Fulmar’s own code",
            "form": "per-site code",
            "products": keel,
            "seats": 1,
            "expires": today - timedelta(days=21),
            "client": "Fulmar",
            "bought_by": "Fulmar Cottages",
            "renewal": "the client pays; asked three weeks ago",
        },
        {
            "id": "ebbing",
            "label": "Ebbing Tide membership",
            "form": "membership",
            "products": ebbing,
            "expires": today + timedelta(days=52),
            "bought_by": "saltgrass-studio",
            "renewal": "renewed by hand",
        },
        {
            "id": "muster-plus",
            "label": "Muster Plus",
            "form": "seats",
            "products": ["plugin/muster-plus"],
            "seats": 3,
            "covers_until": today + timedelta(days=97),
            "bought_by": "saltgrass-studio",
        },
        {
            "id": "ropewalk-trestle",
            "label": "Trestle, own",
            "form": "per-site code",
            "products": ["plugin/trestle"],
            "seats": 1,
            "expires": today + timedelta(days=218),
            "client": "Ropewalk",
            "bought_by": "Ropewalk Arts",
        },
        {
            "id": "carried",
            "label": "Trestle, Foglamp",
            "form": "through a theme",
            "products": carried,
            "through": "theme/breakwater",
            "bought_by": "with Breakwater",
        },
    ):
        unseated = fields["form"] in ("membership", "through a theme") and len(sites) > len(FEW)
        if fields["id"] not in licences_now and (fields["id"] in wanted or unseated):
            windbreak.add_licence(NewLicence.model_validate(fields))


def register_sites(
    windbreak: Windbreak,
    where: dict[str, str],
    sites: Sequence[DemoSite] = FEW,
    folder: Path | None = None,
) -> list[str]:
    """Register hosts and sites, link each by its line, give its seats; what was done.

    With ``folder``, that of the stand-ins, what is wrong with a site begins afterwards.
    """
    for id, fields in HOSTS.items():
        windbreak.put_host(Host.model_validate({"id": id, **fields}))
    sites_now = {site.id for site in windbreak.sites()}
    licences = {view.licence.id for view in windbreak.licences()}
    lines = []
    for demo in sites:
        if demo.slug in sites_now:
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
                    "tags": demo.tags,
                    "timezone": demo.zone,
                    "windows": [{"start": demo.window[0], "end": demo.window[1]}],
                }
            ),
            demo.slug,
        )
        line = windbreak.link_line(demo.slug).line
        # The owner pastes it with what the mail program put around it.
        pasted = httpx.post(
            f"{where[demo.slug]}/owner/link",
            data={"line": f" {line}\n "},
            trust_env=False,
            timeout=30,
        )
        pasted.raise_for_status()
        site = windbreak.link_site(demo.slug)
        for licence, code in demo.seats.items():
            if licence in licences:
                seat = {"site": demo.slug, "code": f" {code} " if code else None}
                windbreak.seat_site(licence, NewSeat.model_validate(seat))
        for product in demo.own:
            windbreak.mark_own(demo.slug, product)
        if folder is not None and demo.faults:
            if demo.faults.get("owner_ended"):
                httpx.post(f"{where[demo.slug]}/owner/unlink", trust_env=False, timeout=30)
            leave_as_told(folder, demo)
            time.sleep(1.0)  # the stand-ins look twice a second
            if demo.slug in where:
                site = windbreak.refresh_site(demo.slug)
        lines.append(f"{site.label} is {site.link.state}: {site.link.reason}")
    return lines


WATCHED = (2, 4)  # on which nights from now somebody is there


def _nights(windbreak: Windbreak, where: dict[str, str]) -> None:
    """The season of the ferries, out of their own calendar; and who is there to watch, and when."""
    if not windbreak.freeze_calendars():
        season = NewFreezeCalendar(
            id="ness-season", url=f"{where['feeds']}/ness/season.ics", client="Ness Ferries"
        )
        windbreak.add_freeze_calendar(season)
    if not windbreak.rules():
        rule = NewRule(
            client="Ness Ferries", watch=("any",), reason="the timetables of the ferries hang on it"
        )
        windbreak.set_rule(rule)
    if not windbreak.watch():
        mornings = [date.today() + timedelta(days=nights) for nights in WATCHED]
        windbreak.add_watch(
            NewWatch.model_validate(
                {
                    "who": NAME,
                    "days": [f"{day:%a}".lower() for day in mornings],
                    "start": "00:30",
                    "end": "04:30",
                }
            )
        )


def _by_hand(windbreak: Windbreak) -> None:
    """A hold, a release that no feed tells of, and the complete download on the shelf."""
    if windbreak.holds():
        return
    windbreak.make_hold(
        NewHold(
            product="plugin/netloft",
            range=">=1.9",
            until=date.today() + timedelta(days=10),
            reason="1.9 drops captions",
        )
    )
    windbreak.make_hold(
        NewHold(
            product=CORE,
            range=">=6.5",
            site="sandbar-cinema",
            reason="the festival runs till the end of the month",
        )
    )
    stamps = catalogue.find("plugin/oarlock-stamps", "2.0")
    windbreak.type_in_release(
        NewRelease(
            product=stamps.product,
            version=stamps.version,
            published=date.today() - timedelta(days=stamps.days),
            source="a mail of its maker",
        )
    )
    windbreak.put_on_shelf(catalogue.complete_download(stamps), ("oyster-quay",))


def run(data: Path, port: int, *, with_real: bool = False) -> int:
    """Start the demo and keep it running until Ctrl-C; the exit status. ``with_real``: a real
    content system and its twin are part of it.
    """
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        if with_real:
            real.install(ask=agreed)
        browser = real.browser() if with_real else ""
        with running(data, port, browser=browser) as (demo, where), ExitStack() as besides:
            print("The demo fleet is set up; the first time this takes about half a minute.")
            for line in set_up(demo, where):
                print(f"  {line}")
            if with_real:
                _join_real(demo, where["feeds"], besides)
            _greet(demo)
            return _wait(demo)
    except KeyboardInterrupt:
        print("\nThe demo has ended.")
        return 0
    except RuntimeError as error:
        print(f"error: {error}", file=sys.stderr)
        return 1


def agreed(text: str) -> bool:
    """Whether a person at the terminal says yes; where there is none nobody does."""
    if not sys.stdin.isatty():
        return False
    print(f"{text[:1].upper()}{text[1:]}.")
    return input("Install it now? [y/N] ").strip().lower() in ("y", "yes")


def _join_real(demo: Demo, feeds: str, besides: ExitStack) -> None:
    print("The real sites are set up; the first time this takes about a minute.")
    with Windbreak(demo.address, demo.token("demo set-up")) as windbreak:
        started, lines = real_fleet.join(windbreak, demo.data / "real", feeds)
        for site in started:
            besides.callback(site.stop)
        for token in windbreak.tokens():
            if token.label == "demo set-up":
                windbreak.revoke_token(token.id)
    for line in lines:
        print(f"  {line}")


def _greet(demo: Demo) -> None:
    print(f"\nWindbreak serves the demo fleet at {demo.address}")
    print(f"  console, within 30 min: {demo.link()}")
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


def _ended(process: subprocess.Popen[bytes]) -> None:
    """Wait for a process that was told to end, and let go of its input."""
    process.wait()
    if process.stdin is not None:
        process.stdin.close()
