"""Going back: a failed step is put back; where that does not help, the snapshot, by the rule.

What a step generated is made anew from the old. Once a migration has begun, a step can't be put
back, only restored.
"""

from __future__ import annotations

from typing import Any

from windbreak.core.values.matters import DebtKind
from windbreak.core.values.runs import RunState
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.links.errors import LinkError
from windbreak.operations.runs import looking
from windbreak.operations.runs.acting import Acting, act_of
from windbreak.operations.runs.journal import StepFailed
from windbreak.wording.matters import worse_text
from windbreak.wording.words import counted, listed

LOST_BY = "lost by "  # before the act that brings the snapshot back, in the journal


def go_back(run: Acting, error: Exception) -> tuple[RunState, str]:
    """Put back the step that failed; where that does not help, restore, by the rule."""
    journal = run.journal
    steps = range(1, len(run.steps) + 1)
    begun = [n for n in steps if (f"step {n}", "meant") in journal.entries]
    if not begun:
        return "stopped", f"Stopped before the first step: {error}"
    number = begun[-1]
    if (f"step {number}", "done") in journal.entries:
        return "stopped", f"Stopped after step {number}: {error}"
    step, title = run.steps[number - 1], run.title(number)
    if (f"step {number}", "failed") not in journal.entries:
        journal.fail(f"step {number}", getattr(error, "code", "unknown"), str(error))
    if _by_other_hands(error):
        seen = _with_names(run, step, str(error))
        run.surprised([seen])
        if len(step.moves) == 1:
            return "stopped", f"Stopped at step {number}, of which nothing was done: {seen}."
    moved = migrated(run, number)
    if moved:
        why = f"{moved} had begun to move its data, so the step can't be put back by itself"
        return restore(run, number, title, f"{error}; {why}")
    run.tell("steps", number, f"Putting back {title}: {error}")
    try:
        put_back(run, number, step)
        _read_back(run, number, step)
        bad = worse_text(looking.look(run, f"probe after putting back {number}", number))
        if not bad:
            journal.write(f"step {number}", "put back", step=number, text="as before")
            rest = "That is left as it is; the rest" if _by_other_hands(error) else "The site"
            return "put back", f"{title} was put back: {error}. {rest} is as before it."
        why = bad
    except (StepFailed, LinkError) as failed:
        why = str(failed)
    return restore(run, number, title, f"{error}; put back, but {why}")


def _by_other_hands(error: Exception) -> bool:
    """Whether a step failed since a component is not what the step starts from: others moved it, or
    wrote into it, and that is left as it is.
    """
    return getattr(error, "code", "") in ("not-as-expected", "own-files-changed")


def _with_names(run: Acting, step: PlannedStep, text: str) -> str:
    """What an agent said of the products of a step, by their names."""
    for move in step.moves:
        text = text.replace(move.product, run.names.get(move.product, move.product))
    return text


def migrated(run: Acting, number: int) -> str | None:
    """The product whose migration was begun in a step, by name; None where none was. An agent that
    could not load its site says ``breaks-site``, and has begun nothing.
    """
    entries = run.journal.entries
    for move in run.steps[number - 1].moves:
        act = f"migrate {number} {move.product}"
        failed = entries.get((act, "failed"))
        if (act, "meant") in entries and not (
            failed is not None and failed.detail.get("code") == "breaks-site"
        ):
            return run.names.get(move.product, move.product)
    return None


def put_back(run: Acting, number: int, step: PlannedStep) -> None:
    """Put back the moves of a step, last first; what it generated is made anew. Raises StepFailed,
    LinkError.
    """
    journal = run.journal
    for move in reversed(step.moves):
        act = f"apply {number} {move.product}"
        meant = journal.entries.get((f"{act} again", "meant")) or journal.entries.get(
            (act, "meant")
        )
        if meant is None or meant.change is None:
            continue
        change = meant.change
        became = journal.ask(lambda id=change: run.agent.change(id)).state  # type: ignore[misc]
        if became in ("unknown", "void"):
            continue  # it never arrived, and never will
        back, text = f"put back {number} {move.product}", f"back to {move.from_ or 'absent'}"
        if move.product.startswith("runtime/"):
            if became == "done":
                args: dict[str, object] = {"product": move.product, "version": move.from_}
                run.do(back, "runtime", text, step=number, **args)
            continue
        args = {"product": move.product, "of": change, "added": move.from_ is None}
        _put_back_if_kept(run, back, text, number, args)
    for bring in run.brings(number):
        begun = (act_of(bring), "meant") in journal.entries
        if bring.kind == "regenerate" and begun and not run.left_to_a_person(bring):
            run.have_done(bring.model_copy(update={"text": "from the old"}), back=True)
    kept: tuple[DebtKind, ...] = (
        ("updates", "cache", "page") if run.sees_behind else ("updates", "cache")
    )
    journal.ask(lambda: run.pay(*kept))


