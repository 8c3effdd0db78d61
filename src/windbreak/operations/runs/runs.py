"""Runs: one plan carried out on one site, step by step, looked at after each, and put back.

Source: docs/runs.md. A run goes through the same acts whether it is begun or taken up after a
crash (see journal). Judged by reading back and by probes, never by a message.
"""

from __future__ import annotations

from typing import Any

from windbreak.core.values.accounts import Principal
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.runs import Probe, Run, RunPhase, RunState, Seen
from windbreak.core.values.verdicts import PlannedStep
from windbreak.links.adapter import AgentLook
from windbreak.links.errors import LinkError
from windbreak.links.probing import compare, look_at, probe, worse
from windbreak.operations.administration import instance, outward
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.runs.journal import Journal, StepFailed
from windbreak.operations.scheduling import rollouts
from windbreak.operations.sites import inventories, sites
from windbreak.operations.tracking import rights, shelving
from windbreak.store.errors import AlreadyThere
from windbreak.wording.answers import step_title
from windbreak.wording.words import counted

LEAST_ROOM_MB = 200


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
    return _Runner(context, known).go()


class _Stopped(Exception):
    """The run ends early with nothing wrong on the site."""


class _Runner:
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
            self._prepare()
            text = self._steps()
            state = "done"
        except _Stopped as error:
            state, text = "stopped", str(error)
        except (StepFailed, LinkError, OperationError) as error:
            state, text = self._go_back(error)
        text = self._after(state, text)
        return self._end("alarm" if self.alarmed else state, text)

    def _title(self, step: PlannedStep) -> str:
        return step_title(step, self.names)

    def _set(self, phase: RunPhase, step: int, text: str) -> None:
        self.context.store.runs.change(self.run.id, phase=phase, step=step, text=text)
        self.context.tell("run", str(self.run.id), text)

    def _inventory(self) -> Inventory:
        now = self.context.clock()
        found = self.journal.ask(lambda: self.agent.inventory(self.site.id, now))
        with self.context.store.transaction():
            found = inventories.take_in(self.context, found, tried=True)
            self.context.store.sites.change(self.site.id, facts_at=found.at)
        return found

    def _probe(self) -> Probe:
        def ask() -> AgentLook:
            return self.journal.ask(self.agent.look)

        return probe(sites.visiting(self.context, self.site), ask, self.context.clock())

    # Before and prepare.

    def _before(self) -> None:
        self._set("before", 0, "Looking that nothing has changed.")
        found = self.journal.once("inventory", self._look_before, text=lambda d: d["text"])
        if found["changed"]:
            what = ", ".join(found["changed"])
            raise _Stopped(f"the site is not as it was planned from: {what} changed since.")
        if found["free_mb"] < LEAST_ROOM_MB:
            raise _Stopped(f"only {found['free_mb']} MB are free; {LEAST_ROOM_MB} are needed.")
        self.journal.once(
            "baseline",
            lambda: self._probe().model_dump(mode="json"),
            text=lambda d: f"{len(d['looks'])} looks",
        )

    def _look_before(self) -> dict[str, Any]:
        found = self._inventory()
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
        self._do("snapshot", "snapshot", "the whole site, read back")
        self._do("updates paused", "updates", "paused for the run", on=False)
        self._do("caches off", "caches", "off for the run", on=False)

    def _do(
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
                self.journal.write(f"step {number}", "meant", step=number, text=self._title(step))
            self._set("steps", number, self._title(step))
            if self.journal.done(f"step {number}") is None:
                self._step(number, step)
        return f"{counted(len(self.plan.plan.steps), 'step')} done, each looked at."

    def _still_allowed(self, number: int, step: PlannedStep) -> None:
        """What stands against a step now that did not when it was approved."""
        today = self.context.clock().date()
        for hold in self.context.store.holds.all():
            for move in step.moves:
                stands = hold.until is None or today <= hold.until
                here = hold.site in (None, self.site.id)
                name = self.names.get(move.product, move.product)
                if stands and here and hold.product == move.product:
                    raise _Stopped(
                        f"Stopped before step {number}: {name} is held meanwhile, "
                        f"by {hold.author}: {hold.reason}"
                    )
        if not self.plan.approval or self.context.store.plans.get(self.plan.id).state != "approved":
            raise _Stopped(f"Stopped before step {number}: the plan is no longer approved.")

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
                package = shelving.fetch_package(self.context, move.product, move.to, self.run.site)
                packages[move.product] = package
        if combined:
            self._do(f"page up {number}", "maintenance", "maintenance page", step=number, on=True)
            for product in plugins:
                self._switch(f"off {number} {product}", product, on=False, step=number)
        for move in step.moves:
            act = f"apply {number} {move.product}"
            text = f"{move.product} {move.from_ or 'absent'} to {move.to}"
            if move.product.startswith("runtime/"):
                args = {"product": move.product, "version": move.to}
                self._do(act, "runtime", text, step=number, **args)
                continue
            package = packages[move.product]
            archive = self.context.shelf.read(package)
            self.journal.change(
                act,
                lambda change, p=package, a=archive: self.agent.apply(  # type: ignore[misc]
                    change, p, a, self.site.id
                ),
                step=number,
                text=text,
            )
        if combined:
            for product in plugins:
                self._switch(f"on {number} {product}", product, on=True, step=number)
        for move in step.moves:
            if move.from_ is None:
                self._switch(f"on {number} {move.product}", move.product, on=True, step=number)
        if combined:
            self._do(f"page down {number}", "maintenance", "page taken away", step=number, on=False)
        self._read_back(number, step)
        seen = self._look(f"probe {number}", number)
        bad = worse(seen)
        if bad:
            raise self.journal.fail(f"step {number}", "breaks-site", _say_worse(bad), step=number)
        self.journal.write(
            f"step {number}",
            "done",
            step=number,
            text=f"as before on {len(seen)} looks",
            detail={"seen": [s.model_dump() for s in seen]},
        )

    def _switch(self, act: str, product: str, *, on: bool, step: int | None = None) -> None:
        text = f"{product} switched {'on' if on else 'off'}"
        self._do(act, "switch", text, step=step, product=product, on=on)

    def _read_back(self, number: int, step: PlannedStep) -> None:
        """The versions as the site has them now; the expected ones, or the step failed."""

        def read() -> dict[str, Any]:
            found = self._inventory()
            return {m.product: found.version_of(m.product) for m in step.moves}

        found = self.journal.once(
            f"read back {number}", read, step=number, text=lambda d: ", ".join(map(str, d.values()))
        )
        for move in step.moves:
            if found.get(move.product) != move.to:
                have = found.get(move.product) or "nothing"
                text = f"{move.product} should be {move.to}; read back: {have}"
                raise self.journal.fail(f"step {number}", "unknown", text, step=number)

    def _look(self, act: str, step: int | None) -> tuple[Seen, ...]:
        detail = self.journal.once(
            act, lambda: self._probe().model_dump(mode="json"), step=step, text=_say_probe
        )
        failed = any(state == "failed" for _, state in self.journal.entries)
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
        title = self._title(step)
        if (f"step {number}", "failed") not in self.journal.entries:
            self.journal.fail(f"step {number}", getattr(error, "code", "unknown"), str(error))
        self._set("steps", number, f"Putting back {title}: {error}")
        try:
            self._put_back(number, step)
            bad = worse(self._look(f"probe after putting back {number}", number))
            if not bad:
                self.journal.write(f"step {number}", "put back", step=number, text="as before")
                return "put back", f"{title} was put back: {error}. The site is as before it."
            why = _say_worse(bad)
        except (StepFailed, LinkError) as failed:
            why = str(failed)
        return self._restore(number, title, f"{error}; put back, but {why}")

    def _put_back(self, number: int, step: PlannedStep) -> None:
        for move in reversed(step.moves):
            meant = self.journal.entries.get((f"apply {number} {move.product}", "meant"))
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
                self._do(act, "runtime", text, step=number, **args)
            else:
                added = move.from_ is None
                self._do(
                    act,
                    "put-back",
                    text,
                    step=number,
                    product=move.product,
                    of=meant.change,
                    added=added,
                )
        self._as_it_was(f"after step {number}")

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
                self._do("page up for help", "maintenance", "left up for a person", on=True)
                return self._alarm(
                    f"{title}: {why}. Something was written since the snapshot, so it is not "
                    "restored without your word; the maintenance page is up."
                )
            self._do("restore", "restore", "the snapshot", snapshot=snapshot["snapshot"])
            self._inventory()
            bad = worse(self._look("probe after restore", number))
        except (StepFailed, LinkError) as failed:
            return self._alarm(f"{title}: {why}; the restore failed too: {failed}.")
        if bad:
            return self._alarm(
                f"{title}: {why}; restored, and still {_say_worse(bad)}. The site is left alone."
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
            if not keep_page:
                self._as_it_was("at the end")
            recorded = self.recorded
            if recorded["automatic_updates"]:
                self._do("updates resumed", "updates", "as they were", on=True)
            if recorded["caches"]:
                self._do("caches on", "caches", "as they were", on=True)
            self._do("caches purged", "purge", "all of them")
            self._inventory()
            seen = self._look("last probe", None)
            here = sites.visiting(self.context, self.site)
            visitor = look_at(here, "As a visitor", "/", past_caches=False)
            bad = worse(seen)
            if state == "done" and (bad or visitor.status != 200 or not visitor.bytes):
                said = _say_worse(bad) or f"a visitor sees status {visitor.status}"
                self._alarm(f"The last probe differs: {said}.")
                return f"{text} But the last probe differs: {said}."
        except (StepFailed, LinkError) as error:
            self._alarm(f"Not everything is as it was: {error}.")
            return f"{text} But not everything could be set as it was: {error}."
        return text

    def _as_it_was(self, when: str) -> None:
        """The page taken away, and every plugin switched as it was recorded."""
        self._do(f"page down {when}", "maintenance", "page taken away", on=False)
        now = {c.product: c.active for c in self._inventory().components}
        for product, active in sorted(now.items()):
            known = product.startswith("plugin/") and product in self.plan.start
            was = product in self.recorded["active"]
            if known and active != was:
                self._switch(f"{'on' if was else 'off'} {when} {product}", product, on=was)

    def _end(self, state: RunState, text: str) -> Run:
        now = self.context.clock()
        with self.context.store.transaction():
            changed = self.context.store.runs.change(
                self.run.id, state=state, phase="ended", text=text, ended_at=now, last_sign_at=now
            )
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


def _say_worse(bad: tuple[Seen, ...]) -> str:
    """What is worse, the first two things in full: the journal's probe holds the rest."""
    said = "; ".join(f"{s.name}: {s.before} before, {s.now} now" for s in bad[:2])
    more = len(bad) - 2
    return f"{said}; and {more} other {'look' if more == 1 else 'looks'}" if more > 0 else said


def _say_probe(detail: dict[str, Any]) -> str:
    return f"{len(detail['looks'])} looks, editor: {detail['editor_blocks']} blocks"
