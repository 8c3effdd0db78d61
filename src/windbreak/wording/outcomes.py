"""What came of a release where it was tried, in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from windbreak.core.values.outcomes import Outcome
from windbreak.wording.words import counted, day, listed


def outcome_text(outcomes: Sequence[Outcome], labels: Mapping[str, str], today: date) -> str:
    """ "Seen working on 4 sites since Tue 24 Nov; put back on Whinchat Radio (run 12)." """
    worked = [outcome for outcome in outcomes if outcome.came == "working"]
    parts = []
    if worked:
        sites = len({outcome.site for outcome in worked})
        since = day(min(outcome.at for outcome in worked).date(), today)
        parts.append(f"seen working on {counted(sites, 'site')} since {since}")
    for came in ("put back", "restored", "alarm"):
        runs = [outcome for outcome in outcomes if outcome.came == came]
        if runs:
            named = listed([f"{labels.get(o.site, o.site)} (run {o.run})" for o in runs[-3:]])
            more = f" and {len(runs) - 3} more" if len(runs) > 3 else ""
            parts.append(f"{'left with a person' if came == 'alarm' else came} on {named}{more}")
    text = "; ".join(parts)
    return f"{text[:1].upper()}{text[1:]}." if text else ""
