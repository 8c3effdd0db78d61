"""What followed when a step of a run failed, line by line, read from the run's journal."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from windbreak.core.values import journal as acts
from windbreak.core.values.journal import ActKind, JournalEntry
from windbreak.core.values.runs import Probe
from windbreak.documents.runs import Happened
from windbreak.links.probing import compare
from windbreak.wording.journal import act_label
from windbreak.wording.matters import worse_text

_AFTER_GOING_BACK = (acts.AFTER_PUTTING_BACK, acts.AFTER_RESTORE, acts.BY_HAND)
_FOR_HELP = (acts.FOR_HELP, acts.FOR_HELP_AGAIN)


def after_failing(
    number: int, journal: Sequence[JournalEntry], names: Mapping[str, str]
) -> tuple[Happened, ...]:
    """What followed step ``number``: "4 of 6 looks white", "Netloft put back to 1.6"; nothing where
    it did not fail.
    """
    failed = (acts.step(number), "failed")
    at = next((n for n, e in enumerate(journal) if (e.act, e.state) == failed), None)
    if at is None:
        return ()
    done = [e for e in journal if e.state == "done" and e.is_whole]
    looks = [e for e in done if e.kind == ActKind.BASELINE and e.id < journal[at].id]
    before = acts.probe().brought_by(looks[-1]) if looks else None
    return (_fault(number, journal[: at + 1], before), *_rest(journal[at + 1 :], before, names))


def _fault(number: int, until: Sequence[JournalEntry], before: Probe | None) -> Happened:
    """What was wrong with the step: what the probe saw, or what the step says itself."""
    failed = until[-1]
    act = acts.probe(number)
    probe = next((e for e in until if (e.act, e.state) == (act, "done") and e.is_whole), None)
    seen = compare(before, act.brought_by(probe)) if probe and before else ()
    return Happened(at=failed.at, kind="broken", text=worse_text(seen) or failed.text)


def _rest(
    later: Iterable[JournalEntry], before: Probe | None, names: Mapping[str, str]
) -> Iterator[Happened]:
    was_bad = ""
    for entry in later:
        kind, done = entry.kind, entry.state == "done"
        if kind == ActKind.PUT_BACK and done:
            product = str(entry.product)
            yield Happened(
                at=entry.at, kind="back", text=f"{names.get(product, product)} {entry.text}"
            )
        elif kind == ActKind.RESTORE and done:
            yield Happened(at=entry.at, kind="back", text="the snapshot was restored")
        elif kind == ActKind.PROBE and entry.name in _AFTER_GOING_BACK and done and before:
            if not entry.is_whole:
                continue
            seen = compare(before, acts.probe().brought_by(entry), judged=True)
            bad = worse_text(seen)
            still = "still " if bad and bad == was_bad else ""
            text = f"{still}{bad}" if bad else f"as before on {len(seen)} looks"
            was_bad = bad
            yield Happened(at=entry.at, kind="broken" if bad else "fine", text=text)
        elif kind == ActKind.PAGE_UP and entry.name in _FOR_HELP and done:
            yield Happened(
                at=entry.at, kind="page", text="maintenance page up; a person was called"
            )
        elif entry.state == "failed" and kind != ActKind.STEP:
            text = f"{act_label(entry.act, names)}: {entry.text}"
            yield Happened(at=entry.at, kind="broken", text=text)
