"""The second look at a site: its pages from outside, as a visitor sees them, past caches.

It has its own time and says nothing of the agent. A page that answers 500 or above, with nothing,
or with a fault's own words and no title, is broken, whatever the agent says. While a run works on a
site, or its maintenance page is up, nobody looks: the run judges its pages itself.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from windbreak.core.values.inventories import Member
from windbreak.core.values.runs import Look
from windbreak.core.values.sites import Site
from windbreak.core.values.visits import WRONG, MemberVisit, PagesState, Visit
from windbreak.links.errors import LinkError
from windbreak.links.probing import look_at
from windbreak.links.visiting import Visiting
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.sites import turns
from windbreak.outside.at_once import at_once
from windbreak.wording.words import listed

FRONT = "/"
AT_ONCE, PER_HOST = 16, 2
_AGAIN_AFTER = 1.0  # seconds until what is wrong is looked at once more, before it is told


def visiting(context: Context, site: Site) -> Visiting:
    """A site, as everything that is asked of it goes there."""
    return Visiting(context.http, site.address)


def of(context: Context, site: str) -> Visit:
    """What was seen of a site's pages last. Reads."""
    return context.store.visits.find(site) or Visit(id=site)


def visit(context: Context, site: Site) -> Visit:
    """Look at a site's pages now, or leave it where a run is at work there. Writes. What changed
    stands in the ledger.
    """
    before = of(context, site.id)
    if is_worked_on(context, site.id):
        return before
    seen = seen_now(context, site)
    state, reason, now = seen.state, seen.reason, context.clock()
    since = before.since if before.state == state else now
    after = seen.model_copy(update={"since": since, "looked_at": now})
    with context.store.transaction():
        context.store.visits.put(after)
        turns.note_visit(context, before, after)
        turned = before.state != state and (state in WRONG or before.state in WRONG)
        if turned:
            word = "fine again" if state == "fine" else state
            context.record(
                "Windbreak", f"{site.label}: its pages are {word}", site.id, result=reason
            )
    if before.state != state:
        context.tell("site", site.id, f"pages {state}")
    return after


def seen_now(context: Context, site: Site) -> Visit:
    """How a site's pages are now, and those of its members. Nothing is kept."""
    here = visiting(context, site)
    inventory = context.store.inventories.find(site.id)
    inside, beyond = places_of(here, inventory.members if inventory else ())
    return _seen(site.id, here, site.pages, inside, beyond)


def places_of(
    here: Visiting, members: Sequence[Member]
) -> tuple[dict[str, Member], dict[str, Member]]:
    """The members of a network by their address on the site; and those at addresses of another
    origin, which an agent can't send us to.
    """
    inside: dict[str, Member] = {}
    beyond: dict[str, Member] = {}
    for member in members:
        try:
            inside[here.place(member.address).removeprefix(here.address) or FRONT] = member
        except LinkError:
            beyond[member.address] = member
    return inside, beyond


def is_worked_on(context: Context, site: str) -> bool:
    """Whether its pages are not what they are by themselves just now. Reads."""
    if context.store.runs.count(site=site, state=("running", "waiting")):
        return True
    return any(debt.kind == "page" for debt in context.store.debts.all(site=site, paid=False))


def visit_many(context: Context, sites: Sequence[Site]) -> Iterator[Visit]:
    """Look at many sites' pages at once, few of one host at a time. Writes."""
    for ready in at_once(
        sites,
        lambda site: visit(context, site),
        place=lambda site: site.host or site.id,
        most=AT_ONCE,
        per_place=PER_HOST,
        finish=context.store.close,  # each thread's own connection
    ):
        yield from ready


def due(context: Context, every: timedelta) -> list[Site]:
    """The linked sites whose pages are to be looked at now. Reads."""
    now = context.clock()
    return [site for site, at in _times(context, every) if at <= now]


def next_due(context: Context, every: timedelta) -> datetime | None:
    """When pages are to be looked at next; None where there is no site. Reads."""
    return min([at for _, at in _times(context, every)], default=None)


def _times(context: Context, every: timedelta) -> list[tuple[Site, datetime]]:
    if not instance.may_drive(context):
        return []
    store, now = context.store, context.clock()
    seen = {visit.id: visit.looked_at for visit in store.visits.all()}
    busy = {run.site for run in store.runs.all(state=("running", "waiting"))}
    busy |= {debt.site for debt in store.debts.all(paid=False) if debt.kind == "page"}
    return [
        (site, looked + own if (looked := seen.get(site.id)) else now)
        for site in store.sites.live()
        if site.link.state != "unlinked"
        and site.id not in busy
        and (own := own_time(site.pages_minutes, every))
    ]


def own_time(minutes: int | None, usual: timedelta) -> timedelta:
    """How often a site is looked at: as is usual where it has no time of its own."""
    return usual if minutes is None else timedelta(minutes=minutes)


def _seen(
    id: str,
    site: Visiting,
    pages: Sequence[str],
    members: Mapping[str, Member],
    beyond: Mapping[str, Member],
) -> Visit:
    """How some pages are, the front page first. What is wrong is looked at twice."""
    places = dict.fromkeys((FRONT, *pages, *members))
    looks = [look_at(site, place, place) for place in places]
    if any(_wrong(look) for look in looks):
        time.sleep(_AGAIN_AFTER)
        looks = [look_at(site, look.name, look.where) if _wrong(look) else look for look in looks]
    wrong = {look.where: why for look in looks if (why := _wrong(look))}
    silent = {look.where: look.faults[0] for look in looks if look.status is None}
    seen = [_member_seen(where, wrong.get(where, ""), where in silent) for where in members]
    for address in beyond:
        reason = "Its address lies beyond the site’s own, so it is not looked at."
        seen.append(MemberVisit(where=address, state="not looked", reason=reason))
    state: PagesState = "broken" if wrong else "fine"
    reason = "Its pages answer as they should."
    if wrong:
        names = {where: member.name for where, member in members.items()}
        reason = f"{listed([f'{_name(where, names)} {why}' for where, why in wrong.items()])}."
    if len(silent) == len(looks):
        state, reason = "unreachable", f"Its pages give no answer: {silent[FRONT]}."
    return Visit(id=id, state=state, reason=reason, members=tuple(seen))


def _member_seen(where: str, why: str, silent: bool) -> MemberVisit:
    if not why:
        return MemberVisit(where=where, state="fine", reason="Its page answers as it should.")
    state: PagesState = "unreachable" if silent else "broken"
    return MemberVisit(where=where, state=state, reason=f"Its page {why}.")


def _name(where: str, members: Mapping[str, str]) -> str:
    if where == FRONT:
        return "Its front page"
    return f"{members[where]}’s page" if where in members else where


def _wrong(look: Look) -> str:
    """What is wrong with a page, in words; "" where nothing is."""
    if look.status is None:
        return "gives no answer"
    if look.status >= 500:
        return f"answers {look.status}"
    if not look.bytes:
        return "is empty"
    if look.faults and not look.marks:
        return f"shows a fault (“{look.faults[0]}”)"
    return ""
