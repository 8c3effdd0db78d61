"""The ways out of a matter: which there are now, and one of them being taken.

Whatever a way does on the site goes through the journal of its run, so that it is taken up after a
crash and done once. A way that ends with the site as before closes the matter.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from typing import Literal

from windbreak.core.scheduling.openings import openings
from windbreak.core.values import journal as acts
from windbreak.core.values.accounts import Principal
from windbreak.core.values.journal import BY_HAND, ActKind
from windbreak.core.values.matters import CameIn, DebtKind, Matter, WayOut, WayOutAct
from windbreak.core.values.runs import Run, Seen
from windbreak.documents.runs import Fact, MatterStory
from windbreak.links.adapter import AgentLook
from windbreak.links.errors import LinkError
from windbreak.links.probing import compare, look_at, worse
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.planning import planning
from windbreak.operations.runs import debts, going_back, lengths, looking, runs
from windbreak.operations.runs.acting import Acting
from windbreak.operations.runs.journal import Journal, StepFailed
from windbreak.operations.sites import visits
from windbreak.wording.matters import (
    came_fact,
    link_fact,
    matter_head,
    pages_fact,
    unless_text,
    visitor_fact,
    window_fact,
    worse_text,
)
from windbreak.wording.ways_out import Standing, ways_out
from windbreak.wording.words import listed

log = logging.getLogger("windbreak.matters")

_LOOK_SECONDS = 15.0  # that a probe takes, about
_Came = tuple[str, bool]  # what it came to, and whether that closes the matter


def story(context: Context, matter: int) -> MatterStory:
    """A matter, and the ways out as they stand now. Asks the agent, and looks at the pages: at the
    front page as a visitor, at all of the baseline behind the maintenance page. Reads.
    """
    open_, now = context.store.matters.get(matter), context.clock()
    owed = tuple(debts.owed(context, open_.site))
    page = any(debt.kind == "page" for debt in owed)
    head = matter_head(context.store.runs.get(matter).state, page=page)
    if open_.closed_at is not None:
        return MatterStory(matter=open_, owed=owed, ways=(), head=head, at=now)
    asked = _Asked(context, open_)
    return MatterStory(
        matter=open_,
        owed=owed,
        ways=ways_out(_standing(context, open_, asked)),
        head=head,
        at=now,
        facts=_facts(context, open_, asked, page=page),
        unless=unless_text(page=page, owed=debts.in_words(owed)),
    )


def _facts(context: Context, matter: Matter, asked: _Asked, *, page: bool) -> tuple[Fact, ...]:
    site, now = context.store.sites.get(matter.site), context.clock()
    here = visits.visiting(context, site)
    seen, why = None, asked.why
    if asked.acting is not None and asked.look is not None:
        if page and not asked.look.pass_:
            why = "its agent shows nothing behind the page"
        else:
            seen = looking.pages_now(asked.acting, here.past_page(asked.look.pass_))
            why = "" if seen else "there was no look before the run"
    openings_now = openings(site.windows, site.timezone, now, now)
    closes = next((closes for _, closes in openings_now), None)
    return (
        visitor_fact(look_at(here, "Front page", "/", past_caches=False), page=page),
        pages_fact(seen or None, page=page, why=why),
        came_fact(asked.came, asked.items, asked.snapshot_at),
        link_fact(asked.look is not None, site.facts_at),
        window_fact(closes, now, windows=bool(site.windows)),
    )


def ways(context: Context, matter: int) -> tuple[WayOut, ...]:
    """The ways out of a matter as it stands now. Asks the agent. Reads."""
    open_ = context.store.matters.get(matter)
    if open_.closed_at is not None:
        return ()
    return ways_out(_standing(context, open_, _Asked(context, open_)))


class _Asked:
    """What the agent of a matter's site answers now; ``look`` and ``came`` None where it does not,
    and ``why``.
    """

    def __init__(self, context: Context, matter: Matter) -> None:
        journal = context.store.journal.all(run=matter.id)
        made = [e for e in journal if e.kind == ActKind.SNAPSHOT]
        self.snapshot_at = next((e.at for e in reversed(made) if e.state == "meant"), None)
        self.snapshot_done = any(e.state == "done" for e in made)
        self.acting: Acting | None = None
        self.look: AgentLook | None = None
        self.came: dict[str, int] | None = None
        self.why = ""
        try:
            self.acting = Acting(context, context.store.runs.get(matter.id))
            self.look = self.acting.agent.look(self.snapshot_at)
            self.came = _more(self.acting, self.look.counts)
        except (LinkError, OperationError) as error:
            self.acting, self.why = None, str(error)

    @property
    def items(self) -> tuple[CameIn, ...]:
        """What came in, one by one."""
        return tuple(c for c in self.look.came if c.kind in (self.came or {})) if self.look else ()


def _standing(context: Context, matter: Matter, asked: _Asked) -> Standing:
    run, acting = context.store.runs.get(matter.id), asked.acting
    left = debts.owed(context, matter.site)
    steps = _to_put_back(acting) if acting else []
    made = asked.snapshot_at if asked.snapshot_done else None
    return Standing(
        step=acting.title(steps[-1]) if acting and steps else None,
        steps=[acting.title(n) for n in reversed(steps)] if acting else [],
        snapshot=f"{made:%H:%M} UTC" if made else None,
        came=asked.came,
        owed=debts.in_words(left),
        page=any(debt.kind == "page" for debt in left),
        worse=len(worse(_last_seen(acting))) if acting else 0,
        again=_again(context, run),
        items=asked.items,
        seconds=_seconds(acting, steps) if acting else {},
        behind=acting.sees_behind if acting else False,
        number=steps[-1] if steps else 0,
        later=_moved_later(context, run),
        migrated={n: name for n in steps if (name := going_back.migrated(acting, n))}
        if acting
        else {},
    )


def _seconds(run: Acting, steps: list[int]) -> dict[WayOutAct, float]:
    """How long each way takes, about: by what the acts of runs took on this host."""
    usual = lengths.usual(run.context, run.site.host)
    look, pay = _LOOK_SECONDS, lengths.of_act(usual, ActKind.CACHES_PURGED)
    apply = lengths.of_act(usual, ActKind.APPLY)
    back = {n: apply * len(run.steps[n - 1].moves) for n in steps}
    every = sum((apply + look) * len(step.moves) for step in run.steps)
    return {
        "put-back-step": back.get(steps[-1], 0) + look + pay if steps else 0,
        "put-back-all": sum(back.values()) + look + pay,
        "restore": lengths.of_act(usual, ActKind.RESTORE) + look + pay,
        **dict.fromkeys(("accept", "take-page-away", "go-on", "abandon"), pay),
        "try-again": lengths.of_act(usual, ActKind.SNAPSHOT) + every + look,
    }


def _again(context: Context, run: Run) -> Literal["take up", "anew"] | None:
    if run.broke:
        return "take up"
    plan = context.store.plans.get(run.plan)
    inventory = context.store.inventories.find(run.site)
    if plan.approval is None or inventory is None or plan.changed_since(inventory):
        return None
    return "anew"


def _moved_later(context: Context, run: Run) -> list[str]:
    """What runs that were begun after one have moved on its site, in words."""
    moved = []
    for other in context.store.runs.all(site=run.site):
        if other.id > run.id:
            acting = Acting(context, other)
            moved += [acting.title(number) for number in _to_put_back(acting)]
    return moved


def _more(run: Acting, now: Mapping[str, int]) -> dict[str, int]:
    """How much more of each kind of content there is than before the run."""
    if run.journal.done(acts.baseline(run.leg)) is None:
        return {}
    before = run.baseline.counts
    more = {kind: count - before.get(kind, 0) for kind, count in now.items()}
    return {kind: count for kind, count in more.items() if count > 0}


def _to_put_back(run: Acting) -> list[int]:
    """The steps that were begun and are not put back, in their order; none after a restore."""
    journal = run.journal
    if journal.of_kind(ActKind.RESTORE, "done"):
        return []
    left = []
    for n, step in enumerate(run.steps, start=1):
        applied = [m.product for m in step.moves if _applied(journal, n, m.product)]
        if any(not journal.has(acts.put_back(n, product), "done") for product in applied):
            left.append(n)
    return left


def _applied(journal: Journal, number: int, product: str) -> bool:
    act = acts.apply(number, product)
    return journal.has(act, "done") or journal.has(act.again, "done")


def _last_seen(run: Acting) -> tuple[Seen, ...]:
    """The newest probe held against the baseline; none where there was none."""
    probes = run.journal.of_kind(ActKind.PROBE, "done")
    if run.journal.done(acts.baseline(run.leg)) is None or not probes:
        return ()
    return compare(run.baseline, acts.probe().brought_by(probes[-1]), judged=True)


def check(context: Context, matter: int, act: WayOutAct) -> None:
    """Raise Refused where a way out can't be taken now, with why."""
    way = next((way for way in ways(context, matter) if way.act == act), None)
    if way is None:
        raise Refused("matter-closed", f"matter {matter} is closed")
    if not way.possible:
        raise Refused("not-now", f"{way.label}: {way.text}")


