"""What people read: a site whole, the fleet as rows, a run's story."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from zoneinfo import ZoneInfo

from windbreak.core.case.candidates import members
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Advisory, Case
from windbreak.core.errors import RangeError
from windbreak.core.explanation.newest import newest
from windbreak.core.explanation.passing import Passed, passed
from windbreak.core.values.basics import WORST_FIRST, State
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.reasons import SoakExclusion
from windbreak.core.values.runs import WENT_WRONG, JournalEntry, Probe, Run, Seen
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import Newest, PlannedStep, Verdict
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import jump, parse_version
from windbreak.documents.products import Standing
from windbreak.documents.runs import RunStep, RunStory
from windbreak.documents.sites import ComponentView, SiteSummary, SiteView
from windbreak.links.probing import compare
from windbreak.operations import proposals, reasoning, supposing
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.wording.answers import step_title
from windbreak.wording.words import counted, day

_UNLINKED: dict[str, State] = {
    "down": "failed",
    "silent": "unknown",
    "refused": "unknown",
    "unlinked": "unknown",
}
_KINDS = ("core", "theme", "plugin", "runtime")


def state_of(case: Case, verdict: Verdict) -> State:
    """The one word for a component: what becomes of it, or why it does not move."""
    if exposures(case, verdict):
        return "exposed"
    if verdict.outcome in ("move", "part", "add"):
        return "ready"
    kinds = {told.reason.kind for told in verdict.blocked.reasons} if verdict.blocked else set()
    if "hold" in kinds:
        return "blocked" if _undecided(verdict) else "held"
    if kinds == {"soak"}:
        return "waiting"
    if kinds and kinds <= {"licence", "bundle"} and carried_here(case, verdict.product):
        return "clear"  # as new as its theme lets it be
    return "blocked" if kinds and kinds != {"trade"} else "clear"


def carried_here(case: Case, product: str) -> str | None:
    """The site's theme that carries a plugin in some release, or None."""
    for component in case.site.components:
        if not component.product.startswith("theme/") or not component.active:
            continue
        if any(product in r.bundles for r in case.releases_of[component.product]):
            return component.product
    return None


def exposures(case: Case, verdict: Verdict) -> list[Advisory]:
    """The advisories that reach a component as it is installed now, the gravest first."""
    if verdict.from_ is None:
        return []
    now = parse_version(verdict.from_)
    found = [
        a
        for a in case.advisories
        if a.product == verdict.product and now in parse_range(a.affected)
    ]
    return sorted(found, key=lambda a: -_SEVERITIES.index(a.severity))


_SEVERITIES = ("low", "medium", "high", "critical")


def _undecided(verdict: Verdict) -> bool:
    """Whether what holds a release back is not anybody's decision, but the want of one."""
    assert verdict.blocked is not None  # callers looked at its reasons
    return any(
        told.reason.kind == "hold" and told.reason.reason.startswith(reasoning.UNDECIDED)
        for told in verdict.blocked.reasons
    )


def worst(states: Iterable[State]) -> State:
    """The worst of some states; a site with nothing but held items is clear."""
    found = [s for s in states if s != "held"]
    return min(found, key=WORST_FIRST.index, default="clear")


SETTLED_AT_ONCE = 200


def settle(context: Context, most: int = SETTLED_AT_ONCE) -> int:
    """Work stale rows out again, so many at the most; how many were. Writes."""
    ids = context.store.rows.stale(most)
    reasoning.prepare(context, ids)
    for id in ids:
        site = context.store.sites.get(id)
        row, standings = _worked_out(context, site)
        context.store.rows.put(row, standings)
    return len(ids)


@dataclass(frozen=True)
class Wanted:
    """Which sites are asked for: fields of a row, and ``runs``, a fact as "trestle<5.1"."""

    equal: Mapping[str, str | None] = field(default_factory=dict)
    text: str | None = None
    tag: str | None = None
    runs: str | None = None
    limit: int = -1
    offset: int = 0


def summaries(context: Context, wanted: Wanted | None = None) -> list[SiteSummary]:
    """Sites as values, in the order of ``rows``. Reads, and settles stale rows first."""
    bodies, _ = rows(context, wanted or Wanted())
    return [SiteSummary.model_validate_json(body) for body in bodies]


def rows(context: Context, wanted: Wanted) -> tuple[list[str], int]:
    """Sites as the JSON of their rows, worst first, each twin after its site; and the whole count.

    Reads, and works out what is stale first, up to a number: in a large fleet the rest of it is
    shown as it was until the service has come to it. Raises Refused for a fact that can't be read.
    """
    settle(context)
    given = {name: value for name, value in wanted.equal.items() if value is not None}
    only = None if wanted.runs is None else _running(context, wanted.runs)
    return context.store.rows.listed(
        given, wanted.text, wanted.tag, only, wanted.limit, wanted.offset
    )


