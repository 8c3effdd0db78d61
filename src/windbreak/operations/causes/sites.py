"""What gives cause for a finding on sites, in their plans and runs, and in the house's own."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from windbreak.core.values.basics import State
from windbreak.core.values.findings import Finding, Weight
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.core.versions.version import parse_version
from windbreak.documents.products import Standing
from windbreak.operations import overview
from windbreak.operations.causes.made import finding
from windbreak.operations.context import Context
from windbreak.wording.words import counted, day, listed

FEW_READY = 6
CURRENT_AGENT = "1.1"


def of_link(context: Context, site: Site) -> Iterator[Finding]:
    link = site.link
    if link.state == "linked":
        yield from _of_agent(context, site)
        return
    said: dict[str, tuple[State, Weight, str, str]] = {
        "down": ("failed", "high", "is down", "Look again"),
        "silent": (
            "unknown",
            "medium",
            "is silent: its pages answer, its agent does not",
            "Look again",
        ),
        "refused": ("unknown", "medium", "refuses our key", "Make a new line"),
        "unlinked": ("unknown", "low", "is not linked", "Link it"),
    }
    state, weight, words, act = said[link.state]
    verb = "refresh" if link.state in ("down", "silent") else "link"
    path = f"/sites/{site.id}" + ("/link" if verb == "link" else "")
    yield finding(
        context,
        f"link:{site.id}",
        state,
        weight,
        site,
        f"**{site.label}** {words}.",
        link.reason,
        (act, f"windbreak site {verb} {site.id}", path),
    )


def _of_agent(context: Context, site: Site) -> Iterator[Finding]:
    version = site.link.agent_version
    if version is None or parse_version(version) >= parse_version(CURRENT_AGENT):
        return
    lacks = "registering a code" if "register" not in site.link.agent_can else "nothing it is asked"
    yield finding(
        context,
        f"agent:{site.id}",
        "ready",
        "low",
        site,
        f"**{site.label}**’s agent is `{version}`; `{CURRENT_AGENT}` is out.",
        f"Nobody announces its updates but us. What the old one can’t do: {lacks}.",
        ("Open the site", f"windbreak site show {site.id}", f"/sites/{site.id}"),
    )


def of_run(context: Context, site: Site, run: Run) -> Finding:
    words = {
        "put back": "a step went wrong and was put back",
        "restored": "a step went wrong; the snapshot was restored",
        "alarm": "a run needs you",
    }[run.state]
    return finding(
        context,
        f"run:{site.id}",
        "failed",
        "critical" if run.state == "alarm" else "high",
        site,
        f"**{site.label}**: {words}.",
        run.text,
        ("Open the run", f"windbreak run show {run.id}", f"/runs/{run.id}"),
    )


def of_plans(context: Context, ready: list[tuple[Site, int]]) -> Iterator[Finding]:
    """Sites with moves that need a word: each by itself while they are few, else as one."""
    text = "Nothing stands in the way; they need your word."
    if len(ready) <= FEW_READY:
        for site, count in ready:
            yield finding(
                context,
                f"ready:{site.id}",
                "ready",
                "low",
                site,
                f"**{site.label}** has {counted(count, 'move')} ready.",
                text,
                ("See the plan", f"windbreak plan {site.id}", f"/sites/{site.id}/plan"),
            )
        return
    most = sorted(ready, key=lambda one: (-one[1], one[0].label))[:4]
    names = ", ".join(f"{site.label} {count}" for site, count in most)
    yield finding(
        context,
        "ready:fleet",
        "ready",
        "low",
        None,
        f"**{len(ready)} sites** have {counted(sum(n for _, n in ready), 'move')} ready.",
        f"{text} Most on {names}.",
        ("See the sites", "windbreak site list --state ready", "/sites?state=ready"),
    )


def of_blocks(context: Context, site: Site, standings: list[Standing]) -> Iterator[Finding]:
    """What a licence or the host's offer keeps back on a site: one finding for each of the two."""
    for reason in ("licence", "offer"):
        kept = [s for s in standings if s.state == "blocked" and s.reason == reason]
        if not kept:
            continue
        first, rest = kept[0], kept[1:]
        others = listed([s.product.partition("/")[2] for s in rest])
        also = f" The same keeps back {others}." if rest else ""
        helps = f"What would help: {first.helps}." if first.helps else ""
        yield finding(
            context,
            f"{reason}:{site.id}",
            "blocked",
            "medium",
            site,
            f"**{site.label}**: {first.text}",
            f"{helps or 'None of the acts that were tried would change it.'}{also}",
            ("See the site", f"windbreak why {site.id} {first.product}", f"/sites/{site.id}"),
        )