def carry_out(context: Context, matter_id: int) -> Matter:
    """Take the way out that was written down, or take it up where it was. Writes.

    Never raises for what happens on the site: the matter then says what it came to.
    """
    matter = context.store.matters.get(matter_id)
    doing = matter.doing
    if doing is None:
        return matter
    try:
        acting = Acting(context, context.store.runs.get(matter_id))
        acting.agent.look()  # one that does not answer now is told at once
        outcome, closes = _TAKEN[doing.act](acting, matter.taken)
    except (StepFailed, LinkError, OperationError) as error:
        outcome, closes = f"It could not be done: {error}.", doing.act == "abandon"
    by = Principal(account="", name=doing.by, via="service")
    now = context.clock()
    fields: dict[str, object] = {"doing": None, "told": outcome}
    if closes:
        fields |= {"closed_at": now, "closed_by": by.name, "how": doing.act, "why": doing.why}
    with context.store.transaction():
        changed = context.store.matters.change(matter_id, **fields)
        what = f"matter {matter_id}: {doing.act}{', closed' if closes else ''}"
        context.record(by.name, what, matter.site, why=doing.why, result=outcome, run=matter_id)
    context.tell("run", str(matter_id), outcome)
    if doing.act == "try-again":
        for run in context.store.runs.all(site=matter.site, state="running"):
            runs.carry_out(context, run.id)
    return changed


