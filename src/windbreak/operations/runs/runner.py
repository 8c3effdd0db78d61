"""One run, as it is carried out: before, prepare, the steps, after.

Source: docs/runs.md. A run goes through the same acts whether it is begun or taken up after a crash
(see journal). Judged by reading back and by probes, never by a message. Where an errand keeps it,
it ends what it prepared and waits; when it goes on, it begins with a fresh look: a new *leg*.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator

from windbreak.core.scheduling.openings import openings
from windbreak.core.values import journal as acts
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.journal import ActKind, Nothing
from windbreak.core.values.matters import DebtKind
from windbreak.core.values.runs import WENT_WRONG, Run, RunState
from windbreak.core.values.verdicts import PlannedStep
from windbreak.core.versions.version import parse_version
from windbreak.feeds.errors import FeedError
from windbreak.links.errors import LinkError, Superseded
from windbreak.links.probing import broken
from windbreak.operations.administration import instance, outward
from windbreak.operations.errors import OperationError
from windbreak.operations.planning import allowed
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.runs import (
    debts,
    errands,
    going_back,
    lengths,
    looking,
    matters,
    outcomes,
    own_files,
    pictures,
    replanning,
    stepping,
)
from windbreak.operations.runs.acting import Acting, Stopped
from windbreak.operations.runs.course import differing, switched_off
from windbreak.operations.runs.journal import NOT_WAITING, StepFailed
from windbreak.operations.scheduling import estimates, failed_moves, freezes
from windbreak.operations.tracking import rights
from windbreak.packages.errors import PackageRefused
from windbreak.wording.matters import worse_text
from windbreak.wording.words import counted

LEAST_ROOM_MB = 200


class _Waits(Exception):
    """An errand keeps the run."""

    def __init__(self, errand: int, text: str) -> None:
        self.errand = errand
        super().__init__(text)


class Runner(Acting):
    """One run, carried out to its end."""

    def go(self) -> Run:
        try:
            if not self._is_prepared():
                self._before()
        except (LinkError, OperationError, StepFailed, Stopped, FeedError, PackageRefused) as error:
            begun = f"Steps up to {done} stay done" if (done := self._steps_done()) else ""
            return self._end("stopped", f"{begun or 'Nothing was changed'}: {error}")
        state: RunState
        try:
            try:
                self._prepare()
                text = self._steps()
                state = "done"
            except _Waits as error:
                return self._wait(error)
            except Stopped as error:
                state, text = "stopped", str(error)
            except Superseded:
                raise
            except (StepFailed, LinkError, OperationError, FeedError, PackageRefused) as error:
                state, text = going_back.go_back(self, error)
            text = self._after(state, text)
        except Superseded as error:
            # Another service drives the site: not a thing more is done here.
            return self._end("stopped", f"Another service has taken the site over ({error}).")
        return self._end("alarm" if self.alarmed else state, text)

    # Before and prepare.

    def _is_prepared(self) -> bool:
        """Whether this leg of the run has gone beyond looking: it is taken up then, and what it
        began is made whole before anything is asked that could end it.
        """
        return self.journal.has(acts.snapshot(self.leg), "meant")

    def _before(self) -> None:
        self.tell("before", self.run.step, "Looking that nothing has changed.")
        if self.journal.done(acts.inventory(self.leg)) is None:
            self._pay_first()
        there = self.journal.once(
            acts.inventory(self.leg),
            self._look_before,
            text=lambda there: "; ".join(there.changed) or "as planned",
        )
        if there.changed:
            what = ", ".join(there.changed)
            raise Stopped(f"the site is not as it was planned from: {what}.")
        if there.free_mb < LEAST_ROOM_MB:
            raise Stopped(f"only {there.free_mb} MB are free; {LEAST_ROOM_MB} are needed.")
        self._time_left("It was not begun")
        leg = self.leg
        self.journal.once(
            acts.packages(leg), self._packages, text=lambda _: "in hand, and examined"
        )
        self.journal.once(acts.own_files(leg), self._own_files, text=_own_text)
        self.journal.once(
            acts.usual_lengths(), self._lengths, text=lambda usual: lengths.in_words(usual.seconds)
        )
        before = self.journal.once(
            acts.baseline(leg),
            lambda: looking.baseline(self),
            text=lambda probe: f"{len(probe.looks)} pages, each looked at several times",
        )
        bad = broken(before)
        if bad:
            raise Stopped(f"the site is broken already: {'; '.join(bad)}. Mend that first.")
        pictures.before(self)
        if self.plan.approval and self.plan.approval.patches_until and self.course.turns == 0:
            inventory = self.context.store.inventories.get(self.site.id)
            newer = replanning.newer_patches(self.context, self.plan, inventory)
            if newer:
                why = f"patch releases, as approved: {', '.join(newer)}"
                replanning.replan(self, self._steps_done(), why)
        self._all_allowed()

    def _pay_first(self) -> None:
        """What an earlier run still owes is set back first: it is not how the site was."""
        if not debts.owed(self.context, self.site.id):
            return
        left = self.journal.ask(self.pay)
        if left:
            what = debts.in_words(left)
            raise Stopped(f"an earlier run still owes {what}, and it can't be set back.")

    def _packages(self) -> Nothing:
        """Every package of the plan in hand and examined, before anything is changed."""
        for step in self.steps[self._steps_done() :]:
            for move in step.moves:
                if move.to is not None and not move.product.startswith("runtime/"):
                    self.fetch(move.product, move.to)
        return Nothing()

    def _own_files(self) -> acts.OwnFilesSeen:
        """The files of the site's own in what is moved: which are carried over, by product."""
        decided = self.plan.approval.changed_files if self.plan.approval else None
        every = self.journal.ask(
            lambda: own_files.check(
                self.context, self.agent, self.site.id, self.steps[self._steps_done() :], decided
            )
        )
        return acts.OwnFilesSeen(
            carry={own.product: own_files.carried(own, decided) for own in every if own.known},
            aside={
                own.product: own.changed for own in every if own.changed and decided == "set-aside"
            },
            sums={own.product: own.sums for own in every if own.sums},
            unknown=tuple([own.product for own in every if not own.known]),
        )

    def _look_before(self) -> acts.Recorded:
        there = self.inventory()
        self._take_errands_in(there)
        expected = self.course.expected(self._steps_done())
        # What is on for some members of a network only is never switched: on is for all.
        on = [c.product for c in there.components if c.active and c.product not in there.partly_on]
        return acts.Recorded(
            changed=tuple(differing(expected, there, self.names)),
            free_mb=there.free_mb,
            active=tuple(on),
            automatic_updates=there.automatic_updates,
            caches=there.caches,
        )

    def _take_errands_in(self, there: Inventory) -> None:
        """What an errand asked somebody else for, and the site shows now, is that step done."""
        asked = {
            (errand.product, errand.version)
            for errand in self.context.store.errands.all(site=self.site.id)
            if errand.run == self.run.id and errand.kind == "runtime"
        }
        for number in range(self._steps_done() + 1, len(self.steps) + 1):
            for move in self.steps[number - 1].moves:
                shown = there.version_of(move.product) == move.to
                if not shown or (move.product, move.to) not in asked:
                    return
            self.journal.write(acts.step(number), "meant", text=self.title(number))
            text = "done outside Windbreak, as its errand asked: read back"
            self.journal.write(acts.step(number), "done", text=text)

    def _steps_done(self) -> int:
        number = 0
        while self.journal.has(acts.step(number + 1), "done"):
            number += 1
        return number

    def _lengths(self) -> acts.UsualLengths:
        return acts.UsualLengths(seconds=lengths.usual(self.context, self.site.host))

    def _prepare(self) -> None:
        self.tell("prepare", self.run.step, "Snapshot, automatic updates paused, caches off.")
        leg = self.leg
        self.do(acts.snapshot(leg), "snapshot", "the whole site, read back")
        if self.recorded.automatic_updates:
            self.owe("updates", was=True)
            self.do(acts.updates_paused(leg), "updates", "paused for the run", on=False)
        for cache in self.recorded.caches:
            self.owe("cache", was=True, name=cache)
            act = acts.cache_off(cache, leg)
            self.do(act, "caches", "off for the run", name=cache, on=False)

    # The steps.

    def _steps(self) -> str:
        number = 1
        while number <= len(self.steps):
            step, act = self.steps[number - 1], acts.step(number)
            if not self.journal.has(act, "meant"):
                if self.context.store.runs.get(self.run.id).stop_asked:
                    raise Stopped(f"Stopped before step {number}, as asked.")
                self._still_allowed(number, step)
                self._errands_first(number)
                self.journal.write(act, "meant", text=self.title(number))
            elif self.journal.done(act) is None:
                self._tell_overrun(number)
            self.tell("steps", number, self.title(number))
            if self.journal.done(act) is None:
                stepping.carry_out(self, number, step)
            self._hold_to_plan(number)
            number += 1
        self._targets_reached()
        return f"{counted(len(self.steps), 'step')} done, each looked at."

    def _tell_overrun(self, number: int) -> None:
        """Write down that a step which was begun is made whole though the run's time is over."""
        if why := self._why_no_time():
            text = f"{self.title(number)} was begun, so it was made whole past its time: {why}"
            self.journal.note(acts.overrun(number), text)

    def _targets_reached(self) -> None:
        """Raise Stopped where what was approved was not read back as reached, whatever the steps
        say.
        """
        inventory = self.context.store.inventories.get(self.site.id)
        missed = [
            f"{self.names.get(product, product)} {version}"
            for product, version in self.course.expected(len(self.steps)).items()
            if product in self.plan.targets
            and (there := inventory.version_of(product)) != version
            and (there is None or parse_version(there) < parse_version(version))
        ]
        if missed:
            raise Stopped(f"Its steps are done, and this was not read back: {', '.join(missed)}.")

    def _still_allowed(self, number: int, step: PlannedStep) -> None:
        """What stands against a step now that did not when it was approved: the permit."""
        before = f"Stopped before step {number}"
        if not instance.may_drive(self.context):
            raise Stopped(f"{before}: this service drives no site any more.")
        if not self.plan.approval or self.context.store.plans.get(self.plan.id).state != "approved":
            raise Stopped(f"{before}: the plan is no longer approved.")
        self._time_left(before)
        for _, against in self._refused([number]):
            raise Stopped(f"{before}: {' '.join(against)}")

    def _all_allowed(self) -> None:
        """Raise Stopped where anything stands against a step that is still to come: the first is
        not done only to meet at the last what was so before it. What comes after a step with which
        something leaves is asked before it is begun.
        """
        left = range(self._steps_done() + 1, len(self.steps) + 1)
        for number, against in self._refused(left):
            which = f"step {number} of {len(self.steps)}, {self.title(number)}"
            raise Stopped(f"{which}, is not allowed as things stand: {' '.join(against)}")

    def _refused(self, numbers: Iterable[int]) -> Iterator[tuple[int, list[str]]]:
        """What the permit holds against some steps, each after those before it, in words."""
        context, steps = self.context, [(number, self.steps[number - 1]) for number in numbers]
        site = context.store.sites.get(self.site.id)
        inventory = context.store.inventories.get(self.site.id)
        yield from allowed.refused(context, Ground.read(context), site, inventory, steps)
        for number, step in steps if not self.run.although else ():
            targets = {move.product: str(move.to) for move in step.moves}
            if why := failed_moves.against_now(context, self.site.id, targets):
                yield number, [f"{why}."]

    def _time_left(self, before: str) -> None:
        """Raise Stopped where no time is left for a step and the way back."""
        if why := self._why_no_time():
            raise Stopped(f"{before}: {why}")

    def _why_no_time(self) -> str:
        """Why the site's window, as it is now, leaves no time for a step and the way back; empty
        where it does. A run that was begun outside of it, knowingly, is bound by none. Reads.
        """
        site, now = self.context.store.sites.get(self.site.id), self.context.clock()
        needed = lengths.STEP + lengths.BACK
        freeze = freezes.between(self.context, site, now, now + needed)
        if freeze is not None:
            return f"{site.label} is to be left alone: {freeze.reason}."
        if self.run.outside or not site.windows:
            return ""
        open_ = openings(site.windows, site.timezone, now, now + needed)
        if any(opens <= now and now + needed <= closes for opens, closes in open_):
            return ""
        return f"the window of {site.label} leaves no time for a step and the way back."

    def _errands_first(self, number: int) -> None:
        """Raise _Waits where a step needs work of a person that is not done yet."""
        for bring in self.brings(number):
            if bring.by == "person" and bring.blocking:
                errand = errands.of_run(self.context, self.run, bring)
                if errand.closed_at is None:
                    raise _Waits(errand.id, f"It waits for errand {errand.id}: {errand.text}.")

    def _hold_to_plan(self, number: int) -> None:
        """Whether all on the site is as the steps so far leave it; else other hands were here, and
        the rest is planned anew within what was approved. Raises Stopped where that can't be.
        """

        def look() -> acts.HeldToPlan:
            inventory = self.context.store.inventories.get(self.site.id)
            expected = self.course.expected(number)
            off = switched_off(self.recorded.active, inventory, self.names)
            return acts.HeldToPlan(
                odd=tuple(differing(expected, inventory, self.names)),
                off=tuple([text for product, text in off.items() if product not in self._moved()]),
            )

        seen = self.journal.once(
            acts.whole_inventory(number),
            look,
            text=lambda seen: "; ".join([*seen.odd, *seen.off]) or "as planned",
        )
        odd = seen.odd
        self.surprised([*odd, *seen.off])
        if not odd or self.course.after >= number:
            return
        what = "; ".join(odd)
        if not replanning.replan(self, number, f"other hands were here: {what}"):
            raise Stopped(
                f"Stopped after step {number}: other hands were here: {what}. The rest can't be "
                "planned from that within what was approved."
            )

    def _moved(self) -> set[str]:
        return {move.product for step in self.steps for move in step.moves}

    # After.

    def _wait(self, waits: _Waits) -> Run:
        """End what was prepared: the site is as it was, and the run waits for an errand."""
        text = str(waits)
        left = self.journal.ask(self.pay)
        if left:
            text = f"{text} Still owed to the site: {debts.in_words(left)}."
        leg = self.leg
        self.do(acts.caches_purged(leg), "purge", "all of them")
        errand = acts.WaitsFor(errand=waits.errand)
        self.journal.write(acts.waits_for_errand(leg), "noted", text=text, detail=errand)
        changed = self.context.store.runs.change(
            self.run.id, state="waiting", phase="waiting", text=text, errand=waits.errand
        )
        what = f"run {self.run.id}: waits"
        self.context.record(self.run.by, what, self.site.id, result=text, run=self.run.id)
        self.context.tell("run", str(self.run.id), text)
        return changed

    def _after(self, state: RunState, text: str) -> str:
        """Everything as it was, whatever happened; the last probe; the errands; the ledger."""
        self.tell("after", self.context.store.runs.get(self.run.id).step, text)
        try:
            keep_page = self.alarmed and self.journal.has(acts.page_up(why=acts.FOR_HELP), "done")
            kept: tuple[DebtKind, ...] = ("page",) if keep_page else ()
            left = self.journal.ask(lambda: self.pay(*kept))
            owed = [debt for debt in left if debt.kind not in kept]
            if owed:
                text = f"{text} Still owed to the site: {debts.in_words(owed)}."
            off = self._on_again()
            if off:
                text = f"{text} Not as it was: {'; '.join(off.values())}."
                if state == "done" and self._moved() & off.keys():
                    self.alarm("What it moved does not stay on.")
            differs = [*([debts.in_words(left)] if left else []), *off.values()]
            compared = "; ".join(differs) or "no difference"
            self.journal.write(acts.as_it_was(), "noted", text=compared)
            self.do(acts.caches_purged(self.leg), "purge", "all of them")
            self._errands_left()
            if keep_page and not self.sees_behind:
                return text  # a probe would see our own page, and nothing behind it
            bad = worse_text(looking.look(self, acts.probe(when=acts.AT_THE_END)))
            pictures.after(self)
            if keep_page:
                return text
            amiss = [bad] if bad else looking.as_a_visitor(self)
            if state == "done" and amiss:
                self.alarm(f"The last probe differs: {'; '.join(amiss)}.")
                return f"{text} But the last probe differs: {'; '.join(amiss)}."
        except Superseded:
            raise
        except (StepFailed, LinkError) as error:
            self.alarm(f"Not everything is as it was: {error}.")
            return f"{text} But not everything could be set as it was: {error}."
        return text

    def _on_again(self) -> dict[str, str]:
        """Switch on again what this run moved and what is off now; what is off after that and was
        on, by product, in words. Raises LinkError.
        """
        inventory = self.context.store.inventories.get(self.site.id)
        moved = self._moved()
        for product in switched_off(self.recorded.active, inventory, self.names):
            if product in moved:
                with contextlib.suppress(StepFailed):
                    act = acts.switch(None, product, on=True)
                    self.do(act, "switch", "it was on", product=product, on=True)
                inventory = self.inventory()
        return switched_off(self.recorded.active, inventory, self.names)

    def _errands_left(self) -> None:
        """What the steps that are done leave for a person becomes errands, each with its day."""
        for number in range(1, len(self.steps) + 1):
            act = acts.step(number)
            if self.journal.has(act, "done") and not self.journal.has(act, "put back"):
                for bring in self.brings(number):
                    if self.left_to_a_person(bring):
                        due = bring.due_days or 1
                        bring = bring.model_copy(update={"by": "person", "due_days": due})
                    if bring.by == "person":
                        errands.of_run(self.context, self.run, bring)

    def _overruns(self) -> str:
        """What was made whole past the run's time, in sentences that follow another."""
        notes = [entry.text for entry in self.journal.of_kind(ActKind.OVERRUN, "noted")]
        return "".join(f" {note.rstrip('.')}." for note in notes)

    def _end(self, state: RunState, text: str) -> Run:
        now, text = self.context.clock(), f"{text}{self._overruns()}"
        with self.context.store.transaction():
            changed = self.context.store.runs.change(
                self.run.id,
                state=state,
                phase="ended",
                text=text,
                ended_at=now,
                last_sign_at=now,
                pace="usual",
                progress="",
                **NOT_WAITING,
            )
            step = None
            if state in WENT_WRONG:
                matters.open_for(self.context, changed)
                code = self.journal.code(acts.step(changed.step))
                if code is not None and 0 < changed.step <= len(self.steps):
                    step = self.steps[changed.step - 1]
                    if going_back.migrated(self, changed.step):
                        code = failed_moves.OF_THE_RELEASE  # it had begun to move its data
                    failed_moves.note(self.context, changed, step, code)
            if state == "done":
                matters.settle(self.context, changed)
            if state == "done" or step is not None:
                outcomes.note(self.context, changed, self.steps, step)
            entries = self.context.store.journal.all(run=self.run.id)
            estimates.learn(self.context, changed, self.steps, entries)
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
                run=self.run.id,
                came=state,
            )
            outward.tell(
                self.context,
                "run.ended",
                {"run": self.run.id, "site": self.site.id, "state": state, "text": text},
            )
        self.context.tell("run", str(self.run.id), f"{state}: {text}")
        return changed


def _own_text(own: acts.OwnFilesSeen) -> str:
    """The journal's line of the site's own files."""
    carried = sum(len(paths) for paths in own.carry.values())
    aside = sum(len(paths) for paths in own.aside.values())
    parts = [f"{counted(carried, 'file')} carried over" if carried else "none to carry over"]
    if aside:
        parts.append(f"{counted(aside, 'file')} set aside, as approved")
    if own.unknown:
        parts.append(f"not known of {', '.join(own.unknown)}")
    return "; ".join(parts)
