"""What is seen of a site as it is read: its members, its own health checks, its last day."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from zoneinfo import ZoneInfo

from windbreak.core.values.inventories import CheckState, Inventory
from windbreak.core.values.sites import Site
from windbreak.core.values.turns import Turn
from windbreak.core.values.visits import MemberVisit, Visit
from windbreak.documents.sites import CheckView, NetworkMember, Span
from windbreak.operations.context import Context
from windbreak.operations.sites import turns, visits
from windbreak.wording.looks import day_text

_WORST_FIRST: tuple[CheckState, ...] = ("critical", "minor", "good")


_NOT_YET = "Nobody has looked at its page yet."


def checks_of(context: Context, inventory: Inventory | None) -> tuple[CheckView, ...]:
    """A site's own health checks, the worst first, each with the day since when it says so."""
    if inventory is None or not inventory.checks:
        return ()
    since = turns.checks_since(context, inventory.id)
    views = [
        CheckView(
            id=check.id,
            name=check.name,
            state=check.state,
            text=check.text,
            since=since.get(check.id),
        )
        for check in inventory.checks
    ]
    return tuple(sorted(views, key=lambda view: _WORST_FIRST.index(view.state)))


def members_of(
    context: Context, site: Site, inventory: Inventory | None, visit: Visit, last: Sequence[Turn]
) -> tuple[NetworkMember, ...]:
    """The members of a network, each as it was seen last and in its last day."""
    if inventory is None or not inventory.members:
        return ()
    inside, beyond = visits.places_of(visits.visiting(context, site), inventory.members)
    seen = {look.where: look for look in visit.members}
    names = {c.product: c.name for c in inventory.components}
    since, zone = context.clock() - turns.SHOWN_FOR, ZoneInfo(site.timezone)
    views = []
    for where, member in (inside | beyond).items():
        now = seen.get(where) or MemberVisit(where=where, state="not looked", reason=_NOT_YET)
        its = [turn for turn in last if turn.of == "member" and turn.name == where]
        views.append(
            NetworkMember(
                name=member.name,
                address=member.address,
                state=now.state,
                reason=now.reason,
                on=tuple([names.get(product, product) for product in member.on]),
                day=spans(its),
                day_text=day_text(its, since, zone),
            )
        )
    return tuple(views)


def spans(last: Iterable[Turn]) -> tuple[Span, ...]:
    """Changes as they are drawn."""
    return tuple([Span(at=turn.at, state=turn.state, text=turn.text) for turn in last])
