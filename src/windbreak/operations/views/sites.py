"""Sites as they are read: the fleet as rows, and one site whole."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from zoneinfo import ZoneInfo

from windbreak.core.errors import RangeError
from windbreak.core.values.basics import State
from windbreak.core.values.integrity import Integrity
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.roots import Root
from windbreak.core.values.sites import Site
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version
from windbreak.documents.sites import ByHand, ComponentView, SiteSummary, SiteView, Totals
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.planning import proposals
from windbreak.operations.reasoning import answers
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.reasoning.explaining import explained
from windbreak.operations.sites import integrity, turns, visits
from windbreak.operations.views import components, looks, roots
from windbreak.operations.views.rows import Doings, row_of
from windbreak.operations.views.standings import (
    KINDS,
)
from windbreak.store import views
from windbreak.wording.looks import checks_text, day_text, files_text, members_text
from windbreak.wording.words import counted, day


@dataclass(frozen=True)
class Wanted:
    """Which sites are asked for: fields of a row, and ``runs``, a fact as "trestle<5.1"."""

    equal: Mapping[str, str | None] = field(default_factory=dict)
    text: str | None = None
    tag: str | None = None
    runs: str | None = None
    limit: int = -1
    after: str | None = None


def summaries(context: Context, wanted: Wanted | None = None) -> list[SiteSummary]:
    """Sites as values, in the order of ``rows``. Reads."""
    bodies, _, _ = rows(context, wanted or Wanted())
    return [SiteSummary.model_validate_json(body) for body in bodies]


def rows(context: Context, wanted: Wanted) -> tuple[list[str], int, str | None]:
    """Sites as the JSON of their rows, worst first, each twin after its site; the whole count; and
    the last site of the page, where there are more after it. Reads.

    Raises Refused for a fact that can't be read.
    """
    given = {name: value for name, value in wanted.equal.items() if value is not None}
    only = None if wanted.runs is None else frozenset(_running(context, wanted.runs))
    return context.store.views.rows(
        views.Wanted(given, wanted.text, wanted.tag, only, wanted.limit, wanted.after)
    )


def _running(context: Context, fact: str) -> set[str]:
    """The sites of which a fact is true: "trestle<5.1", "theme/plainsail", "loom 8.1"."""
    match = re.match(r"\s*([a-z]+/)?([a-z0-9-]+)\s*(.*)$", fact, re.IGNORECASE)
    if match is None:
        raise Refused("bad-fact", f"{fact!r} is no fact; write it as trestle<5.1")
    kind, slug, groups = match.groups()
    try:
        range_ = parse_range(groups.strip() or "*")
    except RangeError as error:
        raise Refused("bad-fact", f"{fact!r}: {error}; write it as trestle<5.1") from None
    wanted = f"{kind or ''}{slug}".lower()
    store = context.store.inventories
    there = [
        (product, version)
        for product, version, _ in store.versions_in_use()
        if wanted in (product, product.partition("/")[2])
    ]
    if not there:
        raise Refused("unknown-product", f"no site runs anything called {wanted!r}")
    return store.running([(p, v) for p, v in there if parse_version(v) in range_])


def totals(context: Context) -> Totals:
    """The moves that wait on all sites; the one place that adds them up. Reads."""
    generation, _ = context.store.views.reached()
    return context.cache.kept("totals", generation, lambda _: _totals(context))


def _totals(context: Context) -> Totals:
    by_kind, sites, held = Counter(dict.fromkeys(KINDS, 0)), 0, 0
    beyond_moves = beyond_sites = 0
    for reachable, moves, kept, count in context.store.views.moves_of_rows():
        waiting = sum(moves.values())
        if reachable:
            by_kind.update({kind: n * count for kind, n in moves.items()})
            sites += count * bool(waiting)
            held += kept * count
        else:
            beyond_moves += waiting * count
            beyond_sites += count * bool(waiting)
    return Totals(
        moves=by_kind.total(),
        sites=sites,
        by_kind=dict(by_kind),
        held=held,
        beyond_moves=beyond_moves,
        beyond_sites=beyond_sites,
    )


def site_view(context: Context, site_id: str) -> SiteView:
    """One site whole. Reads. A site that can't be reasoned about is shown without verdicts."""
    with context.store.database.remembered():
        return _site_view(context, site_id)


