"""Looking at a site from outside, past every cache, and holding what is seen against before."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime

from windbreak.core.values.runs import Look, Probe, Seen, Verdict
from windbreak.links.adapter import AgentLook
from windbreak.links.errors import LinkError, Unreachable
from windbreak.links.visiting import Visiting
from windbreak.outside.markup import Marked, with_marks

Page = tuple[str, str]  # its name, and its address on the site

_SIGNS = ("fatal fault", "uncaught", "traceback", "stack trace", "database could not")


def look_at(site: Visiting, name: str, where: str, *, past_caches: bool = True) -> Look:
    """Look at one page, named as the site names it; what can't be reached has no status."""
    look, _ = _look(site, name, where, past_caches=past_caches)
    return look


def _look(site: Visiting, name: str, where: str, *, past_caches: bool) -> tuple[Look, Marked]:
    headers = {"cache-control": "no-cache", "pragma": "no-cache"} if past_caches else {}
    started = time.monotonic()
    try:
        visited = site.page(where, headers)
    except LinkError as error:
        seconds = round(time.monotonic() - started, 3)
        late = isinstance(error, Unreachable) and error.late
        return no_answer(name, where, seconds, str(error), late=late), Marked()
    text = visited.text
    marks = with_marks(text)
    low = text.lower()
    faults = tuple(sign for sign in _SIGNS if sign in low)
    return (
        Look(
            name=name,
            where=where,
            status=visited.status,
            seconds=visited.seconds,
            bytes=len(visited.body),
            marks=marks.marks,
            faults=faults,
        ),
        marks,
    )


def no_answer(name: str, where: str, seconds: float, why: str, *, late: bool) -> Look:
    """A look at a page that gave no answer."""
    return Look(
        name=name, where=where, status=None, seconds=seconds, bytes=0, faults=(why,), late=late
    )


def probe(
    site: Visiting,
    ask: Callable[[], AgentLook],
    at: datetime,
    *,
    choose: Callable[[AgentLook], Iterable[Page]],
    look: Callable[[Visiting, Page], Look],
    opened: Callable[[Visiting, str], tuple[Look, int | None] | None] = lambda site, where: None,
) -> Probe:
    """Look at chosen pages of a site and its editor, behind its maintenance page where its agent
    lets us; then at what that left in its error log.

    ``opened`` looks at the editor in a browser, and tells how many blocks it shows; None where
    there is no browser, and then the agent's own page of blocks is looked at.
    """
    agent = ask()
    site = site.past_page(agent.pass_)
    looks = [look(site, page) for page in choose(agent)]
    seen = opened(site, agent.opens) if agent.opens else None
    if seen is None:
        editor, marks = _look(site, "Editor", agent.editor, past_caches=True)
        usable = editor.status == 200 and not editor.faults
        seen = editor.model_copy(update={"where": ""}), marks.blocks if usable else None
    looks.append(seen[0])
    after = ask()
    return Probe(
        at=at,
        looks=tuple(looks),
        editor_blocks=seen[1],
        counts=after.counts,
        settings=after.settings,
        errors=after.errors,
        earlier=agent.errors,
        written=after.written,
    )


def broken(probe: Probe) -> list[str]:
    """The pages that are broken in a probe by themselves, in words: "News: 500, 0.02 s"."""
    return [
        f"{look.name}: {_say(look)}"
        for look in probe.looks
        if look.name != "Editor"
        and (look.status is None or look.status >= 500 or not look.bytes or look.faults)
    ]


def slower(was: Look, now: Look) -> bool:
    """Whether a page takes longer: by half, and by a second."""
    return now.seconds > was.seconds * 1.5 and now.seconds > was.seconds + 1.0


def compare(before: Probe, now: Probe, *, judged: bool = False) -> tuple[Seen, ...]:
    """Each thing looked at, before and now. A fault that was there before is not a new one.

    With ``judged``, what was logged before this look began has been judged already: it stays in
    the log after the step that caused it was put back.
    """
    earlier = now.earlier if judged else ()
    return tuple(_compare(before, now, earlier))


