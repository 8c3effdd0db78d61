"""What the acts of a run are made of: its plan, its site and agent, its journal, what it owes.

The acts themselves are in rooms of their own (looking, stepping, going back, planning anew), each
given one of these; the runner puts them in their order, the ways out take some of them again.
"""

from __future__ import annotations

import time
from collections.abc import Iterable
from typing import Any, TypeVar

from windbreak.core.values import journal as acts
from windbreak.core.values.basics import Value
from windbreak.core.values.errands import Brought
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.journal import ActKind, RunAct
from windbreak.core.values.matters import Debt, DebtKind
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.runs import Probe, Run, RunPhase, RunState
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.feeds.errors import FeedError
from windbreak.links.adapter import Start
from windbreak.operations.context import Context
from windbreak.operations.planning import brought
from windbreak.operations.runs import debts, errands
from windbreak.operations.runs.course import Course, course
from windbreak.operations.runs.journal import Journal, StepFailed
from windbreak.operations.sites import integrity, inventories, sites
from windbreak.operations.tracking import shelving
from windbreak.wording.answers import step_title

_FETCHES = (1.0, 3.0, 9.0)  # seconds between two tries to fetch a package


D = TypeVar("D", bound=Value)


class Stopped(Exception):
    """The run ends early with nothing wrong on the site."""


def act_of(bring: Brought, *, back: bool = False) -> RunAct[Any]:
    """What a move brings, as an act of the journal."""
    return acts.bring(bring.kind, bring.step, bring.product, back=back)