def _put_back_if_kept(
    run: Acting, act: str, text: str, number: int, args: dict[str, object]
) -> None:
    """A change that failed may have touched its folder: then the old one was kept. What is read
    back afterwards decides.
    """
    try:
        run.do(act, "put-back", text, step=number, **args)
    except StepFailed as error:
        if error.code != "not-permitted":
            raise
        run.journal.note(f"{act}, nothing kept", "it was refused before anything was touched")


def _read_back(run: Acting, number: int, step: PlannedStep) -> None:
    """Raise StepFailed where a move is not put back, whatever the site said."""

    there = run.read_back(f"read back after putting back {number}", number, step)
    for move in step.moves:
        if _left_to_others(run, number, move):
            continue
        if there[move.product] != move.from_:
            have = there[move.product] or "absent"
            raise StepFailed("unknown", f"{move.product} is {have}, it was {move.from_}")


def _left_to_others(run: Acting, number: int, move: PlannedMove) -> bool:
    """Whether a move was refused since others had moved its component."""
    failed = run.journal.entries.get((f"apply {number} {move.product}", "failed"))
    return failed is not None and failed.detail.get("code") == "not-as-expected"


def write_down_lost(run: Acting, act: str) -> None:
    """What was written on the site since the snapshot, one by one, before that is restored: its
    owner is given it. Writes. Raises LinkError.
    """
    made = run.journal.entries.get((run.leg("snapshot"), "meant"))
    since = made.at if made else None

    def ask() -> dict[str, Any]:
        came = run.journal.ask(lambda: run.agent.look(since)).came if since else ()
        return {"came": [item.model_dump(mode="json") for item in came]}

    run.journal.once(
        f"{LOST_BY}{act}", ask, text=lambda d: counted(len(d["came"]), "thing") + " written down"
    )


def close_shop(run: Acting, act: str) -> None:
    """Put the maintenance page up before a restore, so that nothing comes in that it would lose.
    Raises StepFailed, LinkError.
    """
    run.owe("page", was=False)
    run.do(f"page up for {act}", "maintenance", "maintenance page", on=True)


def _written_since(run: Acting, mark: str) -> dict[str, Any]:
    seen = run.journal.ask(run.agent.look)
    return {"same": seen.written == mark, "wrote": seen.wrote}


def _in_tables(wrote: dict[str, int]) -> str:
    """What was written, in words: "3 in orders and 1 in users"."""
    told = listed([f"{count} in {table}" for table, count in wrote.items()])
    return told or "its agent does not tell where"


def _left_to_a_person(run: Acting, what: str, wrote: str) -> tuple[RunState, str]:
    run.do("page up for help", "maintenance", "left up for a person", on=True)
    return run.alarm(
        f"{what}. Something was written since the snapshot ({wrote}), so it is not restored "
        "without your word; the maintenance page is up."
    )


def bring_back(run: Acting, act: str, written: str | None = None) -> str:
    """Restore the run's snapshot, once what that loses was written down; what the site's database
    would not make anew, in a sentence that is empty where there is nothing. With ``written``, the
    mark of the snapshot, only where nothing has come in until it is put in place. Writes. Raises
    StepFailed, LinkError.
    """
    write_down_lost(run, act)
    made = run.journal.done(run.leg("snapshot")) or {}
    mark: dict[str, Any] = {} if written is None else {"written": written}
    answer = run.do(act, "restore", "the snapshot", snapshot=made.get("snapshot"), **mark)
    left = answer.get("left") or []
    if not left:
        return ""
    names = ", ".join(map(str, left))
    sentence = f" Its database did not make anew: {names}; ask whoever keeps it."
    run.journal.note(f"left out of {act}", sentence.strip())
    return sentence


def restore(run: Acting, number: int, title: str, why: str) -> tuple[RunState, str]:
    """Bring back the snapshot: by itself only where nothing was written since, or as approved."""
    journal = run.journal
    snapshot = journal.done(run.leg("snapshot")) or {}
    try:
        close_shop(run, "restore")
        written = journal.once(
            "written since the snapshot",
            lambda: _written_since(run, str(snapshot.get("written"))),
            text=lambda d: "nothing" if d["same"] else _in_tables(d["wrote"]),
        )
        if not written["same"] and not run.approval_restores:
            return _left_to_a_person(run, f"{title}: {why}", _in_tables(written["wrote"]))
        try:
            expected = None if run.approval_restores else snapshot.get("written")
            missing = bring_back(run, "restore", expected)
        except StepFailed as error:
            if error.code != "not-as-expected":
                raise
            return _left_to_a_person(run, f"{title}: {why}", "during the restore")
        if not run.sees_behind:
            run.do("page down after the restore", "maintenance", "page taken away", on=False)
        run.inventory()
        bad = worse_text(looking.look(run, "probe after restore", number))
    except (StepFailed, LinkError) as failed:
        return run.alarm(f"{title}: {why}; the restore failed too: {failed}.")
    if bad:
        return run.alarm(f"{title}: {why}; restored, and still {bad}. The site is left alone.")
    lost = "" if written["same"] else " What was written since the snapshot is lost."
    return "restored", f"{title}: {why}. The snapshot was restored.{missing}{lost}"
