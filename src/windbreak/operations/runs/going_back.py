"""Going back: a failed step is put back; where that does not help, the snapshot, by the rule.

What a step generated is made anew from the old. Once a migration has begun, a step can't be put
back, only restored.
"""

from __future__ import annotations

from windbreak.core.values import journal as acts
from windbreak.core.values.journal import ActKind, Nothing, RunAct
from windbreak.core.values.matters import DebtKind
from windbreak.core.values.runs import RunState
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.links.errors import LinkError
from windbreak.operations.runs import looking
from windbreak.operations.runs.acting import Acting, act_of
from windbreak.operations.runs.journal import StepFailed
from windbreak.wording.matters import worse_text
from windbreak.wording.words import counted, listed


def go_back(run: Acting, error: Exception) -> tuple[RunState, str]:
    """Put back the step that failed; where that does not help, restore, by the rule."""
    journal = run.journal
    steps = range(1, len(run.steps) + 1)
    begun = [n for n in steps if journal.has(acts.step(n), "meant")]
    if not begun:
        return "stopped", f"Stopped before the first step: {error}"
    number = begun[-1]
    if journal.has(acts.step(number), "done"):
        return "stopped", f"Stopped after step {number}: {error}"
    step, title = run.steps[number - 1], run.title(number)
    if not journal.has(acts.step(number), "failed"):
        journal.fail(acts.step(number), getattr(error, "code", "unknown"), str(error))
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
        bad = worse_text(looking.look(run, acts.probe(number, acts.AFTER_PUTTING_BACK)))
        if not bad:
            journal.write(acts.step(number), "put back", text="as before")
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
    for move in run.steps[number - 1].moves:
        act = acts.migrate(number, move.product)
        if run.journal.has(act, "meant") and run.journal.code(act) != "breaks-site":
            return run.names.get(move.product, move.product)
    return None


def put_back(run: Acting, number: int, step: PlannedStep) -> None:
    """Put back the moves of a step, last first; what it generated is made anew. Raises StepFailed,
    LinkError.
    """
    journal = run.journal
    for move in reversed(step.moves):
        act = acts.apply(number, move.product)
        meant = journal.entry(act.again, "meant") or journal.entry(act, "meant")
        if meant is None or meant.change is None:
            continue
        change = meant.change
        became = journal.ask(lambda id=change: run.agent.change(id)).state  # type: ignore[misc]
        if became in ("unknown", "void"):
            continue  # it never arrived, and never will
        back, text = acts.put_back(number, move.product), f"back to {move.from_ or 'absent'}"
        if move.product.startswith("runtime/"):
            if became == "done":
                args: dict[str, object] = {"product": move.product, "version": move.from_}
                run.do(back, "runtime", text, **args)
            continue
        args = {"product": move.product, "of": change, "added": move.from_ is None}
        _put_back_if_kept(run, back, text, args)
    for bring in run.brings(number):
        begun = journal.has(act_of(bring), "meant")
        if bring.kind == "regenerate" and begun and not run.left_to_a_person(bring):
            run.have_done(bring.model_copy(update={"text": "from the old"}), back=True)
    kept: tuple[DebtKind, ...] = (
        ("updates", "cache", "page") if run.sees_behind else ("updates", "cache")
    )
    journal.ask(lambda: run.pay(*kept))


def _put_back_if_kept(
    run: Acting, act: RunAct[Nothing], text: str, args: dict[str, object]
) -> None:
    """A change that failed may have touched its folder: then the old one was kept. What is read
    back afterwards decides.
    """
    try:
        run.do(act, "put-back", text, **args)
    except StepFailed as error:
        if error.code != "not-permitted":
            raise
        refused = "it was refused before anything was touched"
        run.journal.note(act.about(ActKind.NOTHING_KEPT), refused)


def _read_back(run: Acting, number: int, step: PlannedStep) -> None:
    """Raise StepFailed where a move is not put back, whatever the site said."""

    there = run.read_back(number, step, acts.AFTER_PUTTING_BACK)
    for move in step.moves:
        if _left_to_others(run, number, move):
            continue
        if there[move.product] != move.from_:
            have = there[move.product] or "absent"
            raise StepFailed("unknown", f"{move.product} is {have}, it was {move.from_}")


def _left_to_others(run: Acting, number: int, move: PlannedMove) -> bool:
    """Whether a move was refused since others had moved its component."""
    return run.journal.code(acts.apply(number, move.product)) == "not-as-expected"


