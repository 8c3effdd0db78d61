"""A context of a service within the test's own process, the stand-ins beside it."""

from __future__ import annotations

import asyncio
import tempfile
import threading
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import ClassVar

import httpx

from windbreak.core.values.accounts import Principal
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.findings import Finding
from windbreak.core.values.licences import NewLicence, NewSeat
from windbreak.core.values.plans import ApprovePlan, SitePlan
from windbreak.core.values.products import ProductChange
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Host, NewSite
from windbreak.operations.administration import accounts
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.findings import findings
from windbreak.operations.licensing import licensing
from windbreak.operations.planning import planning
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import approving
from windbreak.operations.sites import sites
from windbreak.operations.tracking import catalogue as catalogue_of
from windbreak.operations.tracking import feeds, polling, recipes
from windbreak.operations.views import projector
from windbreak.standins import catalogue, server
from windbreak.standins.demo import Demo
from windbreak.standins.feeds import GANTRY_KEY, TOKEN
from windbreak.standins.fleet import HOSTS, SITES

RHONA = Principal(account="rhona", name="Rhona Vale", via="token")
SOAK = {"major": 7, "minor": 2, "patch": 1, "security": 0}


def catch_up(context: Context) -> None:
    """Bring the views to what is committed, and to the clock's day and hour, as the driver does."""
    now = context.clock()
    for name, value in (("day", now.date().isoformat()), ("hour", f"{now:%Y-%m-%dT%H}")):
        if context.store.facts.get(name) != value:
            context.store.facts.set(name, value)
    projector.catch_up(context)


def projected(context: Context) -> set[str]:
    """The sites whose rows the projector makes anew now."""
    one = projector.Projector(context)
    found: set[str] = set()
    while one.project():
        assert one.last is not None
        found |= one.last.rows
    return found


def look_again(context: Context) -> list[Finding]:
    """The open findings, everything having been looked at again."""
    catch_up(context)
    return findings.listed(context)


class Here(Demo):
    """The stand-ins of a demo in a thread of the tests' own process: as real, and there at once."""

    def _start(self, name: str, module: str, *args: str) -> None:
        self.loop, self.stopped = asyncio.new_event_loop(), asyncio.Event()
        serving = server.serve(self.standins_folder, self.sites, self.stopped)
        self.thread = threading.Thread(target=self.loop.run_until_complete, args=[serving])
        self.thread.start()

    def _alive(self, name: str) -> None:
        assert self.thread.is_alive(), "the stand-ins did not start"

    def stop(self) -> None:
        self.loop.call_soon_threadsafe(self.stopped.set)
        self.thread.join(30)
        self.loop.close()


class WithContext(unittest.TestCase):
    """Tests over a context with the demo fleet; ``later`` moves its clock on."""

    demo: ClassVar[Demo]
    where: ClassVar[dict[str, str]]

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        cls.addClassCleanup(folder.cleanup)
        cls.demo = Here(Path(folder.name), few=True)
        cls.addClassCleanup(cls.demo.stop)
        cls.where = cls.demo.start_standins()

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        self.context: Context = open_context(
            Path(folder.name), soak=SOAK, private_networks="127.0.0.0/8"
        )
        self.addCleanup(close, self.context)
        self.later = timedelta()
        self.context.clock = lambda: datetime.now(UTC) + self.later
        accounts.ensure_account(self.context, "rhona", "Rhona Vale")

    def feeds(self) -> None:
        base = self.where["feeds"]
        for id, more in (
            ("commons", {}),
            ("chandlery", {"sign_in": "bearer", "credential": TOKEN}),
        ):
            fields = {"id": id, "label": id.title(), "url": f"{base}/{id}/releases.json", **more}
            feeds.register(self.context, NewFeed.model_validate(fields), RHONA)
            polling.poll(self.context, id)
        text = (Path(catalogue.__file__).parent / "gantry.toml").read_text()
        text = text.replace("http://gantry.example", base)
        recipes.put_recipe(self.context, "gantry", text, RHONA)
        gantry = {
            "id": "gantry",
            "label": "Gantry House",
            "kind": "recipe",
            "url": f"{base}/gantry/api/builds",
            "sign_in": "header",
            "sign_in_name": "X-Gantry-Key",
            "credential": GANTRY_KEY,
            "reading": {"recipe": "gantry"},
        }
        feeds.register(self.context, NewFeed.model_validate(gantry), RHONA)
        polling.poll(self.context, "gantry")
        netloft = {
            "id": "netloft",
            "label": "Netloft",
            "kind": "atom",
            "url": f"{base}/netloft/news.atom",
            "reading": {"product": "plugin/netloft"},
        }
        feeds.register(self.context, NewFeed.model_validate(netloft), RHONA)
        polling.poll(self.context, "netloft")
        keel = ("theme/breakwater", "plugin/breakwater-keel")
        licence = {
            "id": "breakwater",
            "label": "Breakwater 5",
            "form": "per-site code",
            "products": keel,
            "seats": 6,
        }
        licensing.add(self.context, NewLicence.model_validate(licence), RHONA)
        major = ProductChange(major_place=2)
        catalogue_of.change_product(self.context, "core/millrace", major, RHONA)

    def site(self, slug: str, *, host: bool = True) -> None:
        """Register, link and refresh a site of the demo fleet."""
        demo = next(s for s in SITES if s.slug == slug)
        if host:
            fields = HOSTS[demo.host]
            sites.put_host(self.context, Host.model_validate({"id": demo.host, **fields}), RHONA)
        new = NewSite.model_validate(
            {
                "label": demo.label,
                "address": self.where[slug],
                "client": demo.client,
                "host": demo.host if host else None,
                "environment": demo.environment,
                "twin_of": demo.twin_of,
            }
        )
        sites.register(self.context, new, RHONA, slug)
        line = sites.link_line(self.context, slug, RHONA).line
        pasted = httpx.post(
            f"{self.where[slug]}/owner/link", data={"line": line}, trust_env=False, timeout=20
        )
        pasted.raise_for_status()
        sites.link(self.context, slug, RHONA)
        sites.refresh(self.context, slug)
        for licence, code in demo.seats.items():
            if self.context.store.licences.find(licence):
                seat = NewSeat.model_validate({"site": slug, "code": code or None})
                licensing.seat(self.context, licence, seat, RHONA)

    def approved(self, slug: str) -> SitePlan:
        plan = planning.draft(self.context, slug)
        return approving.approve(self.context, plan.id, ApprovePlan(why="a test"), RHONA)

    def carried_out(self, plan: SitePlan) -> Run:
        run = runs.start(self.context, plan.id, RHONA.name)
        return runs.carry_out(self.context, run.id)
