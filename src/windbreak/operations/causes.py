"""What gives cause for a finding: each cause looks at what is kept and says what it sees.

A finding's id is made of its kind and subject, so that it opens once however often it is seen.
The sentences say what, why and the next act; they are made here, from the data.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta

from windbreak.core.explain import counted, day
from windbreak.core.fleet import Inventory, Site, State
from windbreak.core.licences import LicenceView
from windbreak.core.overview import Standing
from windbreak.core.tracking import Feed, KnownRelease
from windbreak.core.versions import parse_range, parse_version
from windbreak.core.work import WENT_WRONG, Finding, NextAct, Run, Weight
from windbreak.operations import licensing, overview, tracking
from windbreak.operations.context import Context
from windbreak.operations.reports import settle

ENDS_SOON = 60  # days before a licence's end at which it is said
WATCH_SOON = 30
FEW_READY = 6
CURRENT_AGENT = "1.1"


def all_of(context: Context) -> Iterator[Finding]:
    """Everything that wants attention now. Reads; stale rows are worked out first."""
    while settle(context):
        pass
    sites = {s.id: s for s in context.store.sites.all() if s.retired_at is None}
    standings: dict[str, list[Standing]] = defaultdict(list)
    for standing in context.store.rows.standings():
        if standing.site in sites:
            standings[standing.site].append(standing)
    names = {p.id: p.name for p in context.store.products.all()}
    approved, last = context.store.approved(), context.store.last_runs()
    ready: list[tuple[Site, int]] = []
    for site in sites.values():
        yield from _of_link(context, site)
        run = last.get(site.id)
        wrong = run is not None and run.state in WENT_WRONG
        if run is not None and wrong:
            yield _of_run(context, site, run)
        moving = sum(s.target is not None for s in standings[site.id])
        # What went wrong is looked at before more is offered.
        if moving and not wrong and site.id not in approved and site.link.state == "linked":
            ready.append((site, moving))
        yield from _of_blocks(context, site, standings[site.id])
    for inventory in context.store.inventories_of_note():
        if inventory.id in sites:
            yield from _of_registrations(context, sites[inventory.id], inventory, names)
    yield from _of_plans(context, ready)
    yield from _of_soaks(context, standings, names)
    yield from _of_advisories(context, standings, sites, names)
    yield from _of_feeds(context)
    yield from _of_releases(context, standings, names)
    yield from _of_withdrawn(context)
    yield from _of_licences(context)
    yield from _of_forecasts(context)
    yield from _of_namesakes(context)
    yield from _of_copies(context, sites)
    yield from _of_watch(context, standings, names)
    yield from _of_bookings(context)
    yield from _of_reviews(context, names)
    yield from _of_instance(context)


def _finding(
    context: Context,
    id: str,
    state: State,
    weight: Weight,
    site: Site | None,
    headline: str,
    text: str,
    act: tuple[str, str, str],
    deadline: date | None = None,
) -> Finding:
    label, command, path = act
    return Finding(
        id=id,
        kind=id.partition(":")[0],
        state=state,
        weight=weight,
        subject=site.id if site else id.partition(":")[2],
        subject_label=site.label if site else "",
        headline=headline,
        text=text,
        act=NextAct(label=label, command=command, path=path),
        opened_at=context.clock(),
        deadline=datetime.combine(deadline, time(), tzinfo=UTC) if deadline else None,
    )


# Sites.


def _of_link(context: Context, site: Site) -> Iterator[Finding]:
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
    yield _finding(
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
    yield _finding(
        context,
        f"agent:{site.id}",
        "ready",
        "low",
        site,
        f"**{site.label}**’s agent is `{version}`; `{CURRENT_AGENT}` is out.",
        f"Nobody announces its updates but us. What the old one can’t do: {lacks}.",
        ("Open the site", f"windbreak site show {site.id}", f"/sites/{site.id}"),
    )


def _of_run(context: Context, site: Site, run: Run) -> Finding:
    words = {
        "put back": "a step went wrong and was put back",
        "restored": "a step went wrong; the snapshot was restored",
        "alarm": "a run needs you",
    }[run.state]
    return _finding(
        context,
        f"run:{site.id}",
        "failed",
        "critical" if run.state == "alarm" else "high",
        site,
        f"**{site.label}**: {words}.",
        run.text,
        ("Open the run", f"windbreak run show {run.id}", f"/runs/{run.id}"),
    )


def _of_plans(context: Context, ready: list[tuple[Site, int]]) -> Iterator[Finding]:
    """Sites with moves that need a word: each by itself while they are few, else as one."""
    text = "Nothing stands in the way; they need your word."
    if len(ready) <= FEW_READY:
        for site, count in ready:
            yield _finding(
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
    yield _finding(
        context,
        "ready:fleet",
        "ready",
        "low",
        None,
        f"**{len(ready)} sites** have {counted(sum(n for _, n in ready), 'move')} ready.",
        f"{text} Most on {names}.",
        ("See the sites", "windbreak site list --state ready", "/sites?state=ready"),
    )


def _of_blocks(context: Context, site: Site, standings: list[Standing]) -> Iterator[Finding]:
    """What a licence or the host's offer keeps back on a site: one finding for each of the two."""
    for reason in ("licence", "offer"):
        kept = [s for s in standings if s.state == "blocked" and s.reason == reason]
        if not kept:
            continue
        first, rest = kept[0], kept[1:]
        others = licensing.joined([s.product.partition("/")[2] for s in rest])
        also = f" The same keeps back {others}." if rest else ""
        helps = f"What would help: {first.helps}." if first.helps else ""
        yield _finding(
            context,
            f"{reason}:{site.id}",
            "blocked",
            "medium",
            site,
            f"**{site.label}**: {first.text}",
            f"{helps or 'None of the acts that were tried would change it.'}{also}",
            ("See the site", f"windbreak why {site.id} {first.product}", f"/sites/{site.id}"),
        )