def write_down_lost(run: Acting, act: RunAct[acts.Restored]) -> None:
    """What was written on the site since the snapshot, one by one, before that is restored: its
    owner is given it. Writes. Raises LinkError.
    """
    made = run.journal.entry(acts.snapshot(run.leg), "meant")
    since = made.at if made else None

    def ask() -> acts.Lost:
        return acts.Lost(came=run.journal.ask(lambda: run.agent.look(since)).came if since else ())

    run.journal.once(
        acts.lost_by(act), ask, text=lambda lost: f"{counted(len(lost.came), 'thing')} written down"
    )


def close_shop(run: Acting, act: RunAct[acts.Restored]) -> None:
    """Put the maintenance page up before a restore, so that nothing comes in that it would lose.
    Raises StepFailed, LinkError.
    """
    run.owe("page", was=False)
    page = acts.page_up(why=act.full_name, turn=act.turn)
    run.do(page, "maintenance", "maintenance page", on=True)


def _written_since(run: Acting, mark: str | None) -> acts.WrittenSince:
    seen = run.journal.ask(run.agent.look)
    return acts.WrittenSince(same=seen.written == mark, wrote=seen.wrote)


def _in_tables(wrote: dict[str, int]) -> str:
    """What was written, in words: "3 in orders and 1 in users"."""
    told = listed([f"{count} in {table}" for table, count in wrote.items()])
    return told or "its agent does not tell where"


def _left_to_a_person(run: Acting, what: str, wrote: str) -> tuple[RunState, str]:
    run.do(acts.page_up(why=acts.FOR_HELP), "maintenance", "left up for a person", on=True)
    return run.alarm(
        f"{what}. Something was written since the snapshot ({wrote}), so it is not restored "
        "without your word; the maintenance page is up."
    )


def bring_back(run: Acting, act: RunAct[acts.Restored], written: str | None = None) -> str:
    """Restore the run's snapshot, once what that loses was written down; what the site's database
    would not make anew, in a sentence that is empty where there is nothing. With ``written``, the
    mark of the snapshot, only where nothing has come in until it is put in place. Writes. Raises
    StepFailed, LinkError.
    """
    write_down_lost(run, act)
    made = run.journal.done(acts.snapshot(run.leg)) or acts.Snapshotted()
    mark = {} if written is None else {"written": written}
    restored = run.do(act, "restore", "the snapshot", snapshot=made.snapshot, **mark)
    if not restored.left:
        return ""
    names = ", ".join(restored.left)
    sentence = f" Its database did not make anew: {names}; ask whoever keeps it."
    run.journal.note(act.about(ActKind.NOT_MADE_ANEW), sentence.strip())
    return sentence


def restore(run: Acting, number: int, title: str, why: str) -> tuple[RunState, str]:
    """Bring back the snapshot: by itself only where nothing was written since, or as approved."""
    journal = run.journal
    snapshot, act = journal.done(acts.snapshot(run.leg)) or acts.Snapshotted(), acts.restore()
    try:
        close_shop(run, act)
        written = journal.once(
            acts.written_since(),
            lambda: _written_since(run, snapshot.written),
            text=lambda since: "nothing" if since.same else _in_tables(since.wrote),
        )
        if not written.same and not run.approval_restores:
            return _left_to_a_person(run, f"{title}: {why}", _in_tables(written.wrote))
        try:
            expected = None if run.approval_restores else snapshot.written
            missing = bring_back(run, act, expected)
        except StepFailed as error:
            if error.code != "not-as-expected":
                raise
            return _left_to_a_person(run, f"{title}: {why}", "during the restore")
        if not run.sees_behind:
            page = acts.page_down(why=acts.AFTER_RESTORE)
            run.do(page, "maintenance", "page taken away", on=False)
        run.inventory()
        bad = worse_text(looking.look(run, acts.probe(number, acts.AFTER_RESTORE)))
    except (StepFailed, LinkError) as failed:
        return run.alarm(f"{title}: {why}; the restore failed too: {failed}.")
    if bad:
        return run.alarm(f"{title}: {why}; restored, and still {bad}. The site is left alone.")
    lost = "" if written.same else " What was written since the snapshot is lost."
    return "restored", f"{title}: {why}. The snapshot was restored.{missing}{lost}"