def _running(context: Context, fact: str) -> set[str]:
    """The sites of which a fact is true: "trestle<5.1", "theme/plainsail", "loom 8.1"."""
    match = re.match(r"\s*([a-z]+/)?([a-z0-9-]+)\s*(.*)$", fact, re.IGNORECASE)
    if match is None:
        raise Refused("bad-fact", f"{fact!r} is no fact; write it as trestle<5.1")
    kind, slug, said = match.groups()
    try:
        range_ = parse_range(said.strip() or "*")
    except RangeError as error:
        raise Refused("bad-fact", f"{fact!r}: {error}; write it as trestle<5.1") from None
    wanted = f"{kind or ''}{slug}".lower()
    rows = context.store.installed()
    found = {
        site
        for site, product, version, _ in rows
        if wanted in (product, product.partition("/")[2]) and parse_version(version) in range_
    }
    if not found and not any(wanted in (p, p.partition("/")[2]) for _, p, _, _ in rows):
        raise Refused("unknown-product", f"no site runs anything called {wanted!r}")
    return found


def summary(context: Context, site: Site) -> SiteSummary:
    """One site as a row. Reads."""
    return _worked_out(context, site)[0]


def _worked_out(context: Context, site: Site) -> tuple[SiteSummary, list[Standing]]:
    """A site's row and how each of its components stands. Reads."""
    moves: Counter[str] = Counter({kind: 0 for kind in _KINDS})
    held, states, text, standings = 0, [], "", []
    known = _reasoned(context, site.id)
    for verdict in known.answer.verdicts if known else ():
        assert known is not None  # there are verdicts
        state = state_of(known.case, verdict)
        states.append(state)
        held += state == "held"
        if verdict.outcome in ("move", "part", "add"):
            moves[verdict.product.partition("/")[0]] += 1
        standings.append(_standing(known.case, site, verdict, state))
    state = worst(states)
    running = context.store.runs.all(site=site.id, state="running")
    last = context.store.runs.all(site=site.id, newest_first=True, limit=1)
    waiting = context.store.bookings.all(site=site.id, state="waiting")
    approved = site.id in context.store.approved(site.id)
    if running:
        state, text = "running", running[0].text
    elif site.link.state != "linked":
        state, text = _UNLINKED[site.link.state], site.link.reason
    elif last and last[0].state in WENT_WRONG:
        state, text = "failed", last[0].text
    elif known is not None:
        text = _worst_reason(known, state)
    booking = min((b.starts_at for b in waiting), default=None)
    host = context.store.hosts.find(site.host) if site.host else None
    row = SiteSummary(
        id=site.id,
        label=site.label,
        client=site.client,
        host=site.host,
        host_name=host.name if host else "elsewhere",
        environment=site.environment,
        twin_of=site.twin_of,
        address=site.address,
        link=site.link.state,
        state=state,
        moves=dict(moves),
        held=held,
        text=text,
        facts_at=site.facts_at,
        next_booking=booking,
        approved=approved,
        running=running[0].id if running else None,
        progress=_progress(running[0]) if running else None,
        tags=site.tags,
    )
    return row, standings


def _progress(run: Run) -> float:
    return min(1.0, max(0.05, (run.step - 0.5) / max(1, run.steps)))


def _standing(case: Case, site: Site, verdict: Verdict, state: State) -> Standing:
    blocked = verdict.blocked
    reasons = [told.reason for told in blocked.reasons] if blocked else []
    soak = next((r for r in reasons if isinstance(r, SoakExclusion)), None)
    return Standing(
        site=site.id,
        product=verdict.product,
        version=verdict.from_,
        target=verdict.to if verdict.to != verdict.from_ else None,
        newest=verdict.newest,
        state=state,
        reason=reasons[0].kind if reasons else "",
        text=_sentence(case, verdict, active=True),
        blocked=blocked.version if blocked else None,
        until=soak.over if soak else None,
        soak=soak.soak_class if soak else None,
        helps="; or: ".join(act.text for act in blocked.unblock) if blocked else "",
    )


def _reasoned(context: Context, site: str) -> reasoning.Reasoned | None:
    try:
        return reasoning.reason(context, reasoning.case_of(context, site))
    except Refused:
        return None


