"""The ways out of a matter: which there are now, and one of them being taken.

Whatever a way does on the site goes through the journal of its run, so that it is taken up after a
crash and done once. A way that ends with the site as before closes the matter.
"""

from __future__ import annotations

import logging
from collections.abc import Callable

from windbreak.core.values.accounts import Principal
from windbreak.core.values.matters import DebtKind, Matter, WayOut, WayOutAct
from windbreak.core.values.runs import Probe, Seen
from windbreak.links.errors import LinkError
from windbreak.links.probing import compare, worse
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.planning import planning
from windbreak.operations.runs import debts
from windbreak.operations.runs.journal import StepFailed
from windbreak.operations.runs.runs import Runner, say_worse
from windbreak.wording.ways_out import Standing, ways_out

log = logging.getLogger("windbreak.matters")

_Came = tuple[str, bool]  # what it came to, and whether that closes the matter


def ways(context: Context, matter: int) -> tuple[WayOut, ...]:
    """The ways out of a matter as it stands now. Asks the agent. Reads."""
    known = context.store.matters.get(matter)
    if known.closed_at is not None:
        return ()
    return ways_out(_standing(context, known))


def _standing(context: Context, matter: Matter) -> Standing:
    run = context.store.runs.get(matter.id)
    try:
        runner = Runner(context, run)
        came = _came_in(runner)
    except (LinkError, OperationError):
        runner, came = None, None
    left = debts.owed(context, matter.site)
    snapshot = context.store.journal.all(run=run.id)
    made = next((e for e in snapshot if (e.act, e.state) == ("snapshot", "done")), None)
    steps = _to_put_back(runner) if runner else []
    return Standing(
        step=runner.title(steps[-1]) if runner and steps else None,
        steps=[runner.title(n) for n in reversed(steps)] if runner else [],
        snapshot=f"{made.at:%H:%M} UTC" if made else None,
        came=came,
        owed=debts.in_words(left),
        page=any(debt.kind == "page" for debt in left),
        worse=len(worse(_last_seen(runner))) if runner else 0,
    )


def _came_in(runner: Runner) -> dict[str, int]:
    """How much more of each kind of content there is than before the run. Asks the agent."""
    now = runner.agent.look().counts
    if runner.journal.done("baseline") is None:
        return {}
    before = runner.baseline.counts
    more = {kind: count - before.get(kind, 0) for kind, count in now.items()}
    return {kind: count for kind, count in more.items() if count > 0}


def _to_put_back(runner: Runner) -> list[int]:
    """The steps that were begun and are not put back, in their order; none after a restore."""
    entries = runner.journal.entries
    if any(act.startswith("restore") and state == "done" for act, state in entries):
        return []
    left = []
    for n, step in enumerate(runner.plan.plan.steps, start=1):
        applied = [m for m in step.moves if (f"apply {n} {m.product}", "done") in entries]
        if any((f"put back {n} {m.product}", "done") not in entries for m in applied):
            left.append(n)
    return left


def _last_seen(runner: Runner) -> tuple[Seen, ...]:
    """The newest probe held against the baseline; none where there was none."""
    if runner.journal.done("baseline") is None:
        return ()
    probes = [e for (a, s), e in runner.journal.entries.items() if "probe" in a and s == "done"]
    if not probes:
        return ()
    newest = max(probes, key=lambda entry: entry.id)
    return compare(runner.baseline, Probe.model_validate(newest.detail), judged=True)


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
        runner = Runner(context, context.store.runs.get(matter))
        runner.agent.look()  # one that does not answer now is told at once
        told, closes = _TAKEN[doing.act](runner, key)
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
    return changed


def _put_back_step(runner: Runner, key: str) -> _Came:
    return _back(runner, key, _to_put_back(runner)[-1:])


def _put_back_all(runner: Runner, key: str) -> _Came:
    return _back(runner, key, _to_put_back(runner)[::-1])


def _back(runner: Runner, key: str, numbers: list[int]) -> _Came:
    for number in numbers:
        runner.put_back(number, runner.plan.plan.steps[number - 1])
        runner.journal.write(f"step {number}", "put back", step=number, text=key)
    titles = ", ".join(runner.title(n) for n in numbers)
    return _judged(runner, key, f"Put back: {titles}.")


def _restore(runner: Runner, key: str) -> _Came:
    made = runner.journal.done("snapshot") or {}
    runner.do(key, "restore", "the snapshot", snapshot=made.get("snapshot"))
    return _judged(runner, key, "The snapshot was restored.")


def _judged(runner: Runner, key: str, head: str) -> _Came:
    """Look, behind no page of ours; it goes up again where the site is not as before."""
    paged = any(debt.kind == "page" for debt in debts.owed(runner.context, runner.site.id))
    left = runner.pay()
    seen = runner.look(f"probe after {key}", None)
    bad = worse(seen)
    if bad:
        if paged:
            runner.owe("page", was=False)
            runner.do(f"page up again {key}", "maintenance", "up again", on=True)
        return f"{head} But {say_worse(bad)}.", False
    owed = f" Still owed: {debts.in_words(left)}." if left else ""
    return f"{head} The site is as before the run.{owed}", True


def _accept(runner: Runner, key: str) -> _Came:
    left = runner.pay()
    owed = f" Still owed: {debts.in_words(left)}." if left else ""
    return f"It stays as it is.{owed}", True


def _take_page_away(runner: Runner, key: str) -> _Came:
    left = runner.pay("updates", "cache", "plugin")
    if any(debt.kind == "page" for debt in left):
        return "The page could not be taken away.", False
    return "The maintenance page is away; visitors see the pages as they are.", False


def _go_on(runner: Runner, key: str) -> _Came:
    told, _ = _accept(runner, key)
    plan = planning.draft(runner.context, runner.site.id)
    return f"{told} Plan {plan.id} holds the rest: see it, and approve it.", True


def _abandon(runner: Runner, key: str) -> _Came:
    kept: tuple[DebtKind, ...] = ("page",) if worse(_last_seen(runner)) else ()
    left = runner.pay(*kept)
    owed = f" Still owed: {debts.in_words(left)}." if left else " Nothing is owed any more."
    return f"It was given up.{owed}", True


_TAKEN: dict[WayOutAct, Callable[[Runner, str], _Came]] = {
    "put-back-step": _put_back_step,
    "put-back-all": _put_back_all,
    "restore": _restore,
    "accept": _accept,
    "take-page-away": _take_page_away,
    "go-on": _go_on,
    "abandon": _abandon,
}
