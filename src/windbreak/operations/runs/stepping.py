"""One step of a run: apply, migrate, make anew, register, read back, look.

A step of several moves goes behind the maintenance page, its plugins off meanwhile. The page comes
down once all was looked at behind it; before that, where its agent shows nothing behind it.
"""

from __future__ import annotations

from functools import partial
from typing import Any

from windbreak.core.values import journal as acts
from windbreak.core.values.journal import ActKind, Nothing, RunAct
from windbreak.core.values.packages import Package
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.links.adapter import Start
from windbreak.links.errors import CallFailed
from windbreak.operations.licensing import licence_codes
from windbreak.operations.runs import looking, remedies
from windbreak.operations.runs.acting import Acting, act_of
from windbreak.operations.runs.course import switched_off
from windbreak.operations.runs.journal import StepFailed
from windbreak.wording.matters import worse_text


def carry_out(run: Acting, number: int, step: PlannedStep) -> None:
    """Carry out a step, and look. Raises StepFailed."""
    combined = len(step.moves) > 1
    on_before = run.recorded.active
    plugins = [
        m.product
        for m in step.moves
        if combined and m.product.startswith("plugin/") and m.product in on_before
    ]
    if combined:
        run.owe("page", was=False)
        run.do(acts.page_up(number), "maintenance", "maintenance page", on=True)
        for product in plugins:
            run.owe("plugin", was=True, name=product)
            _switch(run, acts.switch(number, product, on=False), on=False)
    for move in step.moves:
        _apply(run, number, move)
    for move in step.moves:
        if move.product in plugins or move.from_ is None:
            _switch(run, acts.switch(number, move.product, on=True), on=True)
    _guards(run, number)
    if combined and not run.sees_behind:
        _page_down(run, number)
    _read_back(run, number, step)
    seen = looking.look(run, acts.probe(number))
    bad = worse_text(seen)
    if bad:
        raise run.journal.fail(acts.step(number), "breaks-site", bad)
    if combined and run.sees_behind:
        _page_down(run, number)
    text = f"as before on {len(seen)} looks"
    run.journal.write(acts.step(number), "done", text=text, detail=acts.Judged(seen=seen))


def _page_down(run: Acting, number: int) -> None:
    run.do(acts.page_down(number), "maintenance", "page taken away", on=False)


def _apply(run: Acting, number: int, move: PlannedMove) -> None:
    act = acts.apply(number, move.product)
    if move.to is None:
        _remove(run, act, move)
        return
    text = f"{move.from_ or 'absent'} to {move.to}"
    if move.product.startswith("runtime/"):
        if "runtime" not in run.site.link.agent_can:
            return  # its host switched it, by an errand; it is read back
        args = {"product": move.product, "version": move.to}
        run.do(act, "runtime", text, **args)
        return
    package = run.fetch(move.product, move.to)
    start = run.start_of(move)
    apply = partial(_send, run, package, start)
    if run.journal.has(act.again, "meant"):
        run.journal.change(act.again, apply, text=text)
        return
    try:
        run.journal.change(act, apply, text=text)
    except StepFailed as error:
        match remedies.mend(run, act, error.code, move.product, move.to):
            case "again":
                run.journal.change(act.again, apply, text=text)
            case "no":
                raise


def _remove(run: Acting, act: RunAct[Nothing], move: PlannedMove) -> None:
    """Have a component leave: its folder is kept aside, so that it can be put back."""
    try:
        run.do(act, "remove", f"{move.from_} leaves the site", product=move.product)
    except StepFailed as error:
        if error.code != "already-there":
            raise
        text = "it says that it is gone already: what is read back decides"
        run.journal.note(act.about(ActKind.MENDED), text)


def _send(run: Acting, package: Package, start: Start, change: str) -> dict[str, Any]:
    archive = run.context.shelf.read(package)
    carry = run.carried(package.product)
    if "void" not in run.site.link.agent_can:  # nor does an agent so old look at what it replaces
        there = run.inventory().version_of(package.product)
        if there not in (start.version, package.version):
            raise CallFailed("not-as-expected", not_as_expected(package.product, there, start))
    return run.agent.apply(change, package, archive, run.site.id, carry, start)


def not_as_expected(product: str, there: str | None, start: Start) -> str:
    """Why a component is not replaced: it is another than was planned from."""
    return f"{product} is {there or 'absent'} here, and was to be {start.version or 'absent'}"


def _switch(run: Acting, act: RunAct[Nothing], *, on: bool) -> None:
    run.do(act, "switch", "on again" if on else "off meanwhile", product=act.product, on=on)


def _guards(run: Acting, number: int) -> None:
    """What the moves bring that the run does itself: migrations, files made anew, codes."""
    for bring in run.brings(number):
        if bring.by != "run":
            continue
        if bring.kind == "register":
            code = licence_codes.code_for(run.context, run.site.id, bring.product)
            if code is None:
                raise run.journal.fail(act_of(bring), "unknown", "its code is gone")
            words = bring.model_copy(update={"text": f"{bring.text} (…{code[-4:]})"})
            run.have_done(words, code=code)
        else:
            run.have_done(bring)


def _read_back(run: Acting, number: int, step: PlannedStep) -> None:
    """The versions as the site has them now; the expected ones, or the step failed."""

    there = run.read_back(number, step)
    for move in step.moves:
        if there.get(move.product) != move.to:
            have = there.get(move.product) or "nothing"
            wanted = move.to or "gone"
            text = f"{move.product} should be {wanted}; read back: {have}"
            raise run.journal.fail(acts.step(number), "unknown", text)
    _still_on(run, number, step)


def _still_on(run: Acting, number: int, step: PlannedStep) -> None:
    """What the step moved and its system switched off, because something failed, is switched on
    again, once; where that does not last, the step failed.
    """
    if off := _moved_and_off(run, step):
        for product in off:
            _switch(run, acts.switch(number, product, on=True).again, on=True)
        run.inventory()
        if off := _moved_and_off(run, step):
            text = f"it switched itself off: {'; '.join(off.values())}"
            raise run.journal.fail(acts.step(number), "breaks-site", text)


def _moved_and_off(run: Acting, step: PlannedStep) -> dict[str, str]:
    on = {move.product for move in step.moves if move.product in run.recorded.active}
    return switched_off(on, run.context.store.inventories.get(run.site.id), run.names)