def _worst_reason(known: reasoning.Reasoned, state: State) -> str:
    for verdict in known.answer.verdicts:
        if state_of(known.case, verdict) != state:
            continue
        if state == "exposed":
            return _exposed(known.case, verdict)
        if verdict.blocked is not None and state != "ready":
            return verdict.blocked.text
    moving = sum(v.outcome in ("move", "part", "add") for v in known.answer.verdicts)
    if moving:
        return f"{counted(moving, 'move')} ready; nothing stands in the way."
    if any(state_of(known.case, v) == "held" for v in known.answer.verdicts):
        return "Only held items are left."
    return "As new as it may be."


def _exposed(case: Case, verdict: Verdict) -> str:
    """The sentence of a component that an advisory reaches, and what closes it."""
    advisory = exposures(case, verdict)[0]
    name = case.label(verdict.product)
    text = f"Advisory {advisory.id} ({advisory.severity}) reaches {name} {verdict.from_}."
    closed = parse_range(advisory.affected)
    if verdict.to and parse_version(verdict.to) not in closed:
        return f"{text} {verdict.to} closes it, and nothing stands in the way."
    if verdict.blocked is not None:
        return f"{text} {verdict.blocked.text}"
    return f"{text} No release that could be taken closes it."


def site_view(context: Context, site: str) -> SiteView:
    """One site whole. Reads."""
    known = context.store.sites.get(site)
    inventory = context.store.inventories.find(site)
    components: tuple[ComponentView, ...] = ()
    reasoned: reasoning.Reasoned | None = None
    if inventory is not None:
        case = reasoning.case_of(context, site)
        reasoned = reasoning.reason(context, case)
        answer = reasoned.answer
        catalogue = Catalogue.of(case)
        by_product = {m.product: m for m in members(case, catalogue)}
        views = [
            _component(
                context, case, known, inventory, v, newest(case, catalogue, by_product[v.product])
            )
            for v in answer.verdicts
        ]
        shown = [v for v in views if v.version is not None or v.target is not None]
        shown.sort(key=lambda v: (WORST_FIRST.index(v.state), _kind_order(v.kind), v.name))
        components = tuple(shown)
    plans = context.store.plans.all(site=site, newest_first=True, limit=1)
    twins = context.store.sites.all(twin_of=site)
    return SiteView(
        summary=summary(context, known),
        timezone=known.timezone,
        window=window_text(known),
        link_text=known.link.reason,
        link_state=known.link.state,
        components=components,
        plan=plans[0].id if plans else None,
        plan_text=plan_text(context, plans[0]) if plans else "No plan has been made yet.",
        history=tuple(context.store.ledger.all(subject=site, newest_first=True, limit=40)),
        twin=twins[0].id if twins else known.twin_of,
        situation=reasoned.key if reasoned else None,
        reasoned_at=reasoned.made_at if reasoned else None,
        proposals=(proposals.of_case(context, reasoned.case, reasoned.answer) if reasoned else ()),
    )


def _kind_order(kind: str) -> int:
    return ("theme", "core", "plugin", "runtime").index(kind)


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


def _component(
    context: Context, case: Case, site: Site, inventory: Inventory, verdict: Verdict, four: Newest
) -> ComponentView:
    product = verdict.product
    installed = next((c for c in inventory.components if c.product == product), None)
    active = installed.active if installed else True
    return ComponentView(
        product=product,
        name=case.label(product),
        kind=product.partition("/")[0],
        version=verdict.from_,
        target=verdict.to if verdict.to != verdict.from_ else None,
        newest=verdict.newest,
        state=state_of(case, verdict),
        origin=origin(context, case, site, inventory, product),
        active=active,
        text=_sentence(case, verdict, active=active),
        four=four,
        passes=_passes(context, product, verdict),
        folder=installed.folder if installed else None,
        own=product in site.own,
        acts=supposing.helps(verdict, site),
    )


def _passes(context: Context, product: str, verdict: Verdict) -> Passed | None:
    """What lies between the installed version and where it goes, or the newest. Reads."""
    end = verdict.to if verdict.to != verdict.from_ else verdict.newest
    if verdict.from_ is None or end is None or end == verdict.from_:
        return None
    releases = context.store.releases.all(product=product)
    return passed(product, releases, parse_version(verdict.from_), parse_version(end))


