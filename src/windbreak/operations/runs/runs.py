"""Runs: one plan carried out on one site, step by step, looked at after each, and put back.

Source: docs/runs.md. A run goes through the same acts whether it is begun or taken up after a
crash (see journal). Judged by reading back and by probes, never by a message.
"""

from __future__ import annotations

from functools import partial
from typing import Any

from windbreak.core.resolution.permit import permit
from windbreak.core.values.accounts import Principal
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.matters import Debt, DebtKind
from windbreak.core.values.packages import Package
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.runs import WENT_WRONG, Probe, Run, RunPhase, RunState, Seen
from windbreak.core.values.verdicts import PlannedStep
from windbreak.links.adapter import AgentLook
from windbreak.links.errors import LinkError, Superseded
from windbreak.links.probing import compare, look_at, probe, worse
from windbreak.operations.administration import instance, outward
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.runs import debts, matters, own_files
from windbreak.operations.runs.journal import Journal, StepFailed
from windbreak.operations.scheduling import rollouts
from windbreak.operations.sites import inventories, sites
from windbreak.operations.tracking import rights, shelving
from windbreak.store.errors import AlreadyThere
from windbreak.wording.answers import step_title
from windbreak.wording.permits import refusal_texts
from windbreak.wording.words import counted

LEAST_ROOM_MB = 200
_CLEARED = {"folder-exists": "leftover", "stale-record": "stale"}  # by the code that tells of it


def start(context: Context, plan: int, by: str, *, booking: int | None = None) -> Run:
    """Begin a run of an approved plan; the caller then has it carried out. Writes.

    Raises Refused when the plan is not approved, starts from what is no longer there, or the
    site is not linked, has a run already, or its host bears no more.
    """
    instance.must_drive(context)
    known = context.store.plans.get(plan)
    site = context.store.sites.get(known.site)
    if known.state != "approved":
        raise Refused("not-approved", f"plan {plan} is {known.state}; approve it first")
    sites.agent_for(context, known.site)  # refuses a site that is not linked
    rollouts.check_start(context, known)
    host = context.store.hosts.find(site.host) if site.host else None
    now = context.clock()
    with context.store.transaction():
        # Looked at inside: two starts at one instant would both find room.
        if host is not None and context.store.runs.running_on_host(host.id) >= host.at_once:
            raise Refused("host-busy", f"{host.name} bears {host.at_once} at once; wait for one")
        if context.store.plans.get(plan).state != "approved":
            raise Refused("not-approved", f"plan {plan} is no longer approved")
        try:
            run = context.store.runs.add(
                Run(
                    id=0,
                    plan=plan,
                    site=known.site,
                    state="running",
                    phase="before",
                    step=0,
                    steps=len(known.plan.steps),
                    text="It begins.",
                    started_at=now,
                    last_sign_at=now,
                    by=by,
                )
            )
        except AlreadyThere:
            raise Refused("site-busy", f"{site.label} has a run already") from None
        if booking is not None:
            context.store.bookings.change(booking, state="started")
        context.record(by, f"run {run.id} of plan {plan} begun", known.site)
    context.tell("run", str(run.id), "begun")
    return run


def ask_to_stop(context: Context, run: int, by: Principal) -> Run:
    """Ask a run to stop after the step it is at. Writes. Raises Refused when it has ended."""
    known = context.store.runs.get(run)
    if known.state != "running":
        raise Refused("ended", f"run {run} has ended: {known.state}")
    with context.store.transaction():
        changed = context.store.runs.change(run, stop_asked=True)
        context.record(by.name, f"run {run}: stop after this step asked", known.site)
    context.tell("run", str(run), "asked to stop after this step")
    return changed


def carry_out(context: Context, run: int) -> Run:
    """Carry a run out to its end, or take it up where it was. Writes.

    Never raises for what happens on the site: the run's state then says how it ended.
    """
    known = context.store.runs.get(run)
    if known.state != "running":
        return known
    return Runner(context, known).go()


