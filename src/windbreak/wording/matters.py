"""A matter in words: what a visitor meets now, what lies behind, and what came in meanwhile."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import datetime

from windbreak.core.values.matters import CameIn
from windbreak.core.values.runs import Look, RunState, Seen
from windbreak.documents.runs import Fact
from windbreak.wording.words import counted, listed


def matter_head(state: RunState, *, page: bool) -> str:
    """What a matter is about, after its site's name: first what visitors see."""
    if page:
        return "visitors see the maintenance page"
    heads: dict[RunState, str] = {
        "put back": "a step went wrong and was put back",
        "restored": "a step went wrong; the snapshot was restored",
    }
    return heads.get(state, "a run needs you")


def visitor_fact(look: Look, *, page: bool) -> Fact:
    """What a visitor meets on the front page: "503, the maintenance page"."""
    if look.status is None:
        text = "no answer"
    elif page and look.status == 503:
        text = "503, the maintenance page"
    elif not look.bytes:
        text = f"{look.status}, an empty page"
    else:
        text = f"{look.status}, {look.faults[0]}" if look.faults else f"{look.status}"
    return Fact(name="a visitor sees now", text=text, bad=text != "200")


def pages_fact(seen: Sequence[Seen] | None, *, page: bool, why: str) -> Fact:
    """How the pages are, past the maintenance page where it is up: "4 of 6 pages white". ``seen``
    None: they could not be looked at, and ``why``.
    """
    name = "behind it, past the page" if page else "the pages now"
    if seen is None:
        return Fact(name=name, text="not looked", aside=why)
    bad = [seen_page for seen_page in seen if seen_page.verdict == "worse"]
    fine = len(seen) - len(bad)
    if not bad:
        return Fact(name=name, text=f"all {len(seen)} as before the run")
    rest = f", {fine} as before" if fine else ""
    return Fact(name=name, text=f"{_how_bad(bad, len(seen), 'page')}{rest}", bad=True)


def worse_text(seen: Sequence[Seen]) -> str:
    """What a probe saw worse, in short: "4 of 6 pages white; Editor: opens empty"; nothing where
    nothing is. The journal's probe holds the rest.
    """
    pages = [seen_page for seen_page in seen if _PAGE.match(seen_page.before)]
    bad = [seen_page for seen_page in pages if seen_page.verdict == "worse"]
    rest = [
        seen_page for seen_page in seen if seen_page.verdict == "worse" and seen_page not in pages
    ]
    parts = [_how_bad(bad, len(pages), "page")] if len(bad) > 2 else _each(bad)
    return "; ".join([*parts, *_each(rest[:2])])


def _each(seen: Sequence[Seen]) -> list[str]:
    counts = [
        f" ({seen_page.before} before)" if seen_page.name.startswith("Count") else ""
        for seen_page in seen
    ]
    return [
        f"{seen_page.name}: {seen_page.now}{before}"
        for seen_page, before in zip(seen, counts, strict=True)
    ]


_PAGE = re.compile(r"\d{3}, |no answer")  # how a look at a page is told


def _how_bad(bad: Sequence[Seen], of: int, noun: str) -> str:
    answers = {seen_page.now.partition(",")[0] for seen_page in bad}
    how = "worse"
    if all(seen_page.now.endswith(", empty") for seen_page in bad):
        how = "white"
    elif len(answers) == 1 and not answers & {"200", "no answer"}:
        how = f"answer {answers.pop()}"
    return f"{len(bad)} of {counted(of, noun)} {how}"


def came_fact(
    came: Mapping[str, int] | None, items: Sequence[CameIn], since: datetime | None
) -> Fact:
    """What came in since the snapshot: "2 orders and 1 comment"."""
    if came is None:
        text, aside = "not known", "its agent does not answer"
        return Fact(name="came in", since=since, text=text, aside=aside)
    text = listed([counted(n, kind.rstrip("s")) for kind, n in came.items() if n]) or "nothing"
    if not items:
        return Fact(name="came in", since=since, text=text)
    return Fact(name="came in", since=since, text=text, aside="the last at", at=items[-1].at)


def link_fact(answers: bool, answered_at: datetime | None) -> Fact:
    """Whether its agent answers."""
    if answers:
        return Fact(name="link", text="its agent answers")
    aside = "it last did at" if answered_at else ""
    return Fact(name="link", text="its agent is silent", aside=aside, at=answered_at, bad=True)


def window_fact(closes: datetime | None, now: datetime, *, windows: bool) -> Fact:
    """How long the window is open in which a site is worked on."""
    if closes is None:
        return Fact(name="window", text="closed now" if windows else "none is set")
    minutes = int((closes - now).total_seconds() // 60)
    left = f"{minutes // 60} h {minutes % 60} min" if minutes >= 60 else f"{minutes} min"
    return Fact(name="window", text=f"{left} left", aside="to", at=closes)


def unless_text(*, page: bool, owed: str) -> str:
    """What happens if nobody acts."""
    if page:
        happens = "the maintenance page stays up, and nothing else is done to the site"
    elif owed:
        happens = f"what is owed ({owed}) is set back once that can be; nothing else is done"
    else:
        happens = "nothing more is done to the site"
    return f"{happens}. The matter stays open, and on Today."
