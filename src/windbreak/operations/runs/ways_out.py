"""The ways out of a matter: which there are now, and one of them being taken.

Whatever a way does on the site goes through the journal of its run, so that it is taken up after a
crash and done once. A way that ends with the site as before closes the matter.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Literal

from windbreak.core.values.accounts import Principal
from windbreak.core.values.matters import DebtKind, Matter, WayOut, WayOutAct
from windbreak.core.values.runs import Probe, Run, Seen
from windbreak.documents.runs import MatterStory
from windbreak.links.errors import LinkError
from windbreak.links.probing import compare, look_at, worse
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.planning import planning
from windbreak.operations.runs import debts, going_back, looking, runs
from windbreak.operations.runs.acting import Acting
from windbreak.operations.runs.journal import StepFailed
from windbreak.operations.runs.looking import say_worse
from windbreak.operations.sites import sites
from windbreak.wording.matters import came_text, matter_head, visitor_text
from windbreak.wording.ways_out import Standing, ways_out

log = logging.getLogger("windbreak.matters")

_Came = tuple[str, bool]  # what it came to, and whether that closes the matter


def story(context: Context, matter: int) -> MatterStory:
    """A matter, and the ways out as they stand now. Asks the agent, and looks at the front page as
    a visitor. Reads.
    """
    known = context.store.matters.get(matter)
    owed = debts.owed(context, known.site)
    page = any(debt.kind == "page" for debt in owed)
    head = matter_head(context.store.runs.get(matter).state, page=page)
    if known.closed_at is not None:
        return MatterStory(matter=known, owed=tuple(owed), ways=(), head=head)
    standing = _standing(context, known)
    here = sites.visiting(context, context.store.sites.get(known.site))
    front = look_at(here, "Front page", "/", past_caches=False)
    return MatterStory(
        matter=known,
        owed=tuple(owed),
        ways=ways_out(standing),
        head=head,
        visitor=visitor_text(front, page=page),
        came=came_text(standing.came),
    )


def ways(context: Context, matter: int) -> tuple[WayOut, ...]:
    """The ways out of a matter as it stands now. Asks the agent. Reads."""
    known = context.store.matters.get(matter)
    return () if known.closed_at is not None else ways_out(_standing(context, known))


def _standing(context: Context, matter: Matter) -> Standing:
    run = context.store.runs.get(matter.id)
    try:
        acting = Acting(context, run)
        came = _came_in(acting)
    except (LinkError, OperationError):
        acting, came = None, None
    left = debts.owed(context, matter.site)
    snapshot = context.store.journal.all(run=run.id)
    made = next((e for e in snapshot if (e.act, e.state) == ("snapshot", "done")), None)
    steps = _to_put_back(acting) if acting else []
    return Standing(
        step=acting.title(steps[-1]) if acting and steps else None,
        steps=[acting.title(n) for n in reversed(steps)] if acting else [],
        snapshot=f"{made.at:%H:%M} UTC" if made else None,
        came=came,
        owed=debts.in_words(left),
        page=any(debt.kind == "page" for debt in left),
        worse=len(worse(_last_seen(acting))) if acting else 0,
        again=_again(context, run),
    )


def _again(context: Context, run: Run) -> Literal["take up", "anew"] | None:
    if run.broke:
        return "take up"
    plan = context.store.plans.get(run.plan)
    inventory = context.store.inventories.find(run.site)
    if plan.approval is None or inventory is None or plan.changed_since(inventory):
        return None
    return "anew"


def _came_in(run: Acting) -> dict[str, int]:
    """How much more of each kind of content there is than before the run. Asks the agent."""
    now = run.agent.look().counts
    if run.journal.done("baseline") is None:
        return {}
    before = run.baseline.counts
    more = {kind: count - before.get(kind, 0) for kind, count in now.items()}
    return {kind: count for kind, count in more.items() if count > 0}


def _to_put_back(run: Acting) -> list[int]:
    """The steps that were begun and are not put back, in their order; none after a restore."""
    entries = run.journal.entries
    if any(act.startswith("restore") and state == "done" for act, state in entries):
        return []
    left = []
    for n, step in enumerate(run.steps, start=1):
        applied = [m for m in step.moves if (f"apply {n} {m.product}", "done") in entries]
        if any((f"put back {n} {m.product}", "done") not in entries for m in applied):
            left.append(n)
    return left


def _last_seen(run: Acting) -> tuple[Seen, ...]:
    """The newest probe held against the baseline; none where there was none."""
    if run.journal.done("baseline") is None:
        return ()
    probes = [e for (a, s), e in run.journal.entries.items() if "probe" in a and s == "done"]
    if not probes:
        return ()
    newest = max(probes, key=lambda entry: entry.id)
    return compare(run.baseline, Probe.model_validate(newest.detail), judged=True)


def check(context: Context, matter: int, act: WayOutAct) -> None:
    """Raise Refused where a way out can't be taken now, with why."""
    way = next((way for way in ways(context, matter) if way.act == act), None)
    if way is None:
        raise Refused("matter-closed", f"matter {matter} is closed")
    if not way.possible:
        raise Refused("not-now", f"{way.label}: {way.text}")