def broke(context: Context, matter_id: int, fault: str) -> None:
    """A way out stopped on a fault of ours: it is being taken no longer, and says so; a run that it
    had begun is a matter of its own. Writes.
    """
    matter = context.store.matters.get(matter_id)
    if matter.doing is None:
        for run in context.store.runs.all(site=matter.site, state="running"):
            runs.broke(context, run.id, fault)
        return
    text = (
        f"“{matter.doing.act}” stopped on a fault of the service: {fault}. It can be taken again."
    )
    with context.store.transaction():
        context.store.matters.change(matter_id, doing=None, told=text)
        what = f"matter {matter_id}: stopped on a fault"
        context.record("Windbreak", what, matter.site, result=text, run=matter_id)
    context.tell("run", str(matter_id), text)


def _put_back_step(run: Acting, way: int) -> _Came:
    return _back(run, way, _to_put_back(run)[-1:])


def _put_back_all(run: Acting, way: int) -> _Came:
    return _back(run, way, _to_put_back(run)[::-1])


def _back(run: Acting, way: int, numbers: list[int]) -> _Came:
    for number in numbers:
        going_back.put_back(run, number, run.steps[number - 1])
        run.journal.write(acts.step(number), "put back", text="by a person's word")
    titles = ", ".join(run.title(n) for n in numbers)
    return _judged(run, way, f"Put back: {titles}.")


def _restore(run: Acting, way: int) -> _Came:
    act = acts.restore(way)
    going_back.close_shop(run, act)
    # What came in until now is the person's decision; what comes in after it is not.
    written = run.journal.ask(run.agent.look).written
    try:
        missing = going_back.bring_back(run, act, written)
    except StepFailed as error:
        if error.code != "not-as-expected":
            raise
        what = "Something was written on the site during the restore, so the restore stopped."
        then = "The maintenance page is up. Check what came in, and decide again."
        return f"{what} Nothing was restored. {then}", False
    return _judged(run, way, f"The snapshot was restored.{missing}")


