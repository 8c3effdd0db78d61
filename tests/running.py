"""A whole demo, stand-ins and service as processes of their own, for tests to use."""

from __future__ import annotations

import sqlite3
import tempfile
import tomllib
import unittest
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import ClassVar

import httpx

from windbreak.client import Windbreak
from windbreak.documents.runs import RunStory
from windbreak.operations.administration import clocks
from windbreak.standins import faults
from windbreak.standins.demo import Demo, set_up

PATIENCE = 60.0


def by_day(demo: Demo) -> None:
    """Put a demo's clock to the early afternoon of today, when no window of its fleet is open and
    none opens for hours: nothing begins by itself while a test looks on."""
    now = datetime.now(UTC)
    demo.data.mkdir(parents=True, exist_ok=True)
    clocks.put_ahead(demo.clock, now.replace(hour=13, minute=0) - now)


class WithDemo(unittest.TestCase):
    """Tests over one running demo, started once for the class."""

    demo: ClassVar[Demo]
    where: ClassVar[dict[str, str]]
    windbreak: ClassVar[Windbreak]
    token: ClassVar[str]
    whole: ClassVar[bool] = True  # with the fleet set up
    few: ClassVar[bool] = True  # five sites of it

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        cls.addClassCleanup(folder.cleanup)
        cls.demo = Demo(Path(folder.name), few=cls.few)
        cls.addClassCleanup(cls.demo.stop)
        by_day(cls.demo)
        cls.where = cls.demo.start_standins()
        cls.demo.start_service()
        cls.token = cls.demo.token("tests")
        cls.windbreak = Windbreak(cls.demo.address, cls.token)
        cls.addClassCleanup(cls.windbreak.close)
        if cls.whole:
            set_up(cls.demo, cls.where)

    def http(self, method: str, path: str, **more: object) -> httpx.Response:
        """A plain request to the API, with the token unless headers are given."""
        headers = more.pop("headers", {"authorization": f"Bearer {self.token}"})
        return httpx.request(
            method,
            f"{self.demo.address}/api/v1{path}",
            headers=headers,  # type: ignore[arg-type]
            trust_env=False,
            timeout=30,
            **more,  # type: ignore[arg-type]
        )

    def now(self) -> datetime:
        """The time by the demo's clock."""
        return clocks.shifted(self.demo.clock)()

    def folder(self, site: str) -> Path:
        return self.demo.standins_folder / site / "site"

    def version(self, site: str, path: str) -> str:
        """The version in a component's own header file on a site."""
        header = tomllib.loads((self.folder(site) / path / "component.toml").read_text())
        return str(header["version"])

    def setting(self, site: str, name: str) -> str:
        with closing(sqlite3.connect(self.folder(site) / "site.db")) as db:
            return str(db.execute("SELECT value FROM settings WHERE name=?", (name,)).fetchone()[0])

    def applied(self, site: str) -> list[str]:
        """The change ids of the applies that the site's agent has done."""
        with closing(sqlite3.connect(self.folder(site).parent / "agent/agent.db")) as db:
            rows = db.execute("SELECT id FROM act WHERE call='apply' AND state='done'")
            return [str(row[0]) for row in rows]

    def slow(self, site: str, **seconds: float) -> None:
        """Let an agent's calls take longer by so many seconds."""
        told = self.folder(site).parent / "agent/faults.json"
        faults.put(told, {"slow": seconds})
        self.addCleanup(told.unlink, missing_ok=True)

    def begin(self, site: str) -> int:
        """Draft, approve and begin a run; its number."""
        plan = self.windbreak.draft_plan(site)
        self.windbreak.approve_plan(plan.id, "a test")
        return self.windbreak.run_plan(plan.id, outside_window=True).id

    def ended(self, run: int) -> RunStory:
        return self.windbreak.wait(run, timeout=PATIENCE)
