"""Remedies for known faults of a site, each once for an act, written down as it is done.

They are judged by what is read back after the step, never by the message. What has none fails the
step. ``busy`` and no answer are waited for by the journal.
"""

from __future__ import annotations

import time
from typing import Literal

from windbreak.core.values.journal import ActKind, Nothing, RunAct
from windbreak.operations.runs import keeping
from windbreak.operations.runs.acting import Acting

_CLEARED = {"folder-exists": "leftover", "stale-record": "stale"}  # by the code that tells of it
_PAUSE = 2.0  # seconds before a fetch of the site's own is tried again

Mended = Literal["again", "go on", "no"]


def mend(run: Acting, act: RunAct[Nothing], code: str, product: str, version: str) -> Mended:
    """Mend a known fault: whether it is tried again, gone on with, or has no remedy."""
    site = run.site

    def note(text: str) -> None:
        run.journal.note(act.about(ActKind.MENDED), text)

    match code:
        case "already-there":
            note(f"the site says that {product} is there already; what is read back decides")
            return "go on"
        case "timed-out":
            # Its state was asked for: it did not end. What is read back says how far it came.
            if run.inventory().version_of(product) == version:
                note(f"it did not end, and {product} {version} is there: gone on with")
                return "go on"
            note(f"it did not end, and {product} {version} is not there: again")
            return "again"
        case "fetch-failed":
            note(f"the site could not fetch what it needs: again in {_PAUSE:.0f} s")
            time.sleep(_PAUSE)
            return "again"
        case "no-room":
            freed = keeping.make_room(run.context, run.agent, site.id, but=run.run.id)
            if freed is None:
                return "no"
            note(f"{freed / 2**20:.1f} MB were freed of what is past its end: again")
            return "again"
    kind = _CLEARED.get(code)
    if kind is not None and "clear" in site.link.agent_can:
        text = f"{code}: {kind} of {product} cleared, again"
        run.do(act.about(ActKind.CLEAR), "clear", text, product=product, kind=kind)
        return "again"
    return "no"