def of_registrations(
    context: Context, site: Site, inventory: Inventory, names: dict[str, str]
) -> Iterator[Finding]:
    if site.environment != "production":
        return  # a copy rides on its site's code
    today = context.clock().date()
    for one in inventory.registrations:
        name = names.get(one.product, one.product)
        act = ("Open licences", f"windbreak licence list --site {site.id}", "/licences")
        if one.state == "grace" and one.until is not None:
            left = (one.until - today).days
            headline = f"**{site.label}**: grace for {name} ends {day(one.until, today)}."
            if left < 0:
                headline = f"**{site.label}**: grace for {name} has ended, {day(one.until, today)}."
            yield finding(
                context,
                f"grace:{site.id}:{one.product}",
                "blocked",
                "high" if left <= 7 else "medium",
                site,
                headline,
                f"Without its code {name} gets no more updates after that; the site runs on, so "
                "nothing visible warns.",
                act,
                one.until,
            )
        elif one.state == "missing":
            yield finding(
                context,
                f"registration:{site.id}:{one.product}",
                "blocked",
                "medium",
                site,
                f"**{site.label}**: {name} is not registered there.",
                "It asks for a code and has none; its updates stop while the site runs on.",
                act,
            )


def of_copies(context: Context, sites: dict[str, Site]) -> Iterator[Finding]:
    """A component in an unknown folder that bears a known product's name: a renamed copy."""
    by_name = {p.name.casefold(): p for p in context.store.products.all()}
    known = {p.id for p in by_name.values()}
    odd = {site for site, product, _, _ in context.store.installed() if product not in known}
    for site in (sites[id] for id in sorted(odd) if id in sites):
        inventory = context.store.inventories.find(site.id)
        for one in inventory.components if inventory else ():
            product = by_name.get(one.name.casefold())
            if product is None or one.product in known or one.product in site.own:
                continue
            if product.kind != one.product.partition("/")[0] or one.maker is not None:
                continue
            yield finding(
                context,
                f"copy:{site.id}:{one.product}",
                "blocked",
                "low",
                site,
                f"**{site.label}**: the folder `{one.folder}` bears the name of {product.name}.",
                f"It says {product.name} `{one.version}`, and lies in another folder than "
                f"`{product.id.partition('/')[2]}`, so no update reaches it. It may be a copy that "
                "was left over, or the one in use.",
                (
                    "See the site",
                    f"windbreak product set {product.id} --folder {one.folder}",
                    f"/sites/{site.id}",
                ),
            )


def of_bookings(context: Context) -> Iterator[Finding]:
    since = context.clock() - timedelta(days=7)
    for booking in context.store.bookings.all(state="missed"):
        if booking.starts_at < since:
            continue
        plan = context.store.plans.get(booking.plan)
        if plan.state != "approved":
            continue
        site = context.store.sites.get(booking.site)
        yield finding(
            context,
            f"missed:{booking.id}",
            "failed",
            "high",
            site,
            f"**{site.label}**: a booking was missed.",
            "The service was not running, or the site was busy, for four hours. Book it again.",
            ("Book it again", f"windbreak book {booking.plan}", f"/sites/{site.id}/plan"),
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
                ("See the holds", "windbreak product holds", f"/products/{hold.product}"),
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
                ("See the rules", "windbreak policy list", "/products"),
            )


def of_namesakes(context: Context) -> Iterator[Finding]:
    for one in overview.coverage(context).uncovered:
        if one.why != "namesake":
            continue
        for id in one.sites:
            site = context.store.sites.get(id)
            yield finding(
                context,
                f"namesake:{id}:{one.product}",
                "blocked",
                "low",
                site,
                f"**{site.label}**: its {one.name} is {one.text}.",
                "The offer is refused. If it was made for this site, mark it: nobody asks again.",
                ("Mark it", f"windbreak site mark-own {id} {one.product}", f"/sites/{id}"),
            )


def of_instance(context: Context) -> Iterator[Finding]:
    restored = context.store.fact("restored_at")
    if context.store.fact("drives") == "no" and restored:
        yield finding(
            context,
            "instance:restored",
            "blocked",
            "critical",
            None,
            "**This service is a restored copy** and drives no site.",
            f"It was restored {restored[:10]}. While the one it was copied from may still run, two "
            "would drive the same sites. Say so when this one shall take over.",
            ("Take over…", "windbreak take-over", "/"),
        )
