"""Which pages of a site are looked at in a run, and how often.

The agent names some, a person may name others, and the site map adds one of each sort that neither
covers. The baseline looks at each several times: what changes between two looks changes by itself,
and the middle of the times is what later looks are held against. Later looks go to the same pages.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from statistics import median
from types import MappingProxyType
from typing import TypeVar

from windbreak.core.values import journal as acts
from windbreak.core.values.journal import ActKind, RunAct
from windbreak.core.values.runs import Look, Probe, Seen
from windbreak.core.values.sites import Site
from windbreak.links import editor
from windbreak.links.adapter import AgentLook
from windbreak.links.browser import NoBrowser
from windbreak.links.errors import LinkError
from windbreak.links.probing import (
    Page,
    compare,
    compare_pages,
    look_at,
    no_answer,
    probe,
    slower,
    worse,
)
from windbreak.links.site_map import locations
from windbreak.links.visiting import Visiting
from windbreak.operations.context import Context
from windbreak.operations.runs.acting import Acting
from windbreak.operations.sites import visits
from windbreak.outside.way_out import within
from windbreak.wording.matters import worse_text
from windbreak.wording.words import counted

log = logging.getLogger(__name__)

_LOOKS = 5
_LEAST = 2  # looks at each page of a baseline, however slow they are
_PATIENCE = 30.0  # seconds for all looks of a baseline beyond the least
_MOST_PAGES = 12
_AT_ONCE = 6  # pages that are asked of a site together
# Seconds until what gave no answer, or one of a gateway, is looked at again: more than a minute.
_PAUSES = (1.0, 2.0, 4.0, 8.0, 16.0, 31.0)
_GATEWAY = (429, 502, 503, 504)  # what stands before a site answers so, and says nothing of it
_APART = 10.0  # seconds between the two looks that both must show a fault
_LOOKS_AGAIN = 3  # how often it is looked again where no two looks show the same fault
_TOGETHER, _LEAST_TOGETHER = 30.0, 10.0  # seconds for all pages of a look: at the most, the least
_TIMES = 5  # the baseline's time, for all pages together

T = TypeVar("T")


def baseline(run: Acting) -> Probe:
    """The look before a run. Raises LinkError."""
    here = visits.visiting(run.context, run.site)
    began = time.monotonic()

    def several(site: Visiting, page: Page) -> Look:
        looks = [look_at(site, *page) for _ in range(_LEAST)]
        while len(looks) < _LOOKS and time.monotonic() - began < _PATIENCE:
            looks.append(look_at(site, *page))
        first = looks[0]
        lively = any((x.marks, x.status) != (first.marks, first.status) for x in looks)
        seconds = median(look.seconds for look in looks)
        return first.model_copy(update={"seconds": round(seconds, 3), "lively": lively})

    return _answered(
        lambda: probe(
            here,
            lambda: run.journal.ask(run.agent.look),
            run.context.clock(),
            choose=lambda agent: chosen(run.context, run.site, here, agent),
            look=several,
            opened=partial(_opened, run.context.browser),
        ),
        lambda probe: probe.looks,
    )


def probed(run: Acting) -> Probe:
    """A look at the pages of the baseline, within one deadline for all of them; one that seems slow
    is looked at again, and judged by the middle of its times. Raises LinkError.
    """
    here = visits.visiting(run.context, run.site)
    before = {look.name: look for look in run.baseline.looks}
    usual = sum(look.seconds for look in before.values())
    seconds = min(_TOGETHER, max(_LEAST_TOGETHER, _TIMES * usual))

    def take() -> Probe:
        until = time.monotonic() + seconds

        def judged(site: Visiting, page: Page) -> Look:
            left = until - time.monotonic()
            if left <= 0:
                why = f"there was no time left of {seconds:.0f} s for all pages"
                return no_answer(*page, seconds, why, late=True)
            with within(left):
                look = look_at(site, *page)
                if look.late or not slower(before[look.name], look):
                    return look
                times = [look.seconds] + [look_at(site, *page).seconds for _ in range(_LOOKS - 1)]
            return look.model_copy(update={"seconds": round(median(times), 3)})

        return probe(
            here,
            lambda: run.journal.ask(run.agent.look),
            run.context.clock(),
            choose=lambda _: [(x.name, x.where) for x in before.values() if x.name != "Editor"],
            look=judged,
            # Of the same content, though something newer may have come since.
            opened=lambda site, where: _opened(
                run.context.browser, site, before["Editor"].where or where
            ),
        )

    return _answered(take, lambda probe: probe.looks, before)


def _opened(browser: str, site: Visiting, where: str) -> tuple[Look, int | None] | None:
    """The editor as a browser shows it; None where there is no browser that starts."""
    if not browser:
        return None
    try:
        return editor.opened(browser, site, where)
    except NoBrowser as error:
        log.warning("the editor is looked at without a browser: %s", error)
        return None


def _answered(
    take: Callable[[], T],
    looks: Callable[[T], Iterable[Look]],
    before: Mapping[str, Look] = MappingProxyType({}),
) -> T:
    """What was seen, once the site itself answered everything: a page that gives no answer, or one
    of a gateway, is looked at again, with longer and longer pauses. Such silence is not a fault;
    for more than a minute, beside an agent that answers, it is one. A page that was waited for in
    vain is no silence. Raises LinkError.
    """
    for pause in _PAUSES:
        seen = take()
        if not any(_is_silent(look, before.get(look.name)) for look in looks(seen)):
            return seen
        time.sleep(pause)
    return take()


def _is_silent(look: Look, was: Look | None) -> bool:
    if look.status is None:
        return not look.late
    return look.status in _GATEWAY and (was is None or was.status != look.status)


def look(run: Acting, act: RunAct[Probe]) -> tuple[Seen, ...]:
    """A probe, held against the baseline. A fault counts where two looks show it, some seconds
    apart; the first of them is kept beside the second.
    """
    seen = run.journal.once(
        act,
        lambda: _proved(run, act),
        text=lambda p: f"{len(p.looks)} looks, editor: {_opens(p.editor_blocks)}",
    )
    return _held_against(run, seen)


def _held_against(run: Acting, seen: Probe) -> tuple[Seen, ...]:
    failed = bool(run.journal.of_kind(ActKind.STEP, "failed"))
    return compare(run.baseline, seen, judged=failed)


def _proved(run: Acting, act: RunAct[Probe]) -> Probe:
    """A probe that shows no fault, or one whose faults the look before it shows too. The first look
    at which something was worse is written down.
    """
    probe = probed(run)
    for _ in range(_LOOKS_AGAIN):
        bad = {part.name for part in worse(_held_against(run, probe))}
        if not bad:
            return probe
        first = act.about(ActKind.FIRST_LOOK)
        if not run.journal.has(first, "noted"):
            text = f"{worse_text(_held_against(run, probe))}; looked at again in {_APART:.0f} s"
            run.journal.write(first, "noted", text=text, detail=probe)
        time.sleep(_APART)
        before, probe = bad, probed(run)
        if before & {part.name for part in worse(_held_against(run, probe))}:
            return probe
    return probe


def _opens(blocks: int | None) -> str:
    return "does not open" if blocks is None else counted(blocks, "block")


def pages_now(run: Acting, here: Visiting) -> tuple[Seen, ...]:
    """The pages of the baseline as they are now, all at once, held against it; none where there was
    none. Reads.
    """
    if run.journal.done(acts.baseline(run.leg)) is None:
        return ()
    before = run.baseline
    pages = [look for look in before.looks if look.name != "Editor"]
    with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
        looks = tuple(pool.map(lambda look: look_at(here, look.name, look.where), pages))
    return compare_pages(before.looks, looks)


def chosen(context: Context, site: Site, here: Visiting, agent: AgentLook) -> list[Page]:
    """The pages of a site that are looked at: those the agent names, one more for each template or
    builder that these don't cover, one of each sort in the site map, those a person named, and each
    member of a network.
    """
    pages = list(agent.pages)
    templates = {agent.covers.get(where) for _, where in pages}
    for where, template in agent.covers.items():
        if template not in templates:
            templates.add(template)
            pages.append((template, where))
    covered = {_sort(where) for _, where in pages}
    by_person = [(where, where) for where in site.pages if where not in dict(pages).values()]
    for where in _of_site_map(here):
        if len(pages) + len(by_person) >= _MOST_PAGES:
            break
        if _sort(where) not in covered:
            covered.add(_sort(where))
            pages.append((where, where))
    return [*pages, *by_person, *_members(context, site, here, {where for _, where in pages})]


def _members(context: Context, site: Site, here: Visiting, named: set[str]) -> Iterator[Page]:
    """The page of each member of a network: an update of shared code reaches all of them."""
    inventory = context.store.inventories.find(site.id)
    inside, _ = visits.places_of(here, inventory.members if inventory else ())
    for where, member in inside.items():
        if where not in named:
            yield member.name, where


def _sort(where: str) -> tuple[int, str]:
    """What pages of one sort share: how deep they lie, and under what. Those at the top are each
    of their own.
    """
    parts = [part for part in where.split("?")[0].split("/") if part]
    return (len(parts), parts[0] if parts else "")


def _of_site_map(here: Visiting) -> Iterator[str]:
    """The paths that a site map lists, this site's alone; none where there is no map."""
    try:
        visited = here.page("/sitemap.xml")
        if visited.status != 200:
            return
        places = locations(visited.body)
    except (LinkError, ValueError):
        return
    for place in places:
        try:
            yield here.place(place).removeprefix(here.address) or "/"
        except LinkError:
            continue


def as_a_visitor(run: Acting) -> list[str]:
    """What a visitor sees amiss, caches and all, in words. A page that was not fine before is not
    held against the run.
    """
    here = visits.visiting(run.context, run.site)
    complaints = []
    for was in run.baseline.looks:
        if was.name == "Editor" or was.status != 200 or not was.bytes:
            continue
        take = partial(look_at, here, was.name, was.where, past_caches=False)
        look = _answered(take, _alone)
        if look.status != 200 or not look.bytes:
            time.sleep(_APART)  # one look is no proof
            look = _answered(take, _alone)
        if look.status != 200:
            complaints.append(f"{was.name}: a visitor sees status {look.status}")
        elif not look.bytes:
            complaints.append(f"{was.name}: a visitor sees an empty page")
    return complaints


def _alone(look: Look) -> tuple[Look, ...]:
    return (look,)
