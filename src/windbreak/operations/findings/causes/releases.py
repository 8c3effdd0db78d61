"""What gives cause for a finding in releases and advisories."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from datetime import date, timedelta

from windbreak.core.values.findings import Finding, Weight
from windbreak.core.values.releases import KnownRelease
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version
from windbreak.documents.products import Standing
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.wording.words import counted, day, listed

WATCH_SOON = 30


def _name(context: Context, product_id: str) -> str:
    product = context.store.products.find(product_id)
    return product.name if product else product_id


def of_soaks(context: Context, product: str) -> Iterator[Finding]:
    """Releases that only have to grow older. Rules may let some sites wait longer than others:
    the day on which most may take it is told, and the others' beside it.
    """
    waiting: dict[str, list[tuple[Standing, int]]] = defaultdict(list)
    for standing, count in context.store.views.soaking(product):
        if standing.until is not None and standing.blocked is not None and standing.state != "held":
            waiting[standing.blocked].append((standing, count))
    today = context.clock().date()
    for version, soaking in sorted(waiting.items()):
        release = context.store.releases.find(context.store.releases.id_of(product, version))
        kinds = [c.kind for c in release.changes] if release else []
        breaking = kinds.count("breaking")
        changed = f"{counted(len(kinds), 'change')} told" if kinds else "No changes are told"
        changed += f", {breaking} of them breaking." if breaking else "."
        sites = sum(count for _, count in soaking)
        where = "1 site waits" if sites == 1 else f"{sites} sites wait"
        days: Counter[date] = Counter()
        for standing, count in soaking:
            if standing.until is not None:
                days[standing.until] += count
        until = min(days, key=lambda when: (-days[when], when))
        others = [
            f"{counted(days[when], 'site')} until {day(when, today)}"
            for when in sorted(days)
            if when != until
        ]
        apart = f" By rules of their own {listed(others)}." if others else ""
        yield finding(
            context,
            f"soak:{product}@{version}",
            "waiting",
            "low",
            None,
            f"**{_name(context, product)}** `{version}` is out, a {soaking[0][0].soak} release. "
            f"It soaks until {day(until, today)}.",
            f"{changed} {where} for it.{apart}",
            act("Read what changed", "see-product", product=product),
            min(days),
        )


def of_advisories(context: Context, product: str) -> Iterator[Finding]:
    advisories = context.store.advisories.all(product=product, withdrawn=False)
    if not advisories:
        return
    standings = context.store.views.standings_of_product(product)
    running = [standing for standing in standings if standing.version is not None]
    today = context.clock().date()
    for advisory in advisories:
        affected = parse_range(advisory.affected)
        reached = [s for s in running if parse_version(s.version or "") in affected]
        if not reached:
            continue
        closes = sorted(
            {s.target for s in reached if s.target and parse_version(s.target) not in affected}
        )
        stuck = sum(not s.target or parse_version(s.target) in affected for s in reached)
        labels = _named(context, [s.site for s in reached])
        text = f"{advisory.summary.rstrip('.') or 'A published weakness'}. "
        text += f"`{closes[-1]}` closes it" if closes else "No release that may be taken closes it"
        text += f"; {counted(stuck, 'site')} can’t take it yet." if stuck and closes else "."
        week = {"critical": 2, "high": 7, "medium": 30, "low": 60}[advisory.severity]
        weight: Weight = (
            "critical"
            if advisory.severity == "critical"
            else ("high" if advisory.severity == "high" else "medium")
        )
        yield finding(
            context,
            f"advisory:{advisory.id}:{product}",
            "exposed",
            weight,
            None,
            f"**{_name(context, product)}**: advisory {advisory.id}, {advisory.severity}, "
            f"reaches {labels}.",
            text,
            act("See the product", "see-product", product=product),
            (advisory.published or today) + timedelta(days=week),
        )


def _named(context: Context, ids: Sequence[str]) -> str:
    """Some sites in few words: the first four live ones, how many more, and how many twins."""
    sites = context.store.sites.all(id=list(ids))
    live = [site for site in sites if site.twin_of is None]
    words = [site.label for site in live[:4]]
    words += [f"{len(live) - 4} more"] if len(live) > 4 else []
    twins = len(sites) - len(live)
    words += [counted(twins, "twin")] if twins else []
    return listed(words)


def of_releases(context: Context, product: str) -> Iterator[Finding]:
    telling = [
        r
        for r in context.store.releases.all(product=product)
        if r.undecided or r.refused or r.withdrawn_at or r.corrected
    ]
    if not telling:
        return
    used = {(p, v) for p, v, _ in context.store.inventories.versions_in_use(product)}
    installed = {product for product, _ in used}
    name = _name(context, product)
    for release in telling:
        see = act("Open the product", "see-product", product=release.product)
        if release.undecided:
            yield _of_republished(context, release, name)
        elif release.refused is not None:
            yield finding(
                context,
                f"package:{release.id}",
                "blocked",
                "high",
                None,
                f"**{name}** `{release.version}`: its package was refused.",
                f"It was not kept: {release.refused}. It goes to no site until a right one lies on "
                "the shelf: tell its maker, or bring it by hand (windbreak shelf add FILE).",
                see,
            )
        elif release.withdrawn_at is not None and (release.product, release.version) in used:
            yield finding(
                context,
                f"withdrawn-release:{release.id}",
                "blocked",
                "medium",
                None,
                f"**{name}** `{release.version}` was withdrawn by its maker.",
                "Its feed lists it no longer, and sites run it. It goes to no other site. Why it "
                "was withdrawn is not said: ask its maker before the next night.",
                see,
            )
        if release.corrected is not None and release.product in installed:
            yield finding(
                context,
                f"corrected:{release.id}",
                "waiting",
                "low",
                None,
                f"**{name}** `{release.version}` carries other versions than its feed told.",
                f"{release.corrected}. The package was believed.",
                see,
            )


def _of_republished(context: Context, release: KnownRelease, name: str) -> Finding:
    again = release.republished
    assert again is not None  # undecided looked
    feed = context.store.feeds.find(again.feed)
    return finding(
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
        act("Decide…", "decide", product=release.product, version=release.version),
    )


def _brief(sum_: str) -> str:
    return f"{sum_[:10]}…" if len(sum_) > 20 else sum_


def of_withdrawn(context: Context, id: str) -> Iterator[Finding]:
    today = context.clock().date()
    withdrawn = context.store.products.find(id)
    for product in [withdrawn] if withdrawn else []:
        if product.withdrawn_at is None:
            continue
        here = context.store.inventories.installed(product.id)
        if not here:
            continue
        labels = [context.store.sites.get(site).label for site, _, _, _ in here]
        runs = "runs it" if len(here) == 1 else "run it"
        seen = day(product.withdrawn_at.date(), today)
        yield finding(
            context,
            f"withdrawn:{product.id}",
            "blocked",
            "medium",
            None,
            f"**{product.name}** was withdrawn by its maker.",
            f"{product.withdrawn_text.rstrip('.')}, seen {seen}. "
            f"{listed(labels)} {runs}; no feed will tell of anything newer, "
            "weaknesses included. It should go, site by site.",
            act(f"Plan its removal at {labels[0]}", "remove", site=here[0][0], product=product.id),
        )


ABANDONED = timedelta(days=2 * 365)  # without a release, while its feed goes on telling


def of_abandoned(context: Context, id: str) -> Iterator[Finding]:
    """A product whose maker has released nothing for years, though its feed is read."""
    listed, today = context.store.products.find(id), context.clock().date()
    if listed is None or listed.withdrawn_at is not None or listed.kind == "runtime":
        return
    feed = context.store.feeds.find(listed.feed) if listed.feed else None
    if feed is None or feed.is_out_of_touch(context.clock()):
        return  # then nobody knows
    releases = [r for r in context.store.releases.all(product=id) if r.withdrawn_at is None]
    last = max((r.published for r in releases), default=today)
    here = context.store.inventories.installed(id)
    if today - last < ABANDONED or not here:
        return
    yield finding(
        context,
        f"abandoned:{id}",
        "unknown",
        "low",
        None,
        f"**{listed.name}**: nothing new since {day(last, today)}.",
        f"{feed.label} is read, and tells of no release since. {counted(len(here), 'site')} "
        f"{'runs' if len(here) == 1 else 'run'} it: weaknesses that come up may stay open.",
        act("Open the product", "see-product", product=id),
    )


def of_watch(context: Context, product: str) -> Iterator[Finding]:
    today = context.clock().date()
    telling = [r for r in context.store.releases.all(product=product) if r.watch]
    if not telling:
        return
    installed = context.store.inventories.versions_in_use(product)
    name = _name(context, product)
    for release in telling:
        for index, item in enumerate(release.watch):
            if item.on is None or not installed:
                continue
            if today <= item.on <= today + timedelta(days=WATCH_SOON):
                yield finding(
                    context,
                    f"watch:{release.id}:{index}",
                    "waiting",
                    "low",
                    None,
                    f"**{name}**: {item.text.rstrip('.')}, {day(item.on, today)}.",
                    f"{name} {release.version} told of it.",
                    act("Read it", "see-product", product=release.product),
                    item.on,
                )
