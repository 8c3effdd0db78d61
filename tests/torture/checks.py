"""What must hold after a bad night, site by site, read from the disks and from the service."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import closing
from pathlib import Path

from windbreak.client import Windbreak
from windbreak.documents.runs import JournalLine, RunStory
from windbreak.standins.demo import Demo
from windbreak.standins.millrace import MillraceSite

_ENDED = ("done", "put back", "restored", "stopped", "alarm", "waiting")


class Checks:
    """The checks after one round of runs."""

    def __init__(
        self, demo: Demo, windbreak: Windbreak, pristine: Path, runs: Mapping[str, int]
    ) -> None:
        self.demo, self.windbreak, self.pristine, self.runs = demo, windbreak, pristine, runs

    def all(self) -> list[str]:
        wrong = list(self._database())
        for site, run in self.runs.items():
            story = self.windbreak.run(run)
            label = f"{site}, run {run} ({story.run.state})"
            for check in (self._ended, self._state, self._changes, self._debts, self._written):
                wrong += [f"{label}: {text}" for text in check(site, story)]
        return wrong

    def _database(self) -> Iterator[str]:
        """The database is whole."""
        with closing(sqlite3.connect(self.demo.service_folder / "windbreak.db")) as db:
            told = db.execute("PRAGMA integrity_check").fetchone()[0]
            broken = db.execute("PRAGMA foreign_key_check").fetchall()
        if told != "ok" or broken:
            yield f"the database is not whole: {told} {broken[:3]}"

    def _ended(self, site: str, story: RunStory) -> Iterator[str]:
        if story.run.state not in _ENDED:
            yield f"it has not ended: {story.run.text} {story.run.waiting}"

    def _place(self, site: str) -> MillraceSite:
        return MillraceSite(self.demo.standins_folder / site / "site")

    def _state(self, site: str, story: RunStory) -> Iterator[str]:
        """The site is as some number of its plan's steps leave it; all of them where it is done."""
        there = {c.product: c.version for c in self._place(site).components()}
        there |= self._place(site).runtime()
        plan = self.windbreak.plan(story.run.plan)
        allowed, now = [], dict(plan.start)
        allowed.append(dict(now))
        for step in plan.plan.steps:
            now |= {move.product: move.to for move in step.moves}
            allowed.append(dict(now))
        if story.run.surprises:
            return  # it was planned anew, which says so
        if story.run.state == "done":
            allowed = allowed[-1:]
        elif story.run.state == "restored":
            allowed = allowed[:1]
        elif story.run.state == "alarm" and story.matter and story.matter.closed_at is None:
            return  # a person decides, and the page says what is there
        if there not in allowed:
            nearest = min(allowed, key=lambda one: len(set(one.items()) ^ set(there.items())))
            differs = sorted(set(nearest.items()) ^ set(there.items()))
            yield f"it is in no state that its plan allows: {differs}; {story.run.text}"

    def _changes(self, site: str, story: RunStory) -> Iterator[str]:
        """Every change was done once: what the agent did is what the journal says."""
        with closing(sqlite3.connect(self.demo.standins_folder / site / "agent/agent.db")) as db:
            rows = db.execute(
                "SELECT id, call, state FROM act WHERE id LIKE ?", (f"c-{story.run.id}-%",)
            ).fetchall()
        agent = {id: (call, state) for id, call, state in rows}
        meant = [e for e in story.journal if e.state == "meant" and e.change]
        ids = [e.change for e in meant]
        if len(ids) != len(set(ids)):
            yield "a change id stands twice in the journal"
        unknown = set(agent) - set(ids)
        if unknown:
            yield f"the agent did what the journal does not know: {sorted(unknown)}"
        for entry in story.journal:
            if entry.state == "done" and entry.change:
                state = agent.get(entry.change, ("", "never met"))[1]
                if state != "done":
                    yield f"{entry.act} is done by the journal, and {state} by the agent"
        done = [e for e in story.journal if e.state == "done" and e.kind == "apply"]
        applied = [(e.step, e.product, e.turn) for e in done]
        twice = {act for act in applied if applied.count(act) > 1}
        if twice:
            yield f"done twice: {sorted(twice)}"

    def _debts(self, site: str, story: RunStory) -> Iterator[str]:
        """Nothing is owed that could be paid, and the site's own settings say so."""
        open_ = story.matter is not None and story.matter.closed_at is None
        owed = self.windbreak.debts(site)
        if owed and not (open_ and all(debt.kind == "page" for debt in owed)):
            yield f"still owed: {[f'{d.kind} {d.name} {d.tries}' for d in owed]}"
        place = self._place(site)
        was = MillraceSite(self.pristine / site)
        names = ["automatic_updates", "caches"]
        for name in names:
            if place.setting(name) != was.setting(name):
                yield f"{name} is {place.setting(name)!r}, it was {was.setting(name)!r}"
        for component in was.components():
            name = f"on:{component.product}"
            if component.kind == "plugin" and place.setting(name) != was.setting(name):
                yield f"{name} is {place.setting(name)!r}, it was {was.setting(name)!r}"
        if place.maintenance.exists() and not open_:
            yield "its maintenance page is up, and no matter is open"

    def _written(self, site: str, story: RunStory) -> Iterator[str]:
        """Ledger and journal are complete."""
        lines = [e.what for e in self.windbreak.ledger(site, limit=200)]
        label = f"run {story.run.id} "
        if not any(line.startswith(f"{label}of plan") for line in lines):
            yield "the ledger does not say that it was begun"
        ends = [line for line in lines if line.startswith(f"run {story.run.id}")]
        if story.run.state in _ENDED and len(ends) < 2:
            yield f"the ledger does not say how it ended: {ends}"
        ended = {e.change for e in story.journal if e.state == "done"}
        ended |= {_act(e) for e in story.journal if e.state == "failed"}
        for entry in story.journal:
            if entry.state == "meant" and entry.change and not {entry.change, _act(entry)} & ended:
                yield f"{entry.act} was meant, and the journal does not say what came of it"


def _act(line: JournalLine) -> tuple[object, ...]:
    """What tells an act of a journal apart."""
    return line.kind, line.step, line.product, line.name, line.leg, line.turn