def _site_view(context: Context, site_id: str) -> SiteView:
    site = context.store.sites.get(site_id)
    row = context.store.views.row(site_id)
    summary = row or row_of(site, None, Doings.read(context, [site_id]))
    reasoned = None if summary.fault else _reasoned(context, site)
    shown = components.components(context, site, reasoned) if reasoned else ()
    plans = context.store.plans.all(site=site_id, newest_first=True, limit=1)
    twins = context.store.sites.all(twin_of=site_id)
    visit, seen = visits.of(context, site_id), integrity.of(context, site_id)
    inventory, last = context.store.inventories.find(site_id), turns.of_site(context, site_id)
    members = looks.members_of(context, site, inventory, visit, last)
    of_pages = [turn for turn in last if turn.of == "pages"]
    return SiteView(
        summary=summary,
        timezone=site.timezone,
        window=window_text(site),
        link_text=site.link.reason,
        link_state=site.link.state,
        agent=site.link.agent_version,
        agent_every=site.agent_minutes,
        pages_every=site.pages_minutes,
        pages_text=visit.reason,
        pages_state=visit.state,
        pages_at=visit.looked_at,
        retired_at=site.retired_at,
        components=shown,
        roots=roots.grouped(_kept_back(reasoned, shown), _names(shown), site_id)
        if reasoned
        else (),
        broken=reasoned.answer.broken if reasoned else (),
        by_hand=tuple(_by_hand(seen, shown)) if seen else (),
        files_at=seen.looked_at if seen else None,
        notes=site.notes,
        plan=plans[0].id if plans else None,
        plan_text=plan_text(context, plans[0]) if plans else "No plan has been made yet.",
        history=tuple(context.store.ledger.all(subject=site_id, newest_first=True, limit=40)),
        twin=twins[0].id if twins else site.twin_of,
        backup=_backup(context, site, twin=bool(twins)),
        backup_well=site.proved,
        situation=reasoned.key if reasoned else None,
        reasoned_at=reasoned.made_at if reasoned else None,
        proposals=(proposals.of_case(context, reasoned.case, reasoned.answer) if reasoned else ()),
        updater=_updater(inventory),
        checks=looks.checks_of(context, inventory),
        checks_text=checks_text(inventory.checks) if inventory else "",
        members=members,
        members_text=members_text(inventory.members, _on_for_all(inventory)) if inventory else "",
        day=looks.spans(of_pages),
        day_text=day_text(of_pages, context.clock() - turns.SHOWN_FOR, ZoneInfo(site.timezone)),
    )


def _on_for_all(inventory: Inventory) -> int:
    """How many plugins of a network are on for all its members."""
    return sum(
        c.active and c.product.startswith("plugin/") and c.product not in inventory.partly_on
        for c in inventory.components
    )


def _kept_back(
    reasoned: answers.Reasoned, components: Iterable[ComponentView]
) -> Iterator[tuple[str, State, Sequence[Root]]]:
    blocked = {v.product: v.blocked for v in reasoned.answer.verdicts}
    for component in components:
        why = blocked.get(component.product)
        yield component.product, component.state, why.roots if why else ()


def _names(components: Iterable[ComponentView]) -> dict[str, str]:
    return {component.product: component.name for component in components}


def _by_hand(seen: Integrity, components: Iterable[ComponentView]) -> Iterator[ByHand]:
    """What was done by hand to the components as they are at now."""
    for component in components:
        files = seen.of(component.product, component.version)
        text = files_text(files) if files is not None else ""
        if files is not None and text:
            yield ByHand(product=component.product, name=component.name, text=text, files=files)


def _updater(inventory: Inventory | None) -> str:
    """Whether a site has a second master beside us."""
    if inventory is None:
        return "not known yet"
    if inventory.automatic_updates:
        return "on; it may move things without us, and runs pause it"
    return "off: nothing moves there but by a person or a run"


def _backup(context: Context, site: Site, *, twin: bool) -> str:
    """What is known of a site's backup; of a twin, how old it is."""
    today = context.clock().date()
    if site.twin_of is not None:
        refreshed = site.refreshed_at
        return f"as its site on {day(refreshed.date(), today)}" if refreshed else "never refreshed"
    if site.proved_at is None:
        return "never restored on the twin" if twin else "can’t be proved without a twin"
    how = "restored on the twin" if site.proved else "not whole when restored on the twin"
    return f"{how}, {day(site.proved_at.date(), today)}"


def _reasoned(context: Context, site: Site) -> answers.Reasoned | None:
    inventory = context.store.inventories.find(site.id)
    if inventory is None:
        return None
    ground = Ground.read(context)
    return explained(ground, site, answers.reason(context, ground.case(site, inventory)))


def window_text(site: Site) -> str:
    """A site's windows in words: "nights 01:00 to 05:00, Europe/London"."""
    if not site.windows:
        return "none: nothing can be booked"
    parts = []
    for window in site.windows:
        days = "every day" if len(window.days) == 7 else ", ".join(d.title() for d in window.days)
        parts.append(f"{days} {window.start} to {window.end}")
    return f"{'; '.join(parts)}, {site.timezone}"


def plan_text(context: Context, plan: SitePlan) -> str:
    """What becomes of a plan, in a sentence."""
    site = context.store.sites.get(plan.site)
    count = len(plan.plan.steps)
    if not count:
        return "Nothing moves now."
    steps = counted(count, "step")
    if plan.plan.combined:
        steps += ", some of them combined"
    if plan.removes and plan.state == "draft":
        return f"{counted(len(plan.removes), 'product')} to leave, in {steps}. Not yet approved."
    if plan.state == "draft":
        return f"{counted(len(plan.targets), 'product')} in {steps}. Not yet approved."
    if plan.state == "approved":
        for booking in context.store.bookings.all(site=plan.site, state="waiting"):
            if booking.plan == plan.id:
                at = booking.starts_at.astimezone(ZoneInfo(site.timezone))
                when = day(at.date(), context.clock().date())
                return f"Approved: {steps}, booked for {when}, {at:%H:%M}."
        return f"Approved: {steps}; it is not booked."
    return f"The last plan, {steps}, was {plan.state}."