class _Stopped(Exception):
    """The run ends early with nothing wrong on the site."""


class Runner:
    """One run, as it is carried out; the ways out of its matter use its acts."""

    def __init__(self, context: Context, run: Run) -> None:
        self.context = context
        self.run = run
        self.plan: SitePlan = context.store.plans.get(run.plan)
        self.site = context.store.sites.get(run.site)
        self.agent = sites.agent_for(context, run.site)
        self.journal = Journal(context, run.id, self.agent)
        self.alarmed = False
        self.names = {p.id: p.name for p in context.store.products.all()}

    def go(self) -> Run:
        try:
            self._before()
        except (LinkError, OperationError, StepFailed, _Stopped) as error:
            return self._end("stopped", f"Nothing was changed: {error}")
        state: RunState
        try:
            try:
                self._prepare()
                text = self._steps()
                state = "done"
            except _Stopped as error:
                state, text = "stopped", str(error)
            except Superseded:
                raise
            except (StepFailed, LinkError, OperationError) as error:
                state, text = self._go_back(error)
            text = self._after(state, text)
        except Superseded as error:
            # Another service drives the site: not a thing more is done here.
            return self._end("stopped", f"Another service has taken the site over ({error}).")
        return self._end("alarm" if self.alarmed else state, text)

    def title(self, number: int) -> str:
        """A step in words: "Netloft 1.6 → 1.9"."""
        return step_title(self.plan.plan.steps[number - 1], self.names)

    def _set(self, phase: RunPhase, step: int, text: str) -> None:
        self.context.store.runs.change(self.run.id, phase=phase, step=step, text=text)
        self.context.tell("run", str(self.run.id), text)

    def inventory(self) -> Inventory:
        now = self.context.clock()
        found = self.journal.ask(lambda: self.agent.inventory(self.site.id, now))
        with self.context.store.transaction():
            found = inventories.take_in(self.context, found, tried=True)
            self.context.store.sites.change(self.site.id, facts_at=found.at)
            debts.settle(self.context, found)
        return found

    def _probe(self) -> Probe:
        def ask() -> AgentLook:
            return self.journal.ask(self.agent.look)

        return probe(sites.visiting(self.context, self.site), ask, self.context.clock())

    # Before and prepare.

    def _before(self) -> None:
        self._set("before", 0, "Looking that nothing has changed.")
        if self.journal.done("inventory") is None:
            self._pay_first()
        found = self.journal.once("inventory", self._look_before, text=lambda d: d["text"])
        if found["changed"]:
            what = ", ".join(found["changed"])
            raise _Stopped(f"the site is not as it was planned from: {what} changed since.")
        if found["free_mb"] < LEAST_ROOM_MB:
            raise _Stopped(f"only {found['free_mb']} MB are free; {LEAST_ROOM_MB} are needed.")
        self.journal.once("own files", self._own_files, text=_own_text)
        self.journal.once(
            "baseline",
            lambda: self._probe().model_dump(mode="json"),
            text=lambda d: f"{len(d['looks'])} looks",
        )

    def _pay_first(self) -> None:
        """What an earlier run still owes is set back first: it is not how the site was."""
        if not debts.owed(self.context, self.site.id):
            return
        left = self.journal.ask(self.pay)
        if left:
            what = debts.in_words(left)
            raise _Stopped(f"an earlier run still owes {what}, and it can't be set back.")

    def pay(self, *but: DebtKind) -> list[Debt]:
        """Set back what is owed; what still is."""
        return debts.pay(self.context, self.agent, self.site.id, self.inventory, but=but)

    def owe(self, kind: DebtKind, *, was: bool, name: str = "") -> None:
        debts.owe(self.context, self.run, kind, was=was, name=name)

    def _own_files(self) -> dict[str, Any]:
        """The files of the site's own in what is moved: which are carried over, by product."""
        decided = self.plan.approval.changed_files if self.plan.approval else None
        every = self.journal.ask(
            lambda: own_files.check(self.context, self.agent, self.plan, decided)
        )
        return {
            "carry": {own.product: own.carried(decided) for own in every if own.known},
            "aside": {
                own.product: own.changed for own in every if own.changed and decided == "set-aside"
            },
            "unknown": [own.product for own in every if not own.known],
        }

    def _carry(self, product: str) -> tuple[str, ...]:
        """The files of a component that go with it into its next version."""
        return tuple((self.journal.done("own files") or {}).get("carry", {}).get(product, ()))

    def _look_before(self) -> dict[str, Any]:
        found = self.inventory()
        changed = self.plan.changed_since(found)
        return {
            "changed": changed,
            "free_mb": found.free_mb,
            "text": "as planned" if not changed else f"{len(changed)} products differ",
            "active": [c.product for c in found.components if c.active],
            "automatic_updates": found.automatic_updates,
            "caches": list(found.caches),
        }

    @property
    def recorded(self) -> dict[str, Any]:
        """What was on before the run: active components, automatic updates, caches."""
        return self.journal.done("inventory") or {}

    @property
    def baseline(self) -> Probe:
        return Probe.model_validate(self.journal.done("baseline"))

    def _prepare(self) -> None:
        self._set("prepare", 0, "Snapshot, automatic updates paused, caches off.")
        self.do("snapshot", "snapshot", "the whole site, read back")
        if self.recorded["automatic_updates"]:
            self.owe("updates", was=True)
            self.do("updates paused", "updates", "paused for the run", on=False)
        for cache in self.recorded["caches"]:
            self.owe("cache", was=True, name=cache)
            self.do(f"cache off {cache}", "caches", "off for the run", name=cache, on=False)

    def do(
        self, act: str, call: str, text: str, *, step: int | None = None, **args: object
    ) -> dict[str, Any]:
        return self.journal.change(
            act, lambda change: self.agent.do(call, change, **args), step=step, text=text
        )

    # The steps.

    def _steps(self) -> str:
        for number, step in enumerate(self.plan.plan.steps, start=1):
            begun = (f"step {number}", "meant") in self.journal.entries
            if not begun:
                if self.context.store.runs.get(self.run.id).stop_asked:
                    raise _Stopped(f"Stopped before step {number}, as asked.")
                self._still_allowed(number, step)
                self.journal.write(f"step {number}", "meant", step=number, text=self.title(number))
            self._set("steps", number, self.title(number))
            if self.journal.done(f"step {number}") is None:
                self._step(number, step)
                self._as_expected(number)
        return f"{counted(len(self.plan.plan.steps), 'step')} done, each looked at."

    def _still_allowed(self, number: int, step: PlannedStep) -> None:
        """What stands against a step now that did not when it was approved: the permit."""
        before = f"Stopped before step {number}"
        if not instance.may_drive(self.context):
            raise _Stopped(f"{before}: this service drives no site any more.")
        if not self.plan.approval or self.context.store.plans.get(self.plan.id).state != "approved":
            raise _Stopped(f"{before}: the plan is no longer approved.")
        inventory = self.context.store.inventories.get(self.site.id)
        ground = Ground.read(self.context)
        case = ground.case(self.context.store.sites.get(self.site.id), inventory)
        moves = [(move.product, move.to) for move in step.moves]
        asked = permit(case, ground.catalogue.compiled.beside(case), moves)
        against = list(refusal_texts(case, asked))
        if against:
            raise _Stopped(f"{before}: {' '.join(against)}")

    def _as_expected(self, number: int) -> None:
        """Whether all on the site is as the steps so far leave it; else other hands were here."""
        expected = dict(self.plan.start)
        for step in self.plan.plan.steps[:number]:
            expected |= {move.product: move.to for move in step.moves}
        found = self.context.store.inventories.get(self.site.id)
        there = {c.product: c.version for c in found.components}
        odd = [
            f"{self.names.get(p, p)} is {there.get(p, 'gone')} and should be {version}"
            for p, version in sorted(expected.items())
            if version is not None and there.get(p) != version
        ]
        if odd:
            raise _Stopped(f"Stopped after step {number}: other hands were here: {'; '.join(odd)}.")

    def _step(self, number: int, step: PlannedStep) -> None:
        combined = len(step.moves) > 1
        plugins = [
            m.product
            for m in step.moves
            if m.product.startswith("plugin/") and m.product in self.recorded["active"]
        ]
        packages = {}
        for move in step.moves:
            if not move.product.startswith("runtime/"):
                package = shelving.fetch_package(
                    self.context, move.product, move.to, self.run.site, lent=True
                )
                packages[move.product] = package
        if combined:
            self.owe("page", was=False)
            self.do(f"page up {number}", "maintenance", "maintenance page", step=number, on=True)
            for product in plugins:
                self.owe("plugin", was=True, name=product)
                self._switch(f"off {number} {product}", product, on=False, step=number)
        for move in step.moves:
            act = f"apply {number} {move.product}"
            text = f"{move.product} {move.from_ or 'absent'} to {move.to}"
            if move.product.startswith("runtime/"):
                args = {"product": move.product, "version": move.to}
                self.do(act, "runtime", text, step=number, **args)
                continue
            self._applied(act, packages[move.product], number, text)
        if combined:
            for product in plugins:
                self._switch(f"on {number} {product}", product, on=True, step=number)
        for move in step.moves:
            if move.from_ is None:
                self._switch(f"on {number} {move.product}", move.product, on=True, step=number)
        if combined:
            self.do(f"page down {number}", "maintenance", "page taken away", step=number, on=False)
        self._read_back(number, step)
        seen = self.look(f"probe {number}", number)
        bad = worse(seen)
        if bad:
            raise self.journal.fail(f"step {number}", "breaks-site", say_worse(bad), step=number)
        self.journal.write(
            f"step {number}",
            "done",
            step=number,
            text=f"as before on {len(seen)} looks",
            detail={"seen": [s.model_dump() for s in seen]},
        )

    def _applied(self, act: str, package: Package, number: int, text: str) -> None:
        """Apply a package; what has a known remedy is mended once, and tried again. Raises
        StepFailed.
        """
        apply = partial(self._apply, package)
        try:
            self.journal.change(act, apply, step=number, text=text)
        except StepFailed as error:
            if not self._mended(act, error.code, package.product, number):
                raise
            if error.code != "already-there":
                self.journal.change(f"{act} again", apply, step=number, text=text)

    def _mended(self, act: str, code: str, product: str, number: int) -> bool:
        """Whether a known fault was mended, so that trying again makes sense. It is judged by what
        is read back after the step, never by the message.
        """
        if code == "already-there":
            note = f"the site says that {product} is there already; what is read back decides"
            self.journal.write(f"{act} again", "noted", step=number, text=note)
            return True
        kind = _CLEARED.get(code)
        if kind is not None and "clear" in self.site.link.agent_can:
            text = f"{code}: {kind} of {product} cleared, again"
            self.do(f"clear {act}", "clear", text, step=number, product=product, kind=kind)
            return True
        return False

    def _apply(self, package: Package, change: str) -> dict[str, Any]:
        archive = self.context.shelf.read(package)
        carry = self._carry(package.product)
        return self.agent.apply(change, package, archive, self.site.id, carry)

    def _switch(self, act: str, product: str, *, on: bool, step: int | None = None) -> None:
        text = f"{product} switched {'on' if on else 'off'}"
        self.do(act, "switch", text, step=step, product=product, on=on)

    def _read_back(self, number: int, step: PlannedStep) -> None:
        """The versions as the site has them now; the expected ones, or the step failed."""

        def read() -> dict[str, Any]:
            found = self.inventory()
            return {m.product: found.version_of(m.product) for m in step.moves}

        found = self.journal.once(
            f"read back {number}", read, step=number, text=lambda d: ", ".join(map(str, d.values()))
        )
        for move in step.moves:
            if found.get(move.product) != move.to:
                have = found.get(move.product) or "nothing"
                text = f"{move.product} should be {move.to}; read back: {have}"
                raise self.journal.fail(f"step {number}", "unknown", text, step=number)

    def look(self, act: str, step: int | None) -> tuple[Seen, ...]:
        detail = self.journal.once(
            act, lambda: self._probe().model_dump(mode="json"), step=step, text=_say_probe
        )
        failed = any(
            state == "failed" and act.startswith("step ") for act, state in self.journal.entries
        )
        return compare(self.baseline, Probe.model_validate(detail), judged=failed)

    # Going back.

    def _go_back(self, error: Exception) -> tuple[RunState, str]:
        """Put back the step that failed; where that does not help, restore, by the rule."""
        begun = [
            n
            for n in range(1, len(self.plan.plan.steps) + 1)
            if (f"step {n}", "meant") in self.journal.entries
        ]
        if not begun:
            return "stopped", f"Stopped before the first step: {error}"
        number = begun[-1]
        step = self.plan.plan.steps[number - 1]
        title = self.title(number)
        if (f"step {number}", "failed") not in self.journal.entries:
            self.journal.fail(f"step {number}", getattr(error, "code", "unknown"), str(error))
        self._set("steps", number, f"Putting back {title}: {error}")
        try:
            self.put_back(number, step)
            bad = worse(self.look(f"probe after putting back {number}", number))
            if not bad:
                self.journal.write(f"step {number}", "put back", step=number, text="as before")
                return "put back", f"{title} was put back: {error}. The site is as before it."
            why = say_worse(bad)
        except (StepFailed, LinkError) as failed:
            why = str(failed)
        return self._restore(number, title, f"{error}; put back, but {why}")

    def put_back(self, number: int, step: PlannedStep) -> None:
        for move in reversed(step.moves):
            act = f"apply {number} {move.product}"
            again = self.journal.entries.get((f"{act} again", "meant"))
            meant = again or self.journal.entries.get((act, "meant"))
            if meant is None or meant.change is None:
                continue
            change = meant.change
            became = self.journal.ask(lambda id=change: self.agent.change(id)).state  # type: ignore[misc]
            act = f"put back {number} {move.product}"
            text = f"{move.product} back to {move.from_ or 'absent'}"
            if became != "done":
                continue  # it was refused before anything was touched
            if move.product.startswith("runtime/"):
                args: dict[str, object] = {"product": move.product, "version": move.from_}
                self.do(act, "runtime", text, step=number, **args)
            else:
                added = move.from_ is None
                self.do(
                    act,
                    "put-back",
                    text,
                    step=number,
                    product=move.product,
                    of=meant.change,
                    added=added,
                )
        self.journal.ask(lambda: self.pay("updates", "cache"))

    def _restore(self, number: int, title: str, why: str) -> tuple[RunState, str]:
        snapshot = self.journal.done("snapshot") or {}
        approval = self.plan.approval
        try:
            written = self.journal.once(
                "written since the snapshot",
                lambda: {
                    "same": self.journal.ask(self.agent.look).written == snapshot.get("written")
                },
            )
            if not written["same"] and not (approval and approval.restore_anyway):
                self.owe("page", was=False)
                self.do("page up for help", "maintenance", "left up for a person", on=True)
                return self._alarm(
                    f"{title}: {why}. Something was written since the snapshot, so it is not "
                    "restored without your word; the maintenance page is up."
                )
            self.do("restore", "restore", "the snapshot", snapshot=snapshot["snapshot"])
            self.inventory()
            bad = worse(self.look("probe after restore", number))
        except (StepFailed, LinkError) as failed:
            return self._alarm(f"{title}: {why}; the restore failed too: {failed}.")
        if bad:
            return self._alarm(
                f"{title}: {why}; restored, and still {say_worse(bad)}. The site is left alone."
            )
        lost = "" if written["same"] else " What was written since the snapshot is lost."
        return "restored", f"{title}: {why}. The snapshot was restored.{lost}"

    def _alarm(self, text: str) -> tuple[RunState, str]:
        self.alarmed = True
        self.journal.write("alarm", "noted", text=text)
        return "alarm", text

    # After.

    def _after(self, state: RunState, text: str) -> str:
        """Everything as it was, whatever happened; the last probe; the ledger."""
        self._set("after", self.context.store.runs.get(self.run.id).step, text)
        try:
            keep_page = self.alarmed and ("page up for help", "done") in self.journal.entries
            kept: tuple[DebtKind, ...] = ("page",) if keep_page else ()
            left = self.journal.ask(lambda: self.pay(*kept))
            owed = [debt for debt in left if debt.kind not in kept]
            if owed:
                text = f"{text} Still owed to the site: {debts.in_words(owed)}."
            self.journal.write("as it was", "noted", text=debts.in_words(left) or "all of it")
            self.do("caches purged", "purge", "all of them")
            if keep_page:
                return text  # a probe would see our own page, and nothing behind it
            seen = self.look("last probe", None)
            here = sites.visiting(self.context, self.site)
            visitor = look_at(here, "As a visitor", "/", past_caches=False)
            bad = worse(seen)
            if state == "done" and (bad or visitor.status != 200 or not visitor.bytes):
                said = say_worse(bad) or f"a visitor sees status {visitor.status}"
                self._alarm(f"The last probe differs: {said}.")
                return f"{text} But the last probe differs: {said}."
        except Superseded:
            raise
        except (StepFailed, LinkError) as error:
            self._alarm(f"Not everything is as it was: {error}.")
            return f"{text} But not everything could be set as it was: {error}."
        return text

    def _end(self, state: RunState, text: str) -> Run:
        now = self.context.clock()
        with self.context.store.transaction():
            changed = self.context.store.runs.change(
                self.run.id, state=state, phase="ended", text=text, ended_at=now, last_sign_at=now
            )
            if state in WENT_WRONG:
                matters.open_for(self.context, changed)
            plan_state = "carried out" if state == "done" else "failed"
            self.context.store.plans.change(self.plan.id, state=plan_state)
            inventory = self.context.store.inventories.find(self.site.id)
            if state == "done" and inventory is not None:
                # What ended well is the site's; what was put back never was.
                rights.remember(self.context, None, inventory)
            self.context.record(
                self.run.by,
                f"run {self.run.id} on {self.site.label}: {state}",
                self.site.id,
                why=self.plan.approval.why if self.plan.approval else "",
                result=text,
            )
            outward.tell(
                self.context,
                "run.ended",
                {"run": self.run.id, "site": self.site.id, "state": state, "text": text},
            )
        self.context.tell("run", str(self.run.id), f"{state}: {text}")
        return changed


def say_worse(bad: tuple[Seen, ...]) -> str:
    """What is worse, the first two things in full: the journal's probe holds the rest."""
    said = "; ".join(f"{s.name}: {s.before} before, {s.now} now" for s in bad[:2])
    more = len(bad) - 2
    return f"{said}; and {more} other {'look' if more == 1 else 'looks'}" if more > 0 else said


def _say_probe(detail: dict[str, Any]) -> str:
    return f"{len(detail['looks'])} looks, editor: {detail['editor_blocks']} blocks"


def _own_text(detail: dict[str, Any]) -> str:
    """The journal's line of the site's own files."""
    carried = sum(len(paths) for paths in detail["carry"].values())
    aside = sum(len(paths) for paths in detail["aside"].values())
    parts = [f"{counted(carried, 'file')} carried over" if carried else "none to carry over"]
    if aside:
        parts.append(f"{counted(aside, 'file')} set aside, as approved")
    if detail["unknown"]:
        parts.append(f"not known of {', '.join(detail['unknown'])}")
    return "; ".join(parts)