def _of_registrations(
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
            yield _finding(
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
            yield _finding(
                context,
                f"registration:{site.id}:{one.product}",
                "blocked",
                "medium",
                site,
                f"**{site.label}**: {name} is not registered there.",
                "It asks for a code and has none; its updates stop while the site runs on.",
                act,
            )


def _of_copies(context: Context, sites: dict[str, Site]) -> Iterator[Finding]:
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
            yield _finding(
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


def _of_bookings(context: Context) -> Iterator[Finding]:
    since = context.clock() - timedelta(days=7)
    for booking in context.store.bookings.all(state="missed"):
        if booking.starts_at < since:
            continue
        plan = context.store.plans.get(booking.plan)
        if plan.state != "approved":
            continue
        site = context.store.sites.get(booking.site)
        yield _finding(
            context,
            f"missed:{booking.id}",
            "failed",
            "high",
            site,
            f"**{site.label}**: a booking was missed.",
            "The service was not running, or the site was busy, for four hours. Book it again.",
            ("Book it again", f"windbreak book {booking.plan}", f"/sites/{site.id}/plan"),
        )


def _of_reviews(context: Context, names: dict[str, str]) -> Iterator[Finding]:
    """Holds and rules that were to be looked at again by now."""
    today = context.clock().date()
    for hold in context.store.holds.all():
        stands = hold.until is None or today <= hold.until
        if hold.review is not None and hold.review <= today and stands:
            name = names.get(hold.product, hold.product)
            yield _finding(
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
            yield _finding(
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


# Releases.


def _of_soaks(
    context: Context,
    standings: dict[str, list[Standing]],
    names: dict[str, str],
) -> Iterator[Finding]:
    waiting: dict[tuple[str, str], list[Standing]] = defaultdict(list)
    for found in standings.values():
        for one in found:
            if one.until is not None and one.blocked is not None and one.state != "held":
                waiting[one.product, one.blocked].append(one)
    for (product, version), found in sorted(waiting.items()):
        release = context.store.releases.find(context.store.release_id(product, version))
        kinds = [c.kind for c in release.changes] if release else []
        breaking = kinds.count("breaking")
        changed = f"{counted(len(kinds), 'change')} told" if kinds else "No changes are told"
        changed += f", {breaking} of them breaking." if breaking else "."
        where = "1 site waits" if len(found) == 1 else f"{len(found)} sites wait"
        until = max(one.until for one in found if one.until)
        yield _finding(
            context,
            f"soak:{product}@{version}",
            "waiting",
            "low",
            None,
            f"**{names.get(product, product)}** `{version}` is out, a {found[0].soak} release. "
            f"It soaks until {day(until, context.clock().date())}.",
            f"{changed} {where} for it.",
            ("Read what changed", f"windbreak product show {product}", f"/products/{product}"),
            until,
        )


def _of_advisories(
    context: Context,
    standings: dict[str, list[Standing]],
    sites: dict[str, Site],
    names: dict[str, str],
) -> Iterator[Finding]:
    by_product: dict[str, list[Standing]] = defaultdict(list)
    for found in standings.values():
        for one in found:
            if one.version is not None:
                by_product[one.product].append(one)
    today = context.clock().date()
    for advisory in context.store.advisories.all():
        if advisory.withdrawn:
            continue
        affected = parse_range(advisory.affected)
        reached = [
            s for s in by_product[advisory.product] if parse_version(s.version or "") in affected
        ]
        if not reached:
            continue
        closes = sorted(
            {s.target for s in reached if s.target and parse_version(s.target) not in affected}
        )
        stuck = sum(not s.target or parse_version(s.target) in affected for s in reached)
        name = names.get(advisory.product, advisory.product)
        live = [sites[s.site] for s in reached if sites[s.site].twin_of is None]
        twins = len(reached) - len(live)
        named = [site.label for site in live[:4]]
        named += [f"{len(live) - 4} more"] if len(live) > 4 else []
        named += [counted(twins, "twin")] if twins else []
        labels = licensing.joined(named)
        text = f"{advisory.summary.rstrip('.') or 'A published weakness'}. "
        text += f"`{closes[-1]}` closes it" if closes else "No release that may be taken closes it"
        text += f"; {counted(stuck, 'site')} can’t take it yet." if stuck and closes else "."
        week = {"critical": 2, "high": 7, "medium": 30, "low": 60}[advisory.severity]
        weight: Weight = (
            "critical"
            if advisory.severity == "critical"
            else ("high" if advisory.severity == "high" else "medium")
        )
        yield _finding(
            context,
            f"advisory:{advisory.id}:{advisory.product}",
            "exposed",
            weight,
            None,
            f"**{name}**: advisory {advisory.id}, {advisory.severity}, reaches {labels}.",
            text,
            (
                "See the product",
                f"windbreak product show {advisory.product}",
                f"/products/{advisory.product}",
            ),
            (advisory.published or today) + timedelta(days=week),
        )


def _of_releases(
    context: Context, standings: dict[str, list[Standing]], names: dict[str, str]
) -> Iterator[Finding]:
    used = {(s.product, s.version) for found in standings.values() for s in found if s.version}
    installed = {product for product, _ in used}
    for release in context.store.releases.all():
        name = names.get(release.product, release.product)
        act = (
            "Open the product",
            f"windbreak product show {release.product}",
            f"/products/{release.product}",
        )
        if release.undecided:
            yield _of_republished(context, release, name)
        elif release.refused is not None:
            yield _finding(
                context,
                f"package:{release.id}",
                "blocked",
                "high",
                None,
                f"**{name}** `{release.version}`: its package was refused.",
                f"It was not kept: {release.refused}. It goes to no site; tell its maker.",
                act,
            )
        elif release.withdrawn_at is not None and (release.product, release.version) in used:
            yield _finding(
                context,
                f"withdrawn-release:{release.id}",
                "blocked",
                "medium",
                None,
                f"**{name}** `{release.version}` was withdrawn by its maker.",
                "Its feed lists it no longer, and sites run it. It goes to no other site. Why it "
                "was withdrawn is not said: ask its maker before the next night.",
                act,
            )
        if release.corrected is not None and release.product in installed:
            yield _finding(
                context,
                f"corrected:{release.id}",
                "waiting",
                "low",
                None,
                f"**{name}** `{release.version}` carries other versions than its feed told.",
                f"{release.corrected}. The package was believed.",
                act,
            )


def _of_republished(context: Context, release: KnownRelease, name: str) -> Finding:
    again = release.republished
    assert again is not None  # undecided looked
    feed = context.store.feeds.find(again.feed)
    return _finding(
        context,
        f"republished:{release.id}",
        "blocked",
        "high",
        None,
        f"**{name}** `{release.version}` came twice, with different packages.",
        f"{feed.label if feed else again.feed} told of another package on "
        f"{day(again.at.date(), context.clock().date())}: {_brief(again.first)} before, "
        f"{_brief(again.now.sha256 or f'{again.now.size} bytes')} now. It goes to no site until "
        "somebody has said which is right.",
        (
            "Decide…",
            f"windbreak product decide {release.product} {release.version} first|new --why …",
            f"/products/{release.product}",
        ),
    )


def _brief(sum_: str) -> str:
    return f"{sum_[:10]}…" if len(sum_) > 20 else sum_


def _of_withdrawn(context: Context) -> Iterator[Finding]:
    today = context.clock().date()
    for product in context.store.products.all():
        if product.withdrawn_at is None:
            continue
        here = context.store.installed(product.id)
        if not here:
            continue
        labels = [context.store.sites.get(site).label for site, _, _, _ in here]
        runs = "runs it" if len(here) == 1 else "run it"
        seen = day(product.withdrawn_at.date(), today)
        yield _finding(
            context,
            f"withdrawn:{product.id}",
            "blocked",
            "medium",
            None,
            f"**{product.name}** was withdrawn by its maker.",
            f"{product.withdrawn_text.rstrip('.')}, seen {seen}. "
            f"{licensing.joined(labels)} {runs}; no feed will tell of anything newer, weaknesses "
            "included. It should go.",
            ("Open the product", f"windbreak product show {product.id}", f"/products/{product.id}"),
        )


def _of_watch(
    context: Context, standings: dict[str, list[Standing]], names: dict[str, str]
) -> Iterator[Finding]:
    installed = {s.product for found in standings.values() for s in found}
    today = context.clock().date()
    for release in context.store.releases.all():
        for index, item in enumerate(release.watch):
            if item.on is None or release.product not in installed:
                continue
            if today <= item.on <= today + timedelta(days=WATCH_SOON):
                name = names.get(release.product, release.product)
                yield _finding(
                    context,
                    f"watch:{release.id}:{index}",
                    "waiting",
                    "low",
                    None,
                    f"**{name}**: {item.text.rstrip('.')}, {day(item.on, today)}.",
                    f"{name} {release.version} told of it.",
                    (
                        "Read it",
                        f"windbreak product show {release.product}",
                        f"/products/{release.product}",
                    ),
                    item.on,
                )


# Feeds.


def _of_feeds(context: Context) -> Iterator[Finding]:
    for feed in tracking.listed(context):
        yield from _of_feed(context, feed)
        account = context.store.accounts.find(feed.set_up_by) if feed.set_up_by else None
        if account is not None and account.closed_at is not None:
            yield _finding(
                context,
                f"setter:{feed.id}",
                "blocked",
                "low",
                None,
                f"**{feed.label}**’s credential was set up by {account.name}, "
                "whose account is closed.",
                "It may end with that person’s account at the maker. Set it up anew under "
                "somebody who is here.",
                ("Replace it", f"windbreak feed credential {feed.id}", "/licences"),
            )
        for told in feed.disagreements:
            yield _finding(
                context,
                f"sources:{feed.id}:{told.product}",
                "waiting",
                "low",
                None,
                f"**{feed.label}** disagrees with itself on what is newest.",
                told.text,
                (
                    "Open the product",
                    f"windbreak product show {told.product}",
                    f"/products/{told.product}",
                ),
            )


def _of_feed(context: Context, feed: Feed) -> Iterator[Finding]:
    check = ("Check it", f"windbreak feed check {feed.id}", "/licences")
    poll = ("Look again", f"windbreak feed poll {feed.id}", "/licences")
    if feed.state == "refused":
        yield _finding(
            context,
            f"feed:{feed.id}",
            "blocked",
            "high",
            None,
            f"**{feed.label}** "
            + (
                "refuses our credential."
                if feed.credential
                else "wants a credential, and has none."
            ),
            f"{feed.reason} What was known before stands; nothing newer is seen.",
            ("Replace it", f"windbreak feed credential {feed.id}", "/licences"),
        )
    elif feed.state in ("failing", "stale") and feed.polled_at is not None:
        since = feed.fresh_at
        last = f" Last read well {since:%d %b %H:%M} UTC." if since else " It was never read well."
        yield _finding(
            context,
            f"feed:{feed.id}",
            "blocked",
            "medium",
            None,
            f"**{feed.label}** can’t be read.",
            f"{feed.reason} What was known before stands.{last}",
            poll,
        )
    elif feed.faults:
        rest = f" and {len(feed.faults) - 1} more" if len(feed.faults) > 1 else ""
        yield _finding(
            context,
            f"items:{feed.id}",
            "waiting",
            "low",
            None,
            f"**{feed.label}**: {counted(len(feed.faults), 'item')} could not be taken as told.",
            f"{feed.faults[0]}{rest}. The others were taken.",
            poll,
        )
    if feed.check is not None and feed.check.sure and (feed.check.lacks or not feed.check.valid):
        lacks = ", ".join(f"`{p}`" for p in feed.check.lacks)
        headline = f"**{feed.label}**’s credential lacks {lacks}."
        if not feed.check.valid:
            headline = f"**{feed.label}** turned our credential away when it was checked."
        yield _finding(
            context,
            f"credential:{feed.id}",
            "blocked",
            "low",
            None,
            headline,
            feed.check.text,
            check,
        )


# Licences.


def _of_licences(context: Context) -> Iterator[Finding]:
    for view in licensing.views(context):
        yield from _of_end(context, view)
        licence = view.licence
        act = ("Open licences", f"windbreak licence show {licence.id}", "/licences")
        if view.without:
            labels = licensing.joined([context.store.sites.get(s).label for s in view.without])
            use = "uses" if len(view.without) == 1 else "use"
            yield _finding(
                context,
                f"seat:{licence.id}",
                "blocked",
                "medium",
                None,
                f"**{licence.label}**: {labels} {use} it without a seat.",
                "No release of it is taken there until it has one. "
                + (
                    f"{counted(view.free, 'seat')} free."
                    if view.free
                    else "No seat is free: buy one first."
                    if view.free == 0
                    else "Seats are without limit."
                ),
                act,
            )
        if view.still_old:
            labels = licensing.joined([context.store.sites.get(s).label for s in view.still_old])
            yield _finding(
                context,
                f"rotation:{licence.id}",
                "blocked",
                "medium",
                None,
                f"**{licence.label}**: the old code is still in use.",
                f"Not revoked yet, then: {labels} {'has' if len(view.still_old) == 1 else 'have'} "
                "it. Enter the new one there first.",
                ("Enter it", f"windbreak licence enter {licence.id}", "/licences"),
            )
        account = context.store.accounts.find(licence.set_up_by) if licence.set_up_by else None
        if account is not None and account.closed_at is not None:
            yield _finding(
                context,
                f"setter:{licence.id}",
                "blocked",
                "low",
                None,
                f"**{licence.label}** was entered by {account.name}, whose account is closed.",
                f"Bought by {licence.bought_by or 'nobody that is named'}. Make sure that somebody "
                "who is here can renew it.",
                act,
            )


def _of_end(context: Context, view: LicenceView) -> Iterator[Finding]:
    licence, today = view.licence, context.clock().date()
    ends = licence.expires or licence.covers_until
    if ends is None or (ends - today).days > ENDS_SOON:
        return
    left = (ends - today).days
    verb = "ends" if licence.expires else "covers releases only to"
    if left < 0:
        verb = "ended" if licence.expires else "covers no releases since"
    weight: Weight = "high" if left <= 14 else "medium"
    yield _finding(
        context,
        f"licence-end:{licence.id}",
        "blocked" if left < 0 else "waiting",
        weight,
        None,
        f"**{licence.label}** {verb} {day(ends, today)}.",
        f"{view.stops} Bought by {licence.bought_by or 'nobody that is named'}."
        + (
            f" {licence.renewal[:1].upper()}{licence.renewal[1:].rstrip('.')}."
            if licence.renewal
            else ""
        ),
        ("Open licences", f"windbreak licence show {licence.id}", "/licences"),
        ends,
    )


def _of_forecasts(context: Context) -> Iterator[Finding]:
    for told in licensing.forecasts(context):
        if not told.missing:
            continue
        yield _finding(
            context,
            f"forecast:{told.product}",
            "blocked",
            "medium",
            None,
            f"**{told.name}** `{told.version}` needs {counted(told.missing, 'seat')} "
            "more than there are.",
            told.text,
            ("Open licences", "windbreak licence forecast", "/licences"),
        )


def _of_namesakes(context: Context) -> Iterator[Finding]:
    for one in overview.coverage(context).uncovered:
        if one.why != "namesake":
            continue
        for id in one.sites:
            site = context.store.sites.get(id)
            yield _finding(
                context,
                f"namesake:{id}:{one.product}",
                "blocked",
                "low",
                site,
                f"**{site.label}**: its {one.name} is {one.text}.",
                "The offer is refused. If it was made for this site, mark it: nobody asks again.",
                ("Mark it", f"windbreak site mark-own {id} {one.product}", f"/sites/{id}"),
            )


def _of_instance(context: Context) -> Iterator[Finding]:
    restored = context.store.fact("restored_at")
    if context.store.fact("drives") == "no" and restored:
        yield _finding(
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
