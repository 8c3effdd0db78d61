"""What followed when a step of a run failed, line by line, read from the run's journal."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from windbreak.core.values.runs import JournalEntry, Probe
from windbreak.documents.runs import Happened
from windbreak.links.probing import compare
from windbreak.wording.matters import worse_text

_PUT_BACK = "put back "
_PAGE_UP = ("page up for help", "page up again")


def after_failing(
    number: int, journal: Sequence[JournalEntry], names: Mapping[str, str]
) -> tuple[Happened, ...]:
    """What followed step ``number``: "4 of 6 looks white", "Netloft put back to 1.6"; nothing where
    it did not fail.
    """
    failed = (f"step {number}", "failed")
    at = next((n for n, e in enumerate(journal) if (e.act, e.state) == failed), None)
    if at is None:
        return ()
    baseline = [e for e in journal[:at] if e.act.startswith("baseline") and e.state == "done"]
    before = Probe.model_validate(baseline[-1].detail) if baseline else None
    return (_fault(number, journal[: at + 1], before), *_rest(journal[at + 1 :], before, names))


def _fault(number: int, until: Sequence[JournalEntry], before: Probe | None) -> Happened:
    """What was wrong with the step: what the probe saw, or what the step says itself."""
    failed = until[-1]
    probe = next((e for e in until if (e.act, e.state) == (f"probe {number}", "done")), None)
    seen = compare(before, Probe.model_validate(probe.detail)) if probe and before else ()
    return Happened(at=failed.at, kind="broken", text=worse_text(seen) or failed.text)


def _rest(
    later: Iterable[JournalEntry], before: Probe | None, names: Mapping[str, str]
) -> Iterator[Happened]:
    was_bad = ""
    for entry in later:
        act, done = entry.act, entry.state == "done"
        if act.startswith(_PUT_BACK) and done:
            product = act.split()[-1]
            yield Happened(
                at=entry.at, kind="back", text=f"{names.get(product, product)} {entry.text}"
            )
        elif act.startswith("restore") and done:
            yield Happened(at=entry.at, kind="back", text="the snapshot was restored")
        elif act.startswith("probe after") and done and before is not None:
            seen = compare(before, Probe.model_validate(entry.detail), judged=True)
            bad = worse_text(seen)
            still = "still " if bad and bad == was_bad else ""
            text = f"{still}{bad}" if bad else f"as before on {len(seen)} looks"
            was_bad = bad
            yield Happened(at=entry.at, kind="broken" if bad else "fine", text=text)
        elif act.startswith(_PAGE_UP) and done:
            yield Happened(
                at=entry.at, kind="page", text="maintenance page up; a person was called"
            )
        elif entry.state == "failed" and not act.startswith("step "):
            yield Happened(at=entry.at, kind="broken", text=f"{act.split(' ')[0]}: {entry.text}")