class Acting:
    """One run as its acts see it."""

    def __init__(self, context: Context, run: Run) -> None:
        self.context = context
        self.run = run
        self.plan: SitePlan = context.store.plans.get(run.plan)
        self.site = context.store.sites.get(run.site)
        self.agent = sites.agent_for(context, run.site)
        self.names = {p.id: p.name for p in context.store.products.all()}
        self.journal = Journal(context, run.id, self.agent, self.names)
        self.alarmed = False

    @property
    def course(self) -> Course:
        """Its steps as they are now, the rest planned anew where that was needed."""
        return course(self.plan, self.journal.every)

    @property
    def steps(self) -> tuple[PlannedStep, ...]:
        return self.course.steps

    @property
    def approval_restores(self) -> bool:
        return bool(self.plan.approval and self.plan.approval.restore_anyway)

    @property
    def sees_behind(self) -> bool:
        """Whether its agent shows the pages behind the maintenance page."""
        return "pass" in self.site.link.agent_can

    def brings(self, number: int) -> list[Brought]:
        """What a step brings with it."""
        step = self.steps[number - 1]
        every = brought.of_steps(self.context, self.site.id, [step])
        return [bring.model_copy(update={"step": number}) for bring in every]

    def left_to_a_person(self, bring: Brought) -> bool:
        """Whether the site has nobody who does what the run was to have done there."""
        return self.journal.has(act_of(bring).about(ActKind.LEFT_TO_PERSON), "noted")

    def have_done(self, bring: Brought, *, back: bool = False, **args: object) -> None:
        """Have a component do what a move of it brings: make files anew, take its code; ``back``:
        as it was before. Where nothing on the site does that, it is left to a person. Raises
        StepFailed.
        """
        act = act_of(bring, back=back)
        try:
            self.do(act, bring.kind, bring.text, product=bring.product, **args)
        except StepFailed as error:
            if error.code != "not-permitted" or bring.kind == "migrate":
                raise
            self.journal.note(act.about(ActKind.LEFT_TO_PERSON), str(error))

    @property
    def leg(self) -> int:
        """Which leg of the run this is."""
        return self.journal.leg

    def title(self, number: int) -> str:
        """A step in words: "Netloft 1.6 → 1.9"."""
        return step_title(self.steps[number - 1], self.names)

    def tell(self, phase: RunPhase, step: int, text: str) -> None:
        steps = len(self.steps)
        self.context.store.runs.change(self.run.id, phase=phase, step=step, steps=steps, text=text)
        self.context.tell("run", str(self.run.id), text)

    def inventory(self) -> Inventory:
        now = self.context.clock()
        inventory = self.journal.ask(lambda: self.agent.inventory(self.site.id, now))
        with self.context.store.transaction():
            inventory = inventories.take_in(self.context, inventory, tried=True)
            self.context.store.sites.change(self.site.id, facts_at=inventory.at)
            debts.settle(self.context, inventory)
            errands.settle(self.context, inventory)
        return inventory

    def pay(self, *but: DebtKind) -> list[Debt]:
        """Set back what is owed; what still is."""
        return debts.pay(self.context, self.agent, self.site.id, self.inventory, but=but)

    def owe(self, kind: DebtKind, *, was: bool, name: str = "") -> None:
        debts.owe(self.context, self.run, kind, was=was, name=name)

    def fetch(self, product: str, version: str) -> Any:
        """A package in hand; a fetch that fails is tried again with longer and longer pauses."""
        for turn, pause in enumerate((*_FETCHES, None), start=1):
            try:
                return shelving.fetch_package(
                    self.context, product, version, self.run.site, lent=True
                )
            except FeedError as error:
                if pause is None:
                    raise
                note = f"{product} {version} could not be fetched ({error}); again in {pause:.0f} s"
                self.journal.note(acts.fetched_again(product, turn), note)
                time.sleep(pause)
        raise AssertionError("the last try returns or raises")

    def carried(self, product: str) -> tuple[str, ...]:
        """The files of a component that go with it into its next version."""
        own = self.journal.done(acts.own_files(self.leg))
        return own.carry.get(product, ()) if own else ()

    def start_of(self, move: PlannedMove) -> Start:
        """What a component is to be when its move begins: its version, and its files as they were
        looked at before the run.
        """
        own = self.journal.done(acts.own_files(self.leg)) or acts.OwnFilesSeen()
        looked_at = move.from_ is not None and move.product in own.carry
        return Start(
            version=move.from_,
            pristine=integrity.pristine(self.context, self.site.id, move.product, str(move.from_))
            if looked_at
            else {},
            decided=own.sums.get(move.product, {}),
        )

    @property
    def recorded(self) -> acts.Recorded:
        """What was on before the run: active components, automatic updates, caches."""
        return self.journal.done(acts.inventory(self.leg)) or acts.Recorded()

    @property
    def baseline(self) -> Probe:
        before = self.journal.done(acts.baseline(self.leg))
        assert before is not None  # whoever holds something against it has looked
        return before

    def do(self, act: RunAct[D], call: str, text: str, **args: object) -> D:
        """Change something on the site, once. What took too long and was not done is done again,
        once; it then counts as the act's own end. Raises StepFailed.
        """

        def send(change: str) -> dict[str, Any]:
            return self.agent.do(call, change, **args)

        try:
            return self.journal.change(act, send, text=text)
        except StepFailed as error:
            if error.code != "timed-out":
                raise
        self.journal.note(act.about(ActKind.MENDED), "it did not end: again")
        detail = self.journal.change(act.again, send, text=text)
        again = self.journal.entry(act.again, "done")
        change = again.change if again else None
        self.journal.write(act, "done", text=text, change=change, detail=detail)
        return detail

    def surprised(self, odd: Iterable[str]) -> None:
        """Note what other hands changed, beside what was noted before. Writes."""
        before = self.context.store.runs.get(self.run.id).surprises
        every = tuple(dict.fromkeys((*before, *odd)))
        if every != before:
            self.context.store.runs.change(self.run.id, surprises=every)

    def alarm(self, text: str) -> tuple[RunState, str]:
        self.alarmed = True
        self.journal.write(acts.alarm(), "noted", text=text)
        return "alarm", text

    def read_back(
        self, number: int, step: PlannedStep, when: str | None = None
    ) -> dict[str, str | None]:
        """The versions of a step's products as the site has them now, None where one is gone;
        noted as an act. Raises LinkError.
        """

        def read() -> acts.ReadBack:
            inventory = self.inventory()
            every = {move.product: inventory.version_of(move.product) for move in step.moves}
            return acts.ReadBack(versions=every)

        def text(read: acts.ReadBack) -> str:
            return ", ".join(version or "gone" for version in read.versions.values())

        return self.journal.once(acts.read_back(number, when), read, text=text).versions