def origin(context: Context, case: Case, site: Site, inventory: Inventory, product: str) -> str:
    """Where a component comes from on this site; the same plugin may be bought on another."""
    if product in site.own:
        return "made for this site"
    known = context.store.products.find(product)
    if known is None:
        return "no feed covers it"
    if product in reasoning.namesakes({known.id: known}, inventory):
        return "another maker's; it shares a folder name"
    if known.feed is None:
        return "by hand"
    if known.access in ("public", "host"):
        return known.access
    if any(licence.product == product for licence in case.site.licences):
        return f"licensed, {known.maker}"
    theme = carried_here(case, product)
    if theme is not None:
        return f"carried by {case.label(theme)}"
    if any(item.product == product for item in case.site.shelf):
        return "on the shelf"
    return f"licensed, {known.maker}; no licence here"


def _sentence(case: Case, verdict: Verdict, *, active: bool) -> str:
    if exposures(case, verdict):
        return _exposed(case, verdict)
    if verdict.blocked is not None:
        return verdict.blocked.text
    if verdict.outcome == "add":
        return "It joins the site: something here asks for it."
    if verdict.outcome == "move":
        product = case.product[verdict.product]
        assert verdict.from_ is not None and verdict.to is not None  # a move has both
        start, end = parse_version(verdict.from_), parse_version(verdict.to)
        if product.kind == "runtime":
            return "Something here needs it, and the host has it."
        return f"A {jump(start, end, product.major_place)} move; nothing stands in the way."
    if verdict.product.startswith("runtime/"):
        return "Nothing here gains by a newer one."
    known = case.product[verdict.product]
    if known.access == "custom":
        return "Made for this site; what is offered under its folder's name is not it."
    if known.closed:
        return "Its maker has withdrawn it; nothing newer will come."
    if not case.releases_of[verdict.product]:
        return "No feed tells of its releases."
    return "Newest." if active else "Newest. It is switched off."


def run_story(context: Context, run: int) -> RunStory:
    """A run with its steps, what the probes saw and its journal. Reads."""
    known = context.store.runs.get(run)
    plan = context.store.plans.get(known.plan)
    journal = context.store.journal.all(run=run)
    by_act: dict[tuple[str, str], JournalEntry] = {(e.act, e.state): e for e in journal}
    names = _names(context)
    baseline = by_act.get(("baseline", "done"))
    seen, after = _newest_probe(journal, baseline)
    steps = tuple(
        _run_step(n, step, by_act, names) for n, step in enumerate(plan.plan.steps, start=1)
    )
    shown = tuple(e.model_copy(update={"detail": {}}) for e in journal)
    return RunStory(
        run=known,
        steps=steps,
        seen=seen,
        seen_after=after,
        journal=shown,
        as_it_was=_as_it_was(by_act),
    )


def _names(context: Context) -> dict[str, str]:
    return {p.id: p.name for p in context.store.products.all()}


def _newest_probe(
    journal: list[JournalEntry], baseline: JournalEntry | None
) -> tuple[tuple[Seen, ...], int]:
    if baseline is None:
        return (), 0
    before = Probe.model_validate(baseline.detail)
    failed_at = next((e.id for e in journal if e.state == "failed"), None)
    for entry in reversed(journal):
        if "probe" in entry.act and entry.state == "done":
            judged = failed_at is not None and entry.id > failed_at
            now = Probe.model_validate(entry.detail)
            return compare(before, now, judged=judged), entry.step or 0
    return (), 0


def _run_step(
    number: int,
    step: PlannedStep,
    by_act: dict[tuple[str, str], JournalEntry],
    names: dict[str, str],
) -> RunStep:
    act = f"step {number}"
    meant, put_back = by_act.get((act, "meant")), by_act.get((act, "put back"))
    ended = by_act.get((act, "done")) or put_back or by_act.get((act, "failed"))
    state = "to come"
    if meant is not None:
        state = "running" if ended is None else ended.state
    done = by_act.get((act, "done"))
    return RunStep.model_validate(
        {
            "number": number,
            "title": step_title(step, names),
            "why": step.why,
            "state": state,
            "started_at": meant.at if meant else None,
            "ended_at": ended.at if ended else None,
            "seen": done.detail.get("seen", ()) if done else (),
        }
    )


def _as_it_was(by_act: dict[tuple[str, str], JournalEntry]) -> str:
    before = by_act.get(("inventory", "done"))
    if before is None:
        return ""
    recorded = before.detail
    parts = [f"Automatic updates {'on' if recorded['automatic_updates'] else 'off'}."]
    if recorded["caches"]:
        parts.append(f"{len(recorded['caches'])} page cache on.")
    plugins = [p for p in recorded["active"] if p.startswith("plugin/")]
    parts.append(f"{len(plugins)} plugins on.")
    if ("snapshot", "done") in by_act:
        detail = by_act["snapshot", "done"].detail
        parts.append(f"Snapshot: complete, {detail['files']} files.")
    return " ".join(parts)
