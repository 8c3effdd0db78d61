"""A run as it is read: its steps, what the probes saw, its journal."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import timedelta
from typing import Any

from windbreak.core.scheduling.openings import openings
from windbreak.core.values import journal as acts
from windbreak.core.values.errands import Brought
from windbreak.core.values.journal import ActKind, EntryState, JournalEntry, RunAct
from windbreak.core.values.matters import CameIn
from windbreak.core.values.runs import Run, Seen
from windbreak.core.values.verdicts import PlannedStep
from windbreak.documents.runs import JournalLine, Pacing, RunStep, RunStory, WindowLeft
from windbreak.links.probing import compare
from windbreak.operations.context import Context
from windbreak.operations.planning import brought
from windbreak.operations.runs import debts, lengths, pictures
from windbreak.operations.runs.course import course
from windbreak.operations.runs.lengths import BACK, STEP
from windbreak.operations.views import happened
from windbreak.wording.answers import step_title
from windbreak.wording.brought import brought_text
from windbreak.wording.journal import act_label
from windbreak.wording.words import counted


def run_story(context: Context, run_id: int) -> RunStory:
    """A run with its steps, what the probes saw and its journal. Reads."""
    run = context.store.runs.get(run_id)
    plan = context.store.plans.get(run.plan)
    journal = context.store.journal.all(run=run_id)
    by_act = {(e.act, e.state): e for e in journal}
    names = _names(context)
    seen, after = _newest_probe(journal)
    steps = tuple(
        _run_step(n, step, by_act, names, _brought(context, run, step)).model_copy(
            update={"happened": happened.after_failing(n, journal, names)}
        )
        for n, step in enumerate(course(plan, journal).steps, start=1)
    )
    shown = tuple([JournalLine.of(entry, act_label(entry.act, names)) for entry in journal])
    return RunStory(
        run=run,
        steps=steps,
        seen=seen,
        seen_after=after,
        journal=shown,
        as_it_was=_as_it_was(journal),
        pace=_pacing(run, journal, names),
        window=_window(context, run, steps),
        told_at=run.waiting_since + timedelta(minutes=context.patience_minutes)
        if run.waiting_since
        else None,
        errands=tuple(e for e in context.store.errands.all(site=run.site) if e.run == run_id),
        pictures=pictures.pairs(run_id, journal),
        matter=context.store.matters.find(run_id),
        owed=tuple(d for d in debts.owed(context, run.site) if d.run == run_id),
        lost=lost_in(journal),
    )


def lost_in(journal: Iterable[JournalEntry]) -> tuple[CameIn, ...]:
    """What was written on the site since the snapshot, and lost as that was restored."""
    done = {entry.act: entry for entry in journal if entry.state == "done"}
    restores = [act for act in done if act.kind == ActKind.RESTORE]
    written = [(act, done.get(act)) for act in map(acts.lost_by, restores)]
    return tuple([came for act, line in written if line for came in act.brought_by(line).came])


def _pacing(run: Run, journal: list[JournalEntry], names: dict[str, str]) -> Pacing | None:
    """The change that is under way in a run, and how it goes; None where there is none."""
    if run.state != "running":
        return None
    ended = {entry.act for entry in journal if entry.state in ("done", "failed")}
    open_ = [e for e in journal if e.change is not None and e.act not in ended]
    if not open_:
        return None
    act = open_[-1]
    lines = [e for e in journal if (e.act, e.state) == (acts.usual_lengths(), "done")]
    usual = acts.usual_lengths().brought_by(lines[0]).seconds if lines else {}
    return Pacing(
        act=act_label(act.act, names),
        began_at=act.at,
        usual_seconds=lengths.of_act(usual, act.kind),
        state=run.pace,
        progress=run.progress,
        signs=tuple(sign for sign in run.signs if sign >= act.at),
    )


def _window(context: Context, run: Run, steps: Sequence[RunStep]) -> WindowLeft | None:
    """The window that is open, of a run that is bound by one."""
    site, now = context.store.sites.get(run.site), context.clock()
    if run.state != "running" or run.outside or not site.windows:
        return None
    for opens, closes in openings(site.windows, site.timezone, now, now):
        left = sum(step.state == "to come" for step in steps)
        needed = left * STEP + BACK
        return WindowLeft(
            opens=opens,
            closes=closes,
            latest=closes - needed,
            steps_minutes=int(left * STEP.total_seconds() // 60),
            back_minutes=int(BACK.total_seconds() // 60),
        )
    return None


def _names(context: Context) -> dict[str, str]:
    return {p.id: p.name for p in context.store.products.all()}


def _newest(journal: Iterable[JournalEntry], kind: ActKind) -> JournalEntry | None:
    """The newest act of a kind that is done: a run that went on after an errand did some again."""
    lines = [entry for entry in journal if (entry.kind, entry.state) == (kind, "done")]
    return lines[-1] if lines and lines[-1].is_whole else None


def _newest_probe(journal: list[JournalEntry]) -> tuple[tuple[Seen, ...], int]:
    baseline, probe = _newest(journal, ActKind.BASELINE), _newest(journal, ActKind.PROBE)
    if baseline is None or probe is None:
        return (), 0
    failed = [e.id for e in journal if (e.kind, e.state) == (ActKind.STEP, "failed")]
    judged = bool(failed) and probe.id > failed[0]
    before, now = acts.baseline(1).brought_by(baseline), acts.probe().brought_by(probe)
    return compare(before, now, judged=judged), probe.step or 0


def _run_step(
    number: int,
    step: PlannedStep,
    by_act: Mapping[tuple[RunAct[Any], EntryState], JournalEntry],
    names: Mapping[str, str],
    brings: Iterable[Brought],
) -> RunStep:
    act = acts.step(number)
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
            "brings": [brought_text(bring) for bring in brings],
            "seen": act.brought_by(done).seen if done else (),
        }
    )


def _brought(context: Context, run: Run, step: PlannedStep) -> tuple[Brought, ...]:
    """What a step brings: of a run that is over, nothing of what came of its moves elsewhere, which
    may be this very run.
    """
    every = brought.of_steps(context, run.site, [step])
    return every if run.state == "running" else tuple([b for b in every if b.kind != "came"])


def _as_it_was(journal: list[JournalEntry]) -> str:
    before, snapshot = _newest(journal, ActKind.INVENTORY), _newest(journal, ActKind.SNAPSHOT)
    if before is None:
        return ""
    recorded = acts.inventory(1).brought_by(before)
    parts = [f"Automatic updates {'on' if recorded.automatic_updates else 'off'}."]
    if recorded.caches:
        parts.append(f"{counted(len(recorded.caches), 'page cache')} on.")
    plugins = [p for p in recorded.active if p.startswith("plugin/")]
    parts.append(f"{counted(len(plugins), 'plugin')} on.")
    if snapshot is not None:
        files = acts.snapshot(1).brought_by(snapshot).files
        parts.append(f"Snapshot: complete, {counted(files, 'file')}.")
    return " ".join(parts)
