"""What gives cause for a finding in releases and advisories."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from datetime import timedelta

from windbreak.core.values.findings import Finding, Weight
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.sites import Site
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version
from windbreak.documents.products import Standing
from windbreak.operations.causes.made import finding
from windbreak.operations.context import Context
from windbreak.wording.words import counted, day, listed

WATCH_SOON = 30


def of_soaks(
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
        yield finding(
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


def of_advisories(
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
        labels = listed(named)
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


def of_releases(
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
            yield finding(
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
            yield finding(
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
            yield finding(
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
        (
            "Decide…",
            f"windbreak product decide {release.product} {release.version} first|new --why …",
            f"/products/{release.product}",
        ),
    )


def _brief(sum_: str) -> str:
    return f"{sum_[:10]}…" if len(sum_) > 20 else sum_


def of_withdrawn(context: Context) -> Iterator[Finding]:
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
        yield finding(
            context,
            f"withdrawn:{product.id}",
            "blocked",
            "medium",
            None,
            f"**{product.name}** was withdrawn by its maker.",
            f"{product.withdrawn_text.rstrip('.')}, seen {seen}. "
            f"{listed(labels)} {runs}; no feed will tell of anything newer, "
            "weaknesses included. It should go.",
            ("Open the product", f"windbreak product show {product.id}", f"/products/{product.id}"),
        )


def of_watch(
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
                yield finding(
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
