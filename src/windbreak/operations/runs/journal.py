"""The journal of a run: what it meant to do and did, so that it can be taken up after a crash.

Every act has a name that is its own within the run. An act is written as *meant* before and as
*done* or *failed* after; when a run is taken up again it goes through the same acts, and those
that ended are not done again but answered from here.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable
from typing import Any, TypeVar

from windbreak.core.values.runs import EntryState, JournalEntry
from windbreak.links.adapter import Agent
from windbreak.links.errors import CallFailed, Unreachable
from windbreak.operations.context import Context

_PATIENCE = 90.0  # seconds until an agent that does not answer is given up
_BETWEEN = 0.5


T = TypeVar("T")


class StepFailed(Exception):
    """An act of a run could not be done; ``code`` is a fixed failure code."""

    def __init__(self, code: str, text: str) -> None:
        self.code = code
        super().__init__(text)


class Journal:
    """The journal of one run."""

    def __init__(self, context: Context, run: int, agent: Agent) -> None:
        self.context, self.run, self.agent = context, run, agent
        self.entries: dict[tuple[str, EntryState], JournalEntry] = {}
        for entry in context.store.journal.all(run=run):
            self.entries[entry.act, entry.state] = entry

    def write(
        self,
        act: str,
        state: EntryState,
        *,
        step: int | None = None,
        text: str = "",
        change: str | None = None,
        detail: dict[str, Any] | None = None,
    ) -> JournalEntry:
        """Write a line. Writes, before anything is done that depends on it."""
        context = self.context
        now = context.clock()
        with context.store.transaction():
            entry = context.store.journal.add(
                JournalEntry(
                    id=0,
                    run=self.run,
                    at=now,
                    step=step,
                    act=act,
                    state=state,
                    change=change,
                    text=text,
                    detail=detail or {},
                )
            )
            context.store.runs.change(self.run, last_sign_at=now)
        self.entries[act, state] = entry
        context.tell("run", str(self.run), f"{act}: {text}" if text else act)
        return entry

    def done(self, act: str) -> dict[str, Any] | None:
        """What an act brought, when it ended well. Raises StepFailed when it failed."""
        ended = self.entries.get((act, "done"))
        if ended is not None:
            return ended.detail
        failed = self.entries.get((act, "failed"))
        if failed is not None:
            raise StepFailed(str(failed.detail.get("code", "unknown")), failed.text)
        return None

    def once(
        self,
        act: str,
        do: Callable[[], dict[str, Any]],
        *,
        step: int | None = None,
        text: Callable[[dict[str, Any]], str] = lambda detail: "",
    ) -> dict[str, Any]:
        """Do something that changes nothing on the site, and remember what it brought."""
        known = self.done(act)
        if known is not None:
            return known
        detail = do()
        self.write(act, "done", step=step, text=text(detail), detail=detail)
        return detail

    def ask(self, question: Callable[[], T]) -> T:
        """Ask the agent something, again while no answer comes. Raises Unreachable in the end."""
        until = time.monotonic() + _PATIENCE
        while True:
            try:
                return question()
            except Unreachable:
                if time.monotonic() > until:
                    raise
                time.sleep(_BETWEEN)

    def fail(self, act: str, code: str, text: str, *, step: int | None = None) -> StepFailed:
        self.write(act, "failed", step=step, text=text, detail={"code": code})
        return StepFailed(code, text)

    def change(
        self,
        act: str,
        do: Callable[[str], dict[str, Any]],
        *,
        step: int | None = None,
        text: str = "",
    ) -> dict[str, Any]:
        """Change something on the site, once. ``do`` is given the change id. Raises StepFailed."""
        known = self.done(act)
        if known is not None:
            return known
        meant = self.entries.get((act, "meant"))
        resumed = meant is not None
        if meant is None:
            change = f"c-{self.run}-{secrets.token_hex(5)}"
            meant = self.write(act, "meant", step=step, text=text, change=change)
        assert meant.change is not None  # written with one, just above or before a crash
        try:
            detail = self._carry_out(meant.change, do, ask_first=resumed)
        except CallFailed as error:
            raise self.fail(act, error.failure, str(error), step=step) from error
        except Unreachable as error:
            raise self.fail(act, "timed-out", str(error), step=step) from error
        self.write(act, "done", step=step, text=text, change=meant.change, detail=detail)
        return detail

    def _carry_out(
        self, change: str, do: Callable[[str], dict[str, Any]], *, ask_first: bool
    ) -> dict[str, Any]:
        """Do a change, asking the agent what became of it wherever that is not certain.

        Known remedies: where no answer came, ask for the change's state and wait; where the site
        is busy, wait.
        """
        until = time.monotonic() + _PATIENCE
        asking = ask_first
        while True:
            try:
                if asking:
                    found = self.agent.change(change)
                    if found.state == "done":
                        return found.result
                    if found.state == "failed":
                        raise CallFailed(found.code or "unknown", found.detail)
                    if found.state == "unknown":
                        return do(change)  # it never arrived: the id is still unused
                else:
                    return do(change)
            except Unreachable:
                if time.monotonic() > until:
                    raise
                asking = True
            except CallFailed as error:
                if error.failure != "busy" or time.monotonic() > until:
                    raise
            if time.monotonic() > until:
                raise Unreachable("the change is under way for longer than it may take")
            self.context.store.runs.change(self.run, last_sign_at=self.context.clock())
            time.sleep(_BETWEEN)
