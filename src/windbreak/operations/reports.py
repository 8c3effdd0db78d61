"""What people read: a site whole, the fleet as rows, a run's story, today."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from zoneinfo import ZoneInfo

from windbreak.core.case import Case
from windbreak.core.explain import Answer, PlannedStep, Verdict, counted, day, step_title
from windbreak.core.fleet import WORST_FIRST, Inventory, Site, State
from windbreak.core.versions import jump, parse_version
from windbreak.core.work import (
    ComponentView,
    JournalEntry,
    Probe,
    Run,
    RunStep,
    RunStory,
    Seen,
    SitePlan,
    SiteSummary,
    SiteView,
    Today,
)
from windbreak.links.probing import compare
from windbreak.operations import findings, reasoning
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused

_UNLINKED: dict[str, State] = {
    "down": "failed",
    "silent": "unknown",
    "refused": "unknown",
    "unlinked": "unknown",
}
_KINDS = ("core", "theme", "plugin", "runtime")


def state_of(verdict: Verdict) -> State:
    """The one word for a component: what becomes of it, or why it does not move."""
    if verdict.outcome in ("move", "add"):
        return "ready"
    kinds = {told.reason.kind for told in verdict.blocked.reasons} if verdict.blocked else set()
    if "hold" in kinds:
        return "held"
    if kinds == {"soak"}:
        return "waiting"
    if verdict.outcome == "part":
        return "ready"
    return "blocked" if kinds and kinds != {"trade"} else "clear"


def worst(states: Iterable[State]) -> State:
    """The worst of some states; a site with nothing but held items is clear."""
    found = [s for s in states if s != "held"]
    return min(found, key=WORST_FIRST.index, default="clear")


def summaries(context: Context) -> list[SiteSummary]:
    """Every site as a row, worst first, each twin after its site. Reads."""
    rows = [summary(context, site) for site in context.store.sites.all()]
    by_id = {row.id: row for row in rows}
    leads = [row for row in rows if row.twin_of not in by_id]
    leads.sort(key=lambda row: (WORST_FIRST.index(row.state), row.label))
    found = []
    for row in leads:
        found += [row, *(other for other in rows if other.twin_of == row.id)]
    return found


def summary(context: Context, site: Site) -> SiteSummary:
    """One site as a row. Reads."""
    moves: Counter[str] = Counter({kind: 0 for kind in _KINDS})
    held, states, text = 0, [], ""
    answer = _answer(context, site.id)
    for verdict in answer.verdicts if answer else ():
        state = state_of(verdict)
        states.append(state)
        held += state == "held"
        if verdict.outcome in ("move", "part", "add"):
            moves[verdict.product.partition("/")[0]] += 1
    state = worst(states)
    running = context.store.runs.all(site=site.id, state="running")
    last = context.store.runs.all(site=site.id, newest_first=True, limit=1)
    waiting = context.store.bookings.all(site=site.id, state="waiting")
    approved = any(p.state == "approved" for p in context.store.plans.all(site=site.id))
    if running:
        state, text = "running", running[0].text
    elif site.link.state != "linked":
        state, text = _UNLINKED[site.link.state], site.link.reason
    elif last and last[0].state in findings.WENT_WRONG:
        state, text = "failed", last[0].text
    elif answer is not None:
        text = _worst_reason(answer, state)
    booking = min((b.starts_at for b in waiting), default=None)
    host = context.store.hosts.find(site.host) if site.host else None
    return SiteSummary(
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
    )


def _progress(run: Run) -> float:
    return min(1.0, max(0.05, (run.step - 0.5) / max(1, run.steps)))


def _answer(context: Context, site: str) -> Answer | None:
    try:
        return reasoning.verdicts(context, site)
    except Refused:
        return None


def _worst_reason(answer: Answer, state: State) -> str:
    for verdict in answer.verdicts:
        if verdict.blocked is not None and state_of(verdict) == state:
            return verdict.blocked.text
    moving = sum(v.outcome in ("move", "part", "add") for v in answer.verdicts)
    if moving:
        return f"{counted(moving, 'move')} ready; nothing stands in the way."
    if any(state_of(v) == "held" for v in answer.verdicts):
        return "Only held items are left."
    return "As new as it may be."


def site_view(context: Context, site: str) -> SiteView:
    """One site whole. Reads."""
    known = context.store.sites.get(site)
    inventory = context.store.inventories.find(site)
    components: tuple[ComponentView, ...] = ()
    if inventory is not None:
        case = reasoning.case_of(context, site)
        answer = reasoning.reason(case).answer
        views = [_component(context, case, inventory, v) for v in answer.verdicts]
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
    context: Context, case: Case, inventory: Inventory, verdict: Verdict
) -> ComponentView:
    product = verdict.product
    active = next((c.active for c in inventory.components if c.product == product), True)
    return ComponentView(
        product=product,
        name=case.label(product),
        kind=product.partition("/")[0],
        version=verdict.from_,
        target=verdict.to if verdict.to != verdict.from_ else None,
        newest=verdict.newest,
        state=state_of(verdict),
        origin=_origin(context, case, product, verdict),
        active=active,
        text=_sentence(case, verdict, active=active),
    )


def _origin(context: Context, case: Case, product: str, verdict: Verdict) -> str:
    known = context.store.products.find(product)
    if known is None:
        return "no feed covers it"
    if known.access == "bundled-only":
        for release in case.releases:
            if product in release.bundles:
                return f"carried by {case.label(release.product)}"
    words = {
        "public": "public",
        "licensed": f"licensed, {known.maker}",
        "custom": "made for this site",
        "host": "host",
        "bundled-only": "carried by a theme",
    }
    return words[known.access]


def _sentence(case: Case, verdict: Verdict, *, active: bool) -> str:
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


def today(context: Context) -> Today:
    """What wants attention, what is booked, and how old the facts are. Reads."""
    feeds = [
        (f.label, "fresh" if f.state == "fresh" else f"{f.state}: {f.reason}", f.polled_at)
        for f in context.store.feeds.all()
    ]
    bookings = sorted(context.store.bookings.all(state="waiting"), key=lambda b: b.starts_at)
    return Today(
        at=context.clock(),
        findings=tuple(findings.listed(context)),
        sites=tuple(summaries(context)),
        bookings=tuple(bookings),
        feeds=tuple(feeds),
    )