def carry_out(context: Context, matter: int) -> Matter:
    """Take the way out that was written down, or take it up where it was. Writes.

    Never raises for what happens on the site: the matter then says what it came to.
    """
    known = context.store.matters.get(matter)
    doing = known.doing
    if doing is None:
        return known
    key = f"{doing.act} {int(doing.at.timestamp())}"
    try:
        acting = Acting(context, context.store.runs.get(matter))
        acting.agent.look()  # one that does not answer now is told at once
        told, closes = _TAKEN[doing.act](acting, key)
    except (StepFailed, LinkError, OperationError) as error:
        told, closes = f"It could not be done: {error}.", doing.act == "abandon"
    by = Principal(account="", name=doing.by, via="service")
    now = context.clock()
    fields: dict[str, object] = {"doing": None, "told": told}
    if closes:
        fields |= {"closed_at": now, "closed_by": by.name, "how": doing.act, "why": doing.why}
    with context.store.transaction():
        changed = context.store.matters.change(matter, **fields)
        what = f"matter {matter}: {doing.act}{', closed' if closes else ''}"
        context.record(by.name, what, known.site, why=doing.why, result=told)
    context.tell("run", str(matter), told)
    if closes and doing.act == "try-again":
        for run in context.store.runs.all(site=known.site, state="running"):
            runs.carry_out(context, run.id)
    return changed


def broke(context: Context, matter: int, fault: str) -> None:
    """A way out stopped on a fault of ours: it is being taken no longer, and says so; a run that it
    had begun is a matter of its own. Writes.
    """
    known = context.store.matters.get(matter)
    if known.doing is None:
        for run in context.store.runs.all(site=known.site, state="running"):
            runs.broke(context, run.id, fault)
        return
    told = f"“{known.doing.act}” stopped on a fault of the service: {fault}. It can be taken again."
    with context.store.transaction():
        context.store.matters.change(matter, doing=None, told=told)
        context.record("Windbreak", f"matter {matter}: stopped on a fault", known.site, result=told)
    context.tell("run", str(matter), told)


def _put_back_step(run: Acting, key: str) -> _Came:
    return _back(run, key, _to_put_back(run)[-1:])


def _put_back_all(run: Acting, key: str) -> _Came:
    return _back(run, key, _to_put_back(run)[::-1])


def _back(run: Acting, key: str, numbers: list[int]) -> _Came:
    for number in numbers:
        going_back.put_back(run, number, run.steps[number - 1])
        run.journal.write(f"step {number}", "put back", step=number, text=key)
    titles = ", ".join(run.title(n) for n in numbers)
    return _judged(run, key, f"Put back: {titles}.")


def _restore(run: Acting, key: str) -> _Came:
    made = run.journal.done("snapshot") or {}
    run.do(key, "restore", "the snapshot", snapshot=made.get("snapshot"))
    return _judged(run, key, "The snapshot was restored.")


def _judged(run: Acting, key: str, head: str) -> _Came:
    """Look, behind no page of ours; it goes up again where the site is not as before."""
    paged = any(debt.kind == "page" for debt in debts.owed(run.context, run.site.id))
    left = run.pay()
    seen = looking.look(run, f"probe after {key}", None)
    bad = worse(seen)
    if bad:
        if paged:
            run.owe("page", was=False)
            run.do(f"page up again {key}", "maintenance", "up again", on=True)
        return f"{head} But {say_worse(bad)}.", False
    owed = f" Still owed: {debts.in_words(left)}." if left else ""
    return f"{head} The site is as before the run.{owed}", True


def _accept(run: Acting, key: str) -> _Came:
    left = run.pay()
    owed = f" Still owed: {debts.in_words(left)}." if left else ""
    return f"It stays as it is.{owed}", True


def _take_page_away(run: Acting, key: str) -> _Came:
    left = run.pay("updates", "cache", "plugin")
    if any(debt.kind == "page" for debt in left):
        return "The page could not be taken away.", False
    return "The maintenance page is away; visitors see the pages as they are.", False


def _go_on(run: Acting, key: str) -> _Came:
    told, _ = _accept(run, key)
    plan = planning.draft(run.context, run.site.id)
    return f"{told} Plan {plan.id} holds the rest: see it, and approve it.", True


def _try_again(run: Acting, key: str) -> _Came:
    if run.run.broke:
        taken_up = runs.take_up(run.context, run.run.id)
        return f"Run {taken_up.id} is taken up where it was.", True
    left = run.pay()
    if left:
        return f"It can't be begun anew: still owed is {debts.in_words(left)}.", False
    run.context.store.plans.change(run.plan.id, state="approved")
    again = runs.start(run.context, run.plan.id, run.run.by)
    return f"Run {again.id} of the same plan was begun.", True


def _abandon(run: Acting, key: str) -> _Came:
    kept: tuple[DebtKind, ...] = ("page",) if worse(_last_seen(run)) else ()
    left = run.pay(*kept)
    owed = f" Still owed: {debts.in_words(left)}." if left else " Nothing is owed any more."
    return f"It was given up.{owed}", True


_TAKEN: dict[WayOutAct, Callable[[Acting, str], _Came]] = {
    "put-back-step": _put_back_step,
    "put-back-all": _put_back_all,
    "restore": _restore,
    "accept": _accept,
    "take-page-away": _take_page_away,
    "go-on": _go_on,
    "try-again": _try_again,
    "abandon": _abandon,
}