def _judged(run: Acting, way: int, head: str) -> _Came:
    """Look, behind our page where its agent shows that; else it comes down for the look, and goes
    up again where the site is not as before.
    """
    paged = any(debt.kind == "page" for debt in debts.owed(run.context, run.site.id))
    left = run.pay(*(("page",) if paged and run.sees_behind else ()))
    bad = worse_text(looking.look(run, acts.probe(when=BY_HAND, turn=way)))
    if bad:
        if paged:
            run.owe("page", was=False)
            page = acts.page_up(why=acts.FOR_HELP_AGAIN, turn=way)
            run.do(page, "maintenance", "up again", on=True)
        return f"{head} But {bad}.", False
    left = run.pay() if paged else left
    owed = f" Still owed: {debts.in_words(left)}." if left else ""
    return f"{head} The site is as before the run.{owed}", True


def _accept(run: Acting, way: int) -> _Came:
    left = run.pay()
    owed = f" Still owed: {debts.in_words(left)}." if left else ""
    return f"It stays as it is.{owed}", True


def _take_page_away(run: Acting, way: int) -> _Came:
    left = run.pay("updates", "cache", "plugin")
    if any(debt.kind == "page" for debt in left):
        return "The page could not be taken away.", False
    return "The maintenance page is away; visitors see the pages as they are.", False


def _go_on(run: Acting, way: int) -> _Came:
    outcome, _ = _accept(run, way)
    inventory = run.context.store.inventories.get(run.site.id)
    left = {p: v for p, v in run.plan.targets.items() if inventory.version_of(p) != v}
    failed = _failed(run) & left.keys()
    every = {c.product for c in inventory.components} | run.plan.targets.keys()
    plan = planning.draft(run.context, run.site.id, only=frozenset(every - failed))
    without = listed([run.names.get(product, product) for product in sorted(failed)])
    kept = sorted(left.keys() - failed - plan.targets.keys())
    names = listed([run.names.get(product, product) for product in kept])
    too = f" What needs it stays as well: {names}."
    head = f"{outcome} Plan {plan.id} holds the rest{f', without {without}' if failed else ''}"
    return f"{head}: see it, and approve it.{too if failed and kept else ''}", True


def _failed(run: Acting) -> set[str]:
    """The products of the steps that failed, or were put back."""
    numbers = range(1, len(run.steps) + 1)
    wrong = [n for n in numbers if run.journal.has(acts.step(n), "failed")]
    wrong += [n for n in numbers if run.journal.has(acts.step(n), "put back")]
    return {move.product for n in wrong for move in run.steps[n - 1].moves}


def _try_again(run: Acting, way: int) -> _Came:
    if run.run.broke:
        taken_up = runs.take_up(run.context, run.run.id)
        return f"Run {taken_up.id} is taken up where it was.", False
    left = run.pay()
    if left:
        return f"It can't be begun anew: still owed is {debts.in_words(left)}.", False
    run.context.store.plans.change(run.plan.id, state="approved")
    outside = run.run.outside  # meant then, and meant now
    try:
        again = runs.begin(
            run.context,
            run.plan.id,
            run.run.by,
            outside_window=outside,
            although_it_failed=run.run.although,
        )
    except Refused as error:
        if error.code != "outside-window":
            raise
        how = f"windbreak run start {run.plan.id} --outside-window"
        return f"Not begun: the site’s window is closed. To run it all the same: {how}", False
    return f"Run {again.id} of the same plan has begun. This closes when it has ended well.", False


def _abandon(run: Acting, way: int) -> _Came:
    kept: tuple[DebtKind, ...] = ("page",) if worse(_last_seen(run)) else ()
    left = run.pay(*kept)
    owed = f" Still owed: {debts.in_words(left)}." if left else " Nothing is owed any more."
    return f"It was given up.{owed}", True


_TAKEN: dict[WayOutAct, Callable[[Acting, int], _Came]] = {
    "put-back-step": _put_back_step,
    "put-back-all": _put_back_all,
    "restore": _restore,
    "accept": _accept,
    "take-page-away": _take_page_away,
    "go-on": _go_on,
    "try-again": _try_again,
    "abandon": _abandon,
}
