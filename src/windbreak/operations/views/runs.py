"""A run as it is read: its steps, what the probes saw, its journal."""

from __future__ import annotations

from windbreak.core.values.runs import JournalEntry, Probe, Seen
from windbreak.core.values.verdicts import PlannedStep
from windbreak.documents.runs import RunStep, RunStory
from windbreak.links.probing import compare
from windbreak.operations.context import Context
from windbreak.operations.runs import debts
from windbreak.wording.answers import step_title


def run_story(context: Context, run: int) -> RunStory:
    """A run with its steps, what the probes saw and its journal. Reads."""
    known = context.store.runs.get(run)
    plan = context.store.plans.get(known.plan)
    journal = context.store.journal.all(run=run)
    by_act: dict[tuple[str, str], JournalEntry] = {(e.act, e.state): e for e in journal}
    names = _names(context)
    baseline = by_act.get(("baseline", "done"))
    seen, after = _newest_probe(journal, baseline)
    steps = tuple(
        _run_step(n, step, by_act, names) for n, step in enumerate(plan.plan.steps, start=1)
    )
    shown = tuple(e.model_copy(update={"detail": {}}) for e in journal)
    return RunStory(
        run=known,
        steps=steps,
        seen=seen,
        seen_after=after,
        journal=shown,
        as_it_was=_as_it_was(by_act),
        matter=context.store.matters.find(run),
        owed=tuple(d for d in debts.owed(context, known.site) if d.run == run),
    )


def _names(context: Context) -> dict[str, str]:
    return {p.id: p.name for p in context.store.products.all()}


def _newest_probe(
    journal: list[JournalEntry], baseline: JournalEntry | None
) -> tuple[tuple[Seen, ...], int]:
    if baseline is None:
        return (), 0
    before = Probe.model_validate(baseline.detail)
    failed_at = next(
        (e.id for e in journal if e.state == "failed" and e.act.startswith("step ")), None
    )
    for entry in reversed(journal):
        if "probe" in entry.act and entry.state == "done":
            judged = failed_at is not None and entry.id > failed_at
            now = Probe.model_validate(entry.detail)
            return compare(before, now, judged=judged), entry.step or 0
    return (), 0


def _run_step(
    number: int,
    step: PlannedStep,
    by_act: dict[tuple[str, str], JournalEntry],
    names: dict[str, str],
) -> RunStep:
    act = f"step {number}"
    meant, put_back = by_act.get((act, "meant")), by_act.get((act, "put back"))
    ended = by_act.get((act, "done")) or put_back or by_act.get((act, "failed"))
    state = "to come"
    if meant is not None:
        state = "running" if ended is None else ended.state
    done = by_act.get((act, "done"))
    return RunStep.model_validate(
        {
            "number": number,
            "title": step_title(step, names),
            "moves": [
                {"name": names.get(m.product, m.product), "start": m.from_, "end": m.to}
                for m in step.moves
            ],
            "why": step.why,
            "state": state,
            "started_at": meant.at if meant else None,
            "ended_at": ended.at if ended else None,
            "seen": done.detail.get("seen", ()) if done else (),
        }
    )


def _as_it_was(by_act: dict[tuple[str, str], JournalEntry]) -> str:
    before = by_act.get(("inventory", "done"))
    if before is None:
        return ""
    recorded = before.detail
    parts = [f"Automatic updates {'on' if recorded['automatic_updates'] else 'off'}."]
    if recorded["caches"]:
        parts.append(f"{len(recorded['caches'])} page cache on.")
    plugins = [p for p in recorded["active"] if p.startswith("plugin/")]
    parts.append(f"{len(plugins)} plugins on.")
    if ("snapshot", "done") in by_act:
        detail = by_act["snapshot", "done"].detail
        parts.append(f"Snapshot: complete, {detail['files']} files.")
    return " ".join(parts)
