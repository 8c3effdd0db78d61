"""What gives cause for a finding on sites, in their plans and runs, and in the house's own."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from zoneinfo import ZoneInfo

from windbreak.core.values.basics import State
from windbreak.core.values.findings import Finding, NextAct, Weight
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.runs import WENT_WRONG
from windbreak.core.values.sites import Site, System
from windbreak.core.values.visits import WRONG
from windbreak.core.versions.version import parse_version
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.operations.licensing import licence_rights
from windbreak.operations.planning import allowed
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.views import roots
from windbreak.wording.words import counted, day, listed

FEW_READY = 6
# The newest agent that there is for a system.
CURRENT_AGENT: dict[System, str] = {"wordpress": "1.8", "millrace": "1.3"}
# What an agent may not offer yet, in words.
_CALLS = {
    "register": "registering a code",
    "own-files": "telling which files are the site’s own",
    "clear": "clearing what an update left over",
    "migrate": "following a change of the database",
    "regenerate": "making generated files anew",
    "fetch": "refreshing its twin from it",
    "bring": "being refreshed from its site",
    "rotate": "taking a new key of the service",
    "void": "giving up a change that is still on its way",
    "pass": "showing its pages behind the maintenance page",
}


def of_link(context: Context, site: Site) -> Iterator[Finding]:
    link = site.link
    if link.state == "linked":
        yield from _of_agent(context, site)
        yield from _of_what_agent_lacks(context, site)
        return
    by_state: dict[str, tuple[State, Weight, str, str]] = {
        "down": ("failed", "high", "is down", "Look again"),
        "silent": (
            "unknown",
            "medium",
            "is silent: its agent does not answer",
            "Look again",
        ),
        "refused": ("unknown", "medium", "refuses our key", "Make a new line"),
        "unlinked": ("unknown", "low", "is not linked", "Link it"),
    }
    state, weight, words, label = by_state[link.state]
    if link.state == "refused" and instance.obeys_another(context, site.id):
        words = "obeys another service, and is left alone"
    verb = "refresh" if link.state in ("down", "silent") else "link"
    yield finding(
        context,
        f"link:{site.id}",
        state,
        weight,
        site,
        f"**{site.label}** {words}.",
        link.reason,
        act(label, verb, site=site.id),
    )


def of_pages(context: Context, site: Site) -> Iterator[Finding]:
    """Pages that a visitor sees broken, whatever the agent says. Where nothing answers, the link's
    finding tells it.
    """
    visit = context.store.visits.find(site.id)
    if visit is None or visit.state not in WRONG or site.link.state in ("down", "unlinked"):
        return
    words = "are broken" if visit.state == "broken" else "give no answer"
    agent = " Its agent answers." if site.link.state == "linked" else ""
    yield finding(
        context,
        f"pages:{site.id}",
        "failed",
        "critical" if site.environment == "production" else "medium",
        site,
        f"**{site.label}**: its pages {words}.",
        f"{visit.reason}{agent} Looked at twice from outside, past caches.",
        act("Look again", "refresh", site=site.id),
    )


def _of_what_agent_lacks(context: Context, site: Site) -> Iterator[Finding]:
    inventory = context.store.inventories.find(site.id)
    lacks = inventory.agent_lacks if inventory else ()
    if not lacks:
        return
    yield finding(
        context,
        f"agent-lacks:{site.id}",
        "failed",
        "high",
        site,
        f"**{site.label}**’s agent can’t do everything.",
        f"The agent says: {' '.join(lacks)}",
        act("Look again", "refresh", site=site.id),
    )


def _of_agent(context: Context, site: Site) -> Iterator[Finding]:
    version = site.link.agent_version
    current = CURRENT_AGENT[site.system]
    if version is None or parse_version(version) >= parse_version(current):
        return
    lacks = listed([words for call, words in _CALLS.items() if call not in site.link.agent_can])
    yield finding(
        context,
        f"agent:{site.id}",
        "ready",
        "low",
        site,
        f"**{site.label}**’s agent is `{version}`; `{current}` is out.",
        f"Nobody announces its updates but us. What the old one can’t do: "
        f"{lacks or 'nothing that it is asked'}.",
        act("Open the site", "see-site", site=site.id),
    )


def of_fault(context: Context, site: Site) -> Iterator[Finding]:
    """A site that can't be reasoned about: it is put aside, and every other goes on."""
    row = context.store.views.row(site.id)
    if row is None or row.fault is None:
        return
    yield finding(
        context,
        f"fault:{site.id}",
        "failed",
        "high",
        site,
        f"**{site.label}** can’t be reasoned about.",
        f"This is a fault of the service: {row.fault}. Nothing is planned there meanwhile; all "
        "other sites go on. Its case shows it to whoever mends it.",
        act("Export its case", "export-case", site=site.id),
    )


