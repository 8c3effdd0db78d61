"""What a tour sees for itself: into folders, at pages, at the agent's record of changes."""

from __future__ import annotations

import shutil
import sqlite3
import sys
import tempfile
import time
import tomllib
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import httpx

from windbreak.client import Problem, Windbreak
from windbreak.core.values.sites import Window
from windbreak.documents.runs import RunStory
from windbreak.standins.demo import Demo

_PATIENCE = 120.0
ALL_DAY = [Window(start="00:00", end="24:00")]  # a tour does not wait for a window


class NotSeen(Exception):
    """A stage did not happen as it was told it would."""


def played(data: Path | None, prefix: str, play: Callable[[Path], None]) -> int:
    """Play a tour in a folder, or in one of its own that goes with it; the exit status."""
    folder = (data or Path(tempfile.mkdtemp(prefix=prefix))).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    try:
        play(folder)
    except (NotSeen, Problem, RuntimeError, httpx.HTTPError, TimeoutError, OSError) as error:
        print(f"\nThe tour stops: {error}", file=sys.stderr)
        print(f"What it left lies in {folder}", file=sys.stderr)
        return 1
    if data is None:
        shutil.rmtree(folder, ignore_errors=True)
    print("\nEvery stage was seen to happen.")
    return 0


class Seeing:
    """Stages that are told and seen to happen, on one demo."""

    def __init__(self, demo: Demo, where: dict[str, str]) -> None:
        self.demo, self.where = demo, where
        self.windbreak = Windbreak(demo.address, demo.token("tour"))
        self.number = 0

    def head(self, text: str) -> None:
        self.number += 1
        print(f"\n{self.number}  {text}", flush=True)

    def tell(self, text: str) -> None:
        print(f"   {text}", flush=True)

    def see(self, what: str, seen: bool) -> None:
        """Tell what was seen, or end the tour. Raises NotSeen."""
        if not seen:
            raise NotSeen(f"this was to be seen, and was not: {what}")
        print(f"   seen: {what}", flush=True)

    # What lies on the sites, looked at without the service.

    def folder(self, site: str) -> Path:
        return self.demo.standins_folder / site / "site"

    def version(self, site: str, path: str) -> str:
        header = tomllib.loads((self.folder(site) / path / "component.toml").read_text())
        return str(header["version"])

    def page(self, site: str, path: str = "/") -> httpx.Response:
        return httpx.get(f"{self.where[site]}{path}", trust_env=False, timeout=20)

    def changes(self, site: str, call: str) -> list[str]:
        database = self.demo.standins_folder / site / "agent" / "agent.db"
        with closing(sqlite3.connect(database)) as connection:
            rows = connection.execute(
                "SELECT id FROM act WHERE call = ? AND state = 'done'", (call,)
            )
            return [str(row[0]) for row in rows]

    def setting(self, site: str, name: str) -> str:
        with closing(sqlite3.connect(self.folder(site) / "site.db")) as connection:
            row = connection.execute("SELECT value FROM settings WHERE name = ?", (name,))
            return str(row.fetchone()[0])

    def until(self, what: str, happened: Callable[[], bool]) -> None:
        until = time.monotonic() + _PATIENCE
        while not happened():
            if time.monotonic() > until:
                raise NotSeen(f"{what}, within {_PATIENCE:.0f} seconds")
            time.sleep(0.2)

    def approved(self, site: str, why: str) -> int:
        plan = self.windbreak.draft_plan(site)
        self.windbreak.approve_plan(plan.id, why)
        return plan.id

    def ended(self, run: int) -> RunStory:
        return self.windbreak.wait(run, timeout=_PATIENCE)
