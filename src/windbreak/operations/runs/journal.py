"""The journal of a run: what it meant to do and did, so that it can be taken up after a crash.

An act is written as *meant* before and as *done* or *failed* after; when a run is taken up again
it goes through the same acts, and those that ended are not done again but answered from here.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from typing import Any, TypeVar

from windbreak.core.values import journal as acts
from windbreak.core.values.basics import Value
from windbreak.core.values.journal import ActKind, EntryState, JournalEntry, Nothing, RunAct
from windbreak.core.values.runs import Meanwhile, Pace, Run
from windbreak.links import signing
from windbreak.links.adapter import Agent, ChangeState
from windbreak.links.errors import CallFailed, LinkError, Superseded, UnderWay
from windbreak.links.probing import look_at
from windbreak.links.visiting import Visiting
from windbreak.operations.context import Context
from windbreak.operations.runs import lengths
from windbreak.wording.journal import act_label

_PATIENCE = 90.0  # seconds of silence from which a run is told to wait for its site
_BETWEEN = 0.5
_SENDINGS = 6  # of a change that never arrives, though what became of it is answered
_SIGNED = signing.OLDEST.total_seconds()  # for which an agent takes a call that was sent
_RUNS_OUT = (
    "given up; its agent has no call that makes a change void, so the run waits until it takes "
    "none of what was sent"
)
_LONGEST = 15.0  # seconds between two asks, when the silence is long
_PAGES = 60.0  # seconds between two looks at the pages meanwhile
_SIGNS = 60  # how many signs of life, asks and looks are kept
NOT_WAITING: dict[str, Any] = {
    "waiting_since": None,
    "waiting": "",
    "asked": (),
    "ask_at": None,
    "meanwhile": (),
}
"""The fields of a run that does not wait for its site."""


T = TypeVar("T")
D = TypeVar("D", bound=Value)


class StepFailed(Exception):
    """An act of a run could not be done; ``code`` is a fixed failure code."""

    def __init__(self, code: str, text: str) -> None:
        self.code = code
        super().__init__(text)


class Journal:
    """The journal of one run."""

    def __init__(self, context: Context, run: int, agent: Agent, names: Mapping[str, str]) -> None:
        self.context, self.run, self.agent, self.names = context, run, agent, names
        self._on_its_way: dict[str, float] = {}  # changes sent and not heard of since, by when
        self._entries: dict[tuple[RunAct[Any], EntryState], JournalEntry] = {}
        for entry in context.store.journal.all(run=run):
            self._entries[entry.act, entry.state] = entry

    # Reading.

    def entry(self, act: RunAct[Any], state: EntryState) -> JournalEntry | None:
        """The newest line of an act in a state."""
        return self._entries.get((act, state))

    def has(self, act: RunAct[Any], state: EntryState) -> bool:
        return (act, state) in self._entries

    def of_kind(self, kind: ActKind, state: EntryState) -> list[JournalEntry]:
        """The lines of all acts of a kind in a state, oldest first."""
        lines = [e for e in self._entries.values() if (e.kind, e.state) == (kind, state)]
        return sorted(lines, key=lambda entry: entry.id)

    @property
    def every(self) -> list[JournalEntry]:
        """The newest line of each act in each state, oldest first."""
        return sorted(self._entries.values(), key=lambda entry: entry.id)

    @property
    def leg(self) -> int:
        """Which leg of the run this is: each errand that kept it begins another."""
        return 1 + len(self.of_kind(ActKind.WAITS_FOR_ERRAND, "noted"))

    @property
    def changes(self) -> bool:
        """Whether anything was to be changed on the site yet."""
        return any(state == "meant" for _, state in self._entries)

    def code(self, act: RunAct[Any]) -> str | None:
        """With which code an act failed; None where it did not."""
        failed = self.entry(act, "failed")
        return None if failed is None else failed.code or "unknown"

    def brought(self, act: RunAct[D]) -> D | None:
        """What an act brought that is done; None where it is not."""
        ended = self.entry(act, "done")
        return None if ended is None else act.brought_by(ended)

    def done(self, act: RunAct[D]) -> D | None:
        """What an act brought, when it ended well. Raises StepFailed when it failed."""
        brought, failed = self.brought(act), self.entry(act, "failed")
        if brought is None and failed is not None:
            raise StepFailed(failed.code or "unknown", failed.text)
        return brought

    # Writing.

    def write(
        self,
        act: RunAct[Any],
        state: EntryState,
        *,
        text: str = "",
        change: str | None = None,
        code: str | None = None,
        detail: Value | None = None,
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
                    kind=act.kind,
                    step=act.step,
                    product=act.product,
                    name=act.name,
                    leg=act.leg,
                    turn=act.turn,
                    state=state,
                    change=change,
                    code=code,
                    text=text,
                    detail=detail or Nothing(),
                )
            )
            context.store.runs.change(self.run, last_sign_at=now, pace="usual", progress="")
            label = act_label(act, self.names)
            context.note("run", str(self.run), f"{label}: {text}" if text else label)
        context.wake()
        self._entries[act, state] = entry
        return entry

    def once(self, act: RunAct[D], do: Callable[[], D], *, text: Callable[[D], str]) -> D:
        """Do something that changes nothing on the site, and remember what it brought, in words
        too.
        """
        brought = self.done(act)
        if brought is not None:
            return brought
        detail = do()
        self.write(act, "done", text=text(detail), detail=detail)
        return detail

    def ask(self, question: Callable[[], T]) -> T:
        """Ask the agent until it answers: unreachable is not failed. Raises CallFailed, and other
        LinkErrors while nothing was changed.
        """
        silence = _Silence(self)
        while True:
            try:
                answer = question()
            except CallFailed:
                silence.over()
                raise
            except LinkError as error:
                silence.goes_on(error)
            else:
                silence.over()
                return answer

    def note(self, act: RunAct[Any], text: str) -> None:
        """Write down what is neither an act nor its end, once."""
        if not self.has(act, "noted"):
            self.write(act, "noted", text=text)

    def fail(self, act: RunAct[Any], code: str, text: str) -> StepFailed:
        self.write(act, "failed", text=text, code=code)
        return StepFailed(code, text)

    def change(self, act: RunAct[D], do: Callable[[str], dict[str, Any]], *, text: str = "") -> D:
        """Change something on the site, once. ``do`` is given the change id. Raises StepFailed."""
        brought = self.done(act)
        if brought is not None:
            return brought
        meant = self.entry(act, "meant")
        resumed = meant is not None
        if meant is None:
            change = f"c-{self.run}-{secrets.token_hex(5)}"
            meant = self.write(act, "meant", text=text, change=change)
        assert meant.change is not None  # written with one, just above or before a crash
        try:
            answer = self._carry_out(act, meant.change, do, ask_first=resumed)
        except Superseded:
            raise
        except CallFailed as error:
            became = self._made_void(act, meant.change)
            if became is None or became.state != "done":
                raise self.fail(act, error.failure, str(error)) from error
            answer = became.result
        try:
            detail = act.detail(answer)
        except ValueError as error:
            raise self.fail(act, "unknown", f"its answer is not understood: {error}") from error
        self.write(act, "done", text=text, change=meant.change, detail=detail)
        return detail

    def _carry_out(
        self, act: RunAct[Any], change: str, do: Callable[[str], dict[str, Any]], *, ask_first: bool
    ) -> dict[str, Any]:
        """Do a change, asking the agent what became of it wherever that is not certain.

        Where no answer came, or it says that it took too long, the change's state is asked for
        until there is one, however long that takes. Where the site is busy, or the change under
        way, it is waited for.
        """
        until = time.monotonic() + _PATIENCE
        asking, silence, follows = ask_first, _Silence(self), _Following(self, act)
        sent, why = 0, ""
        if ask_first:  # whoever sent it before is not heard of any more
            self._on_its_way[change] = time.monotonic()
        while True:
            try:
                if not asking:
                    sent += 1
                    return do(change)
                became = self.agent.change(change)
                silence.over()
                if became.state != "unknown":
                    self._on_its_way.pop(change, None)
                if became.state == "void":
                    raise CallFailed("unknown", "it was given up before it was begun")
                if became.state == "done":
                    return became.result
                if became.state == "failed":
                    raise CallFailed(became.code or "unknown", became.detail)
                if became.state == "unknown":
                    if sent >= _SENDINGS:
                        lost = f"it was sent {sent} times and never arrived: {why}"
                        raise CallFailed("unknown", lost)
                    time.sleep(_BETWEEN * (2**sent - 1 if sent else 0))
                    asking = False  # the id is still unused
                    continue
                follows.on(became)
            except Superseded:
                raise
            except UnderWay:
                self._on_its_way.pop(change, None)
                asking = True
            except CallFailed as error:
                if error.failure == "timed-out" and not asking:
                    self.note(
                        act.about(ActKind.STATE_ASKED),
                        "it says that it took too long: its state is asked",
                    )
                    asking = True
                    continue
                if error.failure != "busy" or time.monotonic() > until:
                    raise
            except LinkError as error:
                why = str(error)
                if not asking:
                    self._on_its_way[change] = time.monotonic()
                silence.goes_on(error)
                asking = True
                continue
            time.sleep(_BETWEEN)

    def _made_void(self, act: RunAct[Any], change: str) -> ChangeState | None:
        """Have a change that is given up never be done, where a call of it may still be on its
        way; what became of it, None where nothing of it can still arrive. One that was begun after
        all is waited for.
        """
        sent = self._on_its_way.get(change)
        if sent is None:
            return None
        try:
            became = self.ask(lambda: self.agent.void(change))
        except Superseded:
            raise
        except CallFailed:  # it is too old for that: it takes no call whose signature has run out
            self.note(act.about(ActKind.GIVEN_UP), _RUNS_OUT)
            behind = max(0.0, -(self.agent.ahead or 0.0))
            time.sleep(max(0.0, sent + _SIGNED + behind - time.monotonic()))
            became = self.ask(lambda: self.agent.change(change))
        while became.state == "running":
            time.sleep(_BETWEEN)
            became = self.ask(lambda: self.agent.change(change))
        del self._on_its_way[change]
        return became


class _Following:
    """A change that is under way, followed by its signs of life: it is slow past its usual length
    while there are any, and stuck when there was none for three times that.
    """

    def __init__(self, journal: Journal, act: RunAct[Any]) -> None:
        self.journal, self.context = journal, journal.context
        usual = journal.brought(acts.usual_lengths())
        self.usual = lengths.of_act(usual.seconds if usual else {}, act.kind)
        self.began = self.alive = time.monotonic()
        self.sign: datetime | None = None
        self.pace: Pace = "usual"

    def on(self, became: ChangeState) -> None:
        """It is under way still. Writes what changed."""
        now, run = time.monotonic(), self.journal.run
        fields: dict[str, object] = {}
        if became.sign != self.sign:
            self.sign, self.alive = became.sign, now
            at = self.context.clock()
            signs = (*self.context.store.runs.get(run).signs, at)[-_SIGNS:]
            progress = f"{became.phase} {became.done} of {became.of}" if became.of else ""
            fields |= {"last_sign_at": at, "signs": signs, "progress": progress}
        pace: Pace = "usual"
        if now - self.alive > 3 * self.usual:
            pace = "stuck"
        elif now - self.began > self.usual:
            pace = "slow"
        if pace != self.pace:
            fields["pace"] = self.pace = pace
        if fields:
            self.context.store.runs.change(run, **fields)
            text = str(fields.get("progress") or pace)
            self.context.tell("run", str(run), text)


class _Silence:
    """The silence of a site in mid-run: told when it is long, and its pages looked at meanwhile."""

    def __init__(self, journal: Journal) -> None:
        self.journal, self.context = journal, journal.context
        self.began: float | None = None
        self._looked: float | None = None
        self._pause = _BETWEEN
        self._asked: list[datetime] = []
        self._looks: list[Meanwhile] = []

    def goes_on(self, error: LinkError) -> None:
        """No usable answer came; wait a while before the next ask. Raises the error where nothing
        was changed yet: such a run ends, and is begun another time.
        """
        now = time.monotonic()
        if self.began is None:
            self.began = now
        self._asked = [*self._asked, self.context.clock()][-_SIGNS:]
        if now - self.began >= _PATIENCE:
            if not self.journal.changes:
                raise error
            self._tell(error)
        # Whoever wants it asked now wakes it.
        with self.context.news:
            self.context.news.wait(self._pause)
        self._pause = min(self._pause * 1.5, _LONGEST)

    def _tell(self, error: LinkError) -> None:
        run = self.context.store.runs.get(self.journal.run)
        since = run.waiting_since or run.last_sign_at
        now = self.context.clock()
        if not self._looks:  # what was seen of this silence before a restart stays
            self._looks, self._asked = [*run.meanwhile], [*run.asked, *self._asked][-_SIGNS:]
        if self._looked is None or time.monotonic() - self._looked >= _PAGES:
            self._looked = time.monotonic()
            self._looks = [*self._looks, self._look(run)][-_SIGNS:]
        newest = self._looks[-1]
        pages = f"{newest.fine} of {newest.of} pages are as before the run"
        text = f"No answer of its agent since {since:%H:%M} UTC: {error}. {pages}."
        patience = self.context.patience_minutes
        if now - since >= timedelta(minutes=patience):
            text = f"For more than {patience} min: {text}"
        self.context.store.runs.change(
            run.id,
            waiting_since=since,
            waiting=text,
            asked=tuple(self._asked),
            ask_at=now + timedelta(seconds=self._pause),
            meanwhile=tuple(self._looks),
        )
        wording = "" if run.waiting == text else f"It waits for its site. {text}"
        if wording:
            self.context.tell("run", str(run.id), wording)

    def _look(self, run: Run) -> Meanwhile:
        """The pages of the baseline as a visitor meets them now."""
        site = self.context.store.sites.get(run.site)
        here = Visiting(self.context.http, site.address)
        before = self.journal.of_kind(ActKind.BASELINE, "done")
        looks = acts.baseline(1).brought_by(before[-1]).looks if before else ()
        pages = [look for look in looks if look.where]
        fine = 0
        for was in pages:
            look = look_at(here, was.name, was.where, past_caches=False)
            fine += look.status == was.status and bool(look.bytes) and not look.faults
        return Meanwhile(at=self.context.clock(), fine=fine, of=len(pages))

    def over(self) -> None:
        """It answers again."""
        if self.began is None:
            return
        self.began, self._looked, self._pause = None, None, _BETWEEN
        self._asked, self._looks = [], []
        run = self.context.store.runs.get(self.journal.run)
        if run.waiting_since is not None:
            now = self.context.clock()
            minutes = round((now - run.waiting_since).total_seconds() / 60)
            self.context.store.runs.change(run.id, last_sign_at=now, **NOT_WAITING)
            text = f"its site answers again, after {minutes} min"
            self.journal.write(acts.waited(run.step or None), "noted", text=text)