def of_plans(context: Context) -> Iterator[Finding]:
    """Sites with moves that need a word: each by itself while they are few, else as one."""
    ready = _ready(context)
    text = "Nothing stands in the way; they need your word."
    if len(ready) <= FEW_READY:
        for id, _, count in ready:
            site = context.store.sites.get(id)
            yield finding(
                context,
                f"ready:{site.id}",
                "ready",
                "low",
                site,
                f"**{site.label}** has {counted(count, 'move')} ready.",
                text,
                act("See the plan", "see-plan", site=site.id),
            )
        return
    most = sorted(ready, key=lambda plan: (-plan[2], plan[1]))[:4]
    names = ", ".join(f"{label} {count}" for _, label, count in most)
    moves = sum(count for _, _, count in ready)
    yield finding(
        context,
        "ready:fleet",
        "ready",
        "low",
        None,
        f"**{len(ready)} sites** have {counted(moves, 'move')} ready.",
        f"{text} Most on {names}.",
        act("See the sites", "see-sites", state="ready"),
    )


def _ready(context: Context) -> list[tuple[str, str, int]]:
    """The sites that have moves and no plan yet: id, label, moves. What went wrong is looked at
    before more is offered. Reads.
    """
    store = context.store
    wrong = {site for site, run in store.runs.last().items() if run.state in WENT_WRONG}
    passed_over = wrong | store.plans.approved().keys()
    return [row for row in store.views.sites_that_move() if row[0] not in passed_over]


def of_blocks(context: Context, site: Site, names: dict[str, str]) -> Iterator[Finding]:
    """What a licence or the host's offer keeps back on a site: one finding for each root, with all
    that it keeps. What is undecided is told of its product, an ended licence of itself.
    """
    standings = context.store.views.standings_of_site(site.id)
    for root in roots.grouped(((s.product, s.state, s.roots) for s in standings), names, site.id):
        if root.kind in ("undecided", "rule", "ended"):
            continue
        see = act("See why", "why", site=site.id, product=root.keeps[0])
        yield finding(
            context,
            f"root:{site.id}:{root.id}",
            "blocked",
            "medium",
            site,
            f"**{site.label}**: {root.text}",
            root.keeps_text,
            root.ways[0] if root.ways else see,
        )


def of_broken(context: Context, site: Site, names: dict[str, str]) -> Iterator[Finding]:
    """What stands on a site and does not go together, as it is today."""
    standings = {s.product: s for s in context.store.views.standings_of_site(site.id)}
    for pair in (broken for standing in standings.values() for broken in standing.broken):
        text, next_act = "Its plan mends it.", act("See the plan", "see-plan", site=site.id)
        if not pair.mended:
            text = "Nothing that may be taken now mends it."
            next_act = act("See why", "why", site=site.id, product=pair.a)
            for product in (pair.a, pair.b):
                ways = standings[product].ways if product in standings else ()
                if ways:
                    name = names.get(product, product)
                    text += f" What would move {name}: {ways[0].text}."
                    next_act = roots.here(ways[0].acts[0], site.id)
                    break
        yield finding(
            context,
            f"broken:{site.id}:{pair.a}:{pair.b}",
            "ready" if pair.mended else "blocked",
            "medium" if pair.mended else "high",
            site,
            f"**{site.label}**: {pair.text}",
            text,
            next_act,
        )


def of_registrations(
    context: Context, site: Site, inventory: Inventory, names: dict[str, str]
) -> Iterator[Finding]:
    if site.environment != "production":
        return  # a copy rides on its site's code
    today = context.clock().date()
    for registration in inventory.registrations:
        name = names.get(registration.product, registration.product)
        see = _of_code(context, site, registration.product)
        if registration.state == "grace" and registration.until is not None:
            left = (registration.until - today).days
            headline = f"**{site.label}**: grace for {name} ends {day(registration.until, today)}."
            if left < 0:
                ended = day(registration.until, today)
                headline = f"**{site.label}**: grace for {name} has ended, {ended}."
            yield finding(
                context,
                f"grace:{site.id}:{registration.product}",
                "blocked",
                "high" if left <= 7 else "medium",
                site,
                headline,
                f"Without its code {name} gets no more updates after that; the site runs on, so "
                "nothing visible warns.",
                see,
                registration.until,
            )
        elif registration.state == "missing":
            yield finding(
                context,
                f"registration:{site.id}:{registration.product}",
                "blocked",
                "medium",
                site,
                f"**{site.label}**: {name} is not registered there.",
                "It asks for a code and has none; its updates stop while the site runs on.",
                see,
            )