def compare_pages(before: Iterable[Look], now: Iterable[Look]) -> tuple[Seen, ...]:
    """Each page looked at, before and now."""
    old = {look.name: look for look in before if look.name != "Editor"}
    pages = [(old[look.name], look) for look in now if look.name in old]
    return tuple(
        Seen(name=look.name, before=_say(was), now=_say(look), verdict=_verdict(was, look))
        for was, look in pages
    )


def _verdict(was: Look, look: Look) -> Verdict:
    if _page_worse(was, look):
        return "worse"
    return "differs" if was.marks != look.marks and not was.lively else "as before"


def worse(seen: tuple[Seen, ...]) -> tuple[Seen, ...]:
    return tuple(part for part in seen if part.verdict == "worse")


def _compare(before: Probe, now: Probe, earlier: tuple[str, ...]) -> Iterator[Seen]:
    yield from compare_pages(before.looks, now.looks)
    if any(look.name == "Editor" for look in now.looks):
        yield _editor(before, now)
    for kind, count in sorted(before.counts.items()):
        there = now.counts.get(kind, 0)
        yield Seen(
            name=f"Count of {kind}",
            before=f"{count:,}",
            now=f"{there:,}",
            verdict="worse" if there < count else ("differs" if there > count else "as before"),
        )
    same = before.settings == now.settings
    yield Seen(
        name="Settings",
        before="as they were",
        now="as they were" if same else "changed",
        verdict="as before" if same else "differs",
    )
    old_errors = {_bare(error) for error in (*before.errors, *earlier)}
    fresh = [error for error in now.errors if _bare(error) not in old_errors]
    yield Seen(
        name="Error log",
        before=f"{len(before.errors)} old faults",
        now=f"{len(fresh)} new: {fresh[0]}" if fresh else "none new",
        verdict="worse" if fresh else "as before",
    )


def _bare(error: str) -> str:
    """An error without its numbers, so that the same fault at another time is the same."""
    return re.sub(r"\d+", "0", error)


def _page_worse(was: Look, now: Look) -> bool:
    if set(now.faults) - set(was.faults):
        return True
    if was.status is not None and was.status < 400 and (now.status is None or now.status >= 400):
        return True
    if was.bytes and not now.bytes:
        return True
    return (bool(was.marks) and not now.marks) or slower(was, now)


def _editor(before: Probe, now: Probe) -> Seen:
    def say(blocks: int | None) -> str:
        if blocks is None:
            return "does not open"
        return f"opens, {blocks} blocks" if blocks else "opens empty"

    was, is_ = before.editor_blocks, now.editor_blocks
    lost = _lost(before, now)
    bad = bool(lost) or ((was or 0) > 0 and (is_ or 0) == 0)
    verdict: Verdict = "worse" if bad else ("as before" if was == is_ else "differs")
    answers = say(is_)
    if lost and is_:
        more = f", and {len(lost) - 1} more" if len(lost) > 1 else ""
        answers += f"; not shown: {lost[0]}{more}"
    return Seen(name="Editor", before=say(was), now=answers, verdict=verdict)


def _lost(before: Probe, now: Probe) -> list[str]:
    """What the editor showed in a browser before and shows no more, though nobody wrote since."""
    if before.written != now.written:
        return []
    looks = [
        next((look for look in probe.looks if look.name == "Editor" and look.where), None)
        for probe in (before, now)
    ]
    was, is_ = looks
    if was is None or is_ is None:
        return []
    there = list(is_.marks)
    lost = []
    for mark in was.marks:
        if mark in there:
            there.remove(mark)
        else:
            lost.append(f"“{mark.partition(' ')[2][:60]}”")
    return lost


def _say(look: Look) -> str:
    if look.status is None:
        return f"no answer in {look.seconds:.0f} s" if look.late else "no answer"
    seen = f"{look.status}, {look.seconds:.2f} s"
    if not look.bytes:
        return f"{look.status}, empty"
    return f"{seen}, {look.faults[0]}" if look.faults else seen