def _of_code(context: Context, site: Site, product: str) -> NextAct:
    """What puts a site's code in place: it is entered, or a seat has to come first."""
    rights = licence_rights.kept(context)
    for licence, products in rights.of(site):
        if product in products and licence.seated and not licence.ended(context.clock().date()):
            return act("Enter its code", "enter-code-at", licence=licence.id, site=site.id)
    return act("See what gives it the right", "buy-seat", site=site.id, product=product)


def of_what_is_booked(context: Context, ground: Ground, site: Site) -> Iterator[Finding]:
    """What is booked, and would not begin as everything stands now."""
    for booking in context.store.bookings.all(state="waiting", site=site.id):
        plan = context.store.plans.get(booking.plan)
        inventory = context.store.inventories.find(site.id)
        if plan.state != "approved" or inventory is None or plan.changed_since(inventory):
            continue
        steps = enumerate(plan.plan.steps, start=1)
        against = list(allowed.refused(context, ground, site, inventory, steps))
        if not against:
            continue
        number, texts = against[0]
        of = f"Step {number} of {len(plan.plan.steps)}: " if len(plan.plan.steps) > 1 else ""
        at = booking.starts_at.astimezone(ZoneInfo(site.timezone))
        when = f"{at:%a %H:%M} ({site.timezone})"
        yield finding(
            context,
            f"refused:{plan.id}",
            "blocked",
            "high",
            site,
            f"**{site.label}**: the run that is booked for {when} would be refused.",
            f"{of}{' '.join(texts)} Plan it again, or remove the reason.",
            act("Plan it again", "see-plan", site=site.id),
            booking.starts_at.date(),
        )


def of_bookings(context: Context, site: Site) -> Iterator[Finding]:
    since = context.clock() - timedelta(days=7)
    booked = {b.plan for b in context.store.bookings.all(state="waiting", site=site.id)}
    for booking in context.store.bookings.all(state="missed", site=site.id):
        if booking.starts_at < since or booking.plan in booked:
            continue
        plan = context.store.plans.get(booking.plan)
        if plan.state != "approved":
            continue
        why = f"{booking.why[:1].upper()}{booking.why[1:].rstrip('.')}"
        yield finding(
            context,
            f"missed:{booking.id}",
            "failed",
            "high",
            site,
            f"**{site.label}**: a booking was missed.",
            f"{why}. The timetable has no place for it now.",
            act("Book it again", "book", plan=str(booking.plan), site=site.id),
        )


def of_reviews(context: Context, names: dict[str, str]) -> Iterator[Finding]:
    """Holds and rules that were to be looked at again by now."""
    today = context.clock().date()
    for hold in context.store.holds.all():
        stands = hold.until is None or today <= hold.until
        if hold.review is not None and hold.review <= today and stands:
            name = names.get(hold.product, hold.product)
            yield finding(
                context,
                f"review:{hold.id}",
                "waiting",
                "low",
                None,
                f"**{name}**: its hold was to be looked at again on {day(hold.review, today)}.",
                f"{hold.author} held it: {hold.reason.rstrip('.')}. Lift it, or hold it anew.",
                act("See the holds", "see-holds", product=hold.product),
            )
    for rule in context.store.rules.all():
        if rule.review is not None and rule.review <= today and rule.stands(today):
            yield finding(
                context,
                f"review:{rule.id}",
                "waiting",
                "low",
                None,
                f"**The rule for {rule.where}** was to be looked at again on "
                f"{day(rule.review, today)}.",
                f"{rule.author} set it: {rule.reason.rstrip('.')}. Drop it, or set it anew.",
                act("See the rules", "see-rules"),
            )


def of_instance(context: Context) -> Iterator[Finding]:
    if instance.may_drive(context):
        return
    aside = instance.aside(context)
    restored = context.store.facts.get("restored_at")
    head, more = {
        "restored": (
            "**This service is a restored copy** and drives no site.",
            f"It was restored {restored[:10] if restored else 'some time ago'}. While the one it "
            "was copied from may still run, two would drive the same sites. Say so when this one "
            "shall take over.",
        ),
        "copied": (
            "**This service runs on a copied data directory** and drives no site.",
            "The one it was copied from may still run. Say so when this one shall take over; the "
            "other then becomes a reader.",
        ),
        "superseded": (
            "**Another service has taken the sites over**; this one only reads.",
            "Their agents obey the other. Taking over here makes that one a reader.",
        ),
    }[aside]
    yield finding(
        context,
        f"instance:{aside}",
        "blocked",
        "critical",
        None,
        head,
        more,
        act("Take over…", "take-over"),
    )
