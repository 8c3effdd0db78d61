"""``windbreak product``, ``coverage``, ``advisory``: what is on sites, and what is known of it."""

from __future__ import annotations

import argparse
from typing import Any

from windbreak.cli.output import a_day, age, dump, say, state, table, why
from windbreak.cli.profile import connect, pick_product, pick_site
from windbreak.cli.refusals import Refusal


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    product = commands.add_parser(
        "product",
        help="products: list, show, changes, set, hold, skip, holds, lift, release, decide",
    )
    verbs = product.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="every product across the fleet")
    command.add_argument("text", nargs="?", help="part of a name, maker or folder")
    command.set_defaults(do=_list)
    command = verbs.add_parser(
        "show", parents=[common], help="versions in use, who may move, changes"
    )
    command.add_argument("product", metavar="PRODUCT")
    command.set_defaults(do=_show)
    command = verbs.add_parser(
        "changes",
        parents=[common],
        help="everything a move passes, added up",
        epilog="example: windbreak product changes breakwater 5.0 5.2",
    )
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("start", metavar="FROM")
    command.add_argument("end", metavar="TO")
    command.set_defaults(do=_changes)
    command = verbs.add_parser("set", parents=[common], help="set what a person knows of a product")
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("--name")
    command.add_argument("--maker")
    command.add_argument(
        "--access", choices=("public", "licensed", "bundled-only", "custom", "host")
    )
    command.add_argument("--major-place", type=int, metavar="N", help="which number is its major")
    command.add_argument("--folder", action="append", help="another folder it is known to lie in")
    command.add_argument(
        "--helps",
        action="append",
        metavar="PRODUCT",
        help="it is its maker's helper plugin for this; may be given again, 'none' ends it",
    )
    command.set_defaults(do=_set)
    _add_holds(verbs, common)
    command = verbs.add_parser(
        "release",
        parents=[common],
        help="type in a release that no feed tells of",
        epilog="example: windbreak product release plugin/oarlock-stamps 2.1 2026-11-03 "
        "--source 'a mail of its maker' --fix 'Stamps print again'",
    )
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("version", metavar="VERSION")
    command.add_argument("published", metavar="DAY", type=a_day)
    command.add_argument("--source", required=True, help="where it was read")
    for kind in ("security", "fix", "feature", "breaking"):
        command.add_argument(f"--{kind}", action="append", default=[], metavar="TEXT")
    command.set_defaults(do=_release)
    command = verbs.add_parser(
        "decide",
        parents=[common],
        help="see a version that came twice, and say which of its packages is right",
        epilog="example: windbreak product decide capstan 3.3 new --why 'its maker says so'",
    )
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("version", metavar="VERSION")
    command.add_argument(
        "keep", nargs="?", choices=("first", "new"), help="without it, both are shown"
    )
    command.add_argument("--why")
    command.set_defaults(do=_decide)
    command = commands.add_parser(
        "coverage", parents=[common], help="components that no feed covers"
    )
    command.set_defaults(do=_coverage)
    advisory = commands.add_parser("advisory", help="published weaknesses: list")
    verbs = advisory.add_subparsers(dest="verb", metavar="VERB", required=True)
    verbs.add_parser("list", parents=[common], help="every one").set_defaults(do=_advisories)


def _add_holds(verbs: Any, common: argparse.ArgumentParser) -> None:
    command = verbs.add_parser(
        "hold",
        parents=[common],
        help="decide not to move a product",
        epilog="example: windbreak product hold netloft --range '>=1.8' --why 'drops captions'",
    )
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("--range", default="*")
    command.add_argument("--site", help="everywhere when not given")
    command.add_argument("--until", type=a_day, metavar="DAY")
    command.add_argument("--review", type=a_day, metavar="DAY", help="when to look again")
    command.add_argument("--why", required=True)
    command.set_defaults(do=_hold)
    command = verbs.add_parser(
        "skip",
        parents=[common],
        help="never take one release; what comes after it is taken as usual",
        epilog="example: windbreak product skip netloft 1.8 --why 'drops captions'",
    )
    command.add_argument("product", metavar="PRODUCT")
    command.add_argument("version", metavar="VERSION")
    command.add_argument("--site", help="everywhere when not given")
    command.add_argument("--why", required=True)
    command.set_defaults(do=_skip)
    verbs.add_parser("holds", parents=[common], help="every hold").set_defaults(do=_holds)
    command = verbs.add_parser("lift", parents=[common], help="lift a hold")
    command.add_argument("hold", metavar="HOLD")
    command.set_defaults(do=_lift)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        products = windbreak.products()
    if args.text:
        low = args.text.lower()
        products = [
            r
            for r in products
            if low in f"{r.product.name} {r.product.maker} {r.product.id}".lower()
        ]
    if args.json:
        return dump(products)
    if args.quiet:
        return print("\n".join(r.product.id for r in products))
    table(
        [
            "state",
            "product",
            "newest",
            "sites",
            "may",
            "wait",
            "can't",
            "in use",
            "decided",
            "origin",
        ],
        (
            (
                state(r.state),
                r.product.id,
                r.newest or "–",
                f"{r.sites} + {r.twins}" if r.twins else str(r.sites),
                r.may or "·",
                r.wait or "·",
                r.cannot or "·",
                " ".join(f"{u.version}×{len(u.sites)}" for u in r.versions),
                r.decided,
                r.origin,
            )
            for r in products
        ),
        "No product is known. Register a feed: windbreak feed add ID LABEL ADDRESS",
    )
    return None


def _show(args: argparse.Namespace) -> None:
    from windbreak.wording.words import counted, match_in_words, versions_in_words

    with connect(args) as windbreak:
        view = windbreak.product(pick_product(windbreak, args.product))
    if args.json:
        return dump(view)
    row, product = view.row, view.row.product
    maker = f", by {product.maker}" if product.maker else ""
    feed = f"feed {view.feed_state}, read {age(view.feed_read_at)}"
    say(f"**{product.name}** {product.id}{maker}, {row.origin}; {feed}")
    if product.withdrawn_at:
        say(f"Withdrawn: {product.withdrawn_text}")
    twins = f" and {counted(row.twins, 'twin')}" if row.twins else ""
    carried = (
        f"; carried newest {view.carried_newest} in {view.carried_in}" if view.carried_in else ""
    )
    say(f"On {counted(row.sites, 'site')}{twins}; newest {row.newest or 'none'}{carried}.")
    if row.decision == "asked":
        say(f"It waits for a decision of yours. {row.decided}.")
    else:
        say(f"Decided: {row.decided}.")
    print()
    heads = ["version", "since", "sites", "security", "fixes", "features", "breaking", "silent"]
    above = {p.start: p for p in view.above}
    table(
        heads, (_use(u, above.get(u.version), row.newest) for u in row.versions), "No site runs it."
    )
    say(f"From each version up to {row.newest or 'the newest'}, everything in between added up.")
    for word, sites in (("may move", view.may), ("wait", view.wait)):
        if sites:
            print()
            say(f"**{len(sites)} {word}**")
        texts = dict.fromkeys(standing.text for standing in sites)
        for text in texts:
            same = [standing.label for standing in sites if standing.text == text]
            say(f"  {len(same)}  {text}")
            say(f"     {', '.join(same)}")
    if view.cannot:
        print()
        say(f"**{sum(len(g.sites) for g in view.cannot)} cannot**")
    for group in view.cannot:
        say(f"  {len(group.sites)}  {group.text}")
        say(f"     {', '.join(s.label for s in group.sites)}")
    for tie in view.lockstep:
        others = [p for p in tie.products if p != product.id]
        must = match_in_words(tie.match)
        say(f"It and {', '.join(others)} must {must}: {tie.reason}. (lockstep {tie.id})")
    for clash in view.clashes:
        mine, other = (clash.a, clash.b) if clash.a.product == product.id else (clash.b, clash.a)
        here, there = versions_in_words(mine.range), versions_in_words(other.range)
        say(f"Clash of {here} with {other.product}, {there}: {clash.reason}. (clash {clash.id})")
    for lag in view.lags:
        if lag.days is not None:
            say(f"{lag.theme} carries it {lag.days} days later, going by {lag.releases} releases.")
    print()
    for release in view.releases[:8]:
        notes: list[str] = [release.channel] if release.channel != "stable" else []
        notes += ["withdrawn"] if release.withdrawn_at else []
        notes += (
            ["came twice: decide"]
            if release.republished and not release.republished.decided
            else []
        )
        notes += ["on the shelf"] if release.sha256 else []
        say(f"  {release.version:8} {release.published}  {', '.join(notes)}")
        if release.version in view.came:
            say(f"             {view.came[release.version]}")
        for change in release.changes:
            say(f"             {change.kind}: {change.text}")
        if not release.changes:
            say("             nothing is said of what changed")
    return None


def _use(use: Any, above: Any, newest: str | None) -> tuple[str, ...]:
    """A version in use as a row: its sites, and what lies above it by kind."""
    head = (use.version, str(use.since or "not told"), str(len(use.sites)))
    if above is None or use.version == newest:
        return (*head, *("–",) * 5)
    counts = (above.counts[kind] for kind in ("security", "fix", "feature", "breaking"))
    return (*head, *map(str, counts), str(len(above.silent)))


def _changes(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        passed = windbreak.passed(pick_product(windbreak, args.product), args.start, args.end)
    if args.json:
        return dump(passed)
    counts = ", ".join(f"{n} {kind}" for kind, n in passed.counts.items())
    releases = f"{len(passed.releases)} releases: {counts}"
    say(f"**{passed.product}** {passed.start} to {passed.end} passes {releases}.")
    if passed.silent:
        silent = ", ".join(passed.silent)
        say(f"Nothing is said of what changed in {silent}; that is not “no change”.")
    if passed.licence:
        grace = f", {passed.licence.grace_days} days of grace" if passed.licence.grace_days else ""
        say(f"From {passed.licence_at} it asks for a {passed.licence.form} licence{grace}.")
    for change in passed.changes:
        say(f"  {change.version:8} {change.change.kind}: {change.change.text}")
    for task in passed.tasks:
        say(f"  afterwards, by {task.by}: {task.text}")
    for item in passed.watch:
        when = f" from {item.from_version}" if item.from_version else ""
        when += f", {item.on}" if item.on else ""
        say(f"  will come{when}: {item.text}")
    return None


def _set(args: argparse.Namespace) -> None:
    from windbreak.core.values.products import ProductChange

    with connect(args) as windbreak:
        id = pick_product(windbreak, args.product)
        folders = None
        if args.folder:
            folders_now = windbreak.product(id).row.product.folders
            folders = tuple(dict.fromkeys((*folders_now, *args.folder)))
        helps = None
        if args.helps is not None:
            named = [rule for rule in args.helps if rule != "none"]
            helps = tuple([pick_product(windbreak, rule) for rule in named])
        change = ProductChange(
            name=args.name,
            access=args.access,
            major_place=args.major_place,
            maker=args.maker,
            folders=folders,
            helps=helps,
        )
        product = windbreak.change_product(id, change)
    dump(product) if args.json else say(f"**{product.name}** is set.")


def _hold(args: argparse.Namespace) -> None:
    from windbreak.core.values.holds import NewHold

    with connect(args) as windbreak:
        hold = windbreak.make_hold(
            NewHold(
                product=pick_product(windbreak, args.product),
                range=args.range,
                site=pick_site(windbreak, args.site) if args.site else None,
                until=args.until,
                review=args.review,
                reason=args.why,
            )
        )
        tied = windbreak.product(hold.product).lockstep
    frozen = sorted({p for group in tied for p in group.products} - {hold.product})
    where = hold.site or "everywhere"
    if args.json:
        return dump(hold)
    say(f"**{hold.product}** is held {where}: hold {hold.id}.")
    if frozen:
        say(f"It freezes what must match it: {', '.join(frozen)}.")
    return None


def _skip(args: argparse.Namespace) -> None:
    from windbreak.core.values.holds import NewHold

    with connect(args) as windbreak:
        product = pick_product(windbreak, args.product)
        versions = {r.version for r in windbreak.product(product).releases}
        if args.version not in versions:
            raise Refusal(f"no feed tells of {product} {args.version}")
        hold = windbreak.make_hold(
            NewHold(
                product=product,
                range=f"={args.version}",
                site=pick_site(windbreak, args.site) if args.site else None,
                reason=args.why,
            )
        )
    where = hold.site or "everywhere"
    line = f"**{product}** {args.version} is skipped {where}: hold {hold.id}."
    dump(hold) if args.json else say(line)


def _holds(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        holds = windbreak.holds()
    if args.json:
        return dump(holds)
    table(
        ["hold", "product", "range", "where", "until", "by", "why"],
        (
            (h.id, h.product, h.range, h.site or "everywhere", h.until or "–", h.author, h.reason)
            for h in holds
        ),
        "Nothing is held.",
    )
    return None


def _lift(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        windbreak.lift_hold(args.hold)
    say("The hold is lifted.")


def _release(args: argparse.Namespace) -> None:
    from windbreak.core.values.releases import NewRelease

    kinds = ("security", "fix", "feature", "breaking")
    changes = [{"kind": kind, "text": text} for kind in kinds for text in getattr(args, kind)]
    new = NewRelease.model_validate(
        {
            "product": args.product,
            "version": args.version,
            "published": args.published,
            "source": args.source,
            "changes": changes,
        }
    )
    with connect(args) as windbreak:
        release = windbreak.type_in_release(new)
    dump(release) if args.json else say(f"**{release.title}** is known now. {release.text}")


def _decide(args: argparse.Namespace) -> None:
    from windbreak.core.values.releases import DecideRepublished

    if args.keep is None:
        _show_both(args)
        return
    choice = DecideRepublished(keep=args.keep, why=why(args.why))
    with connect(args) as windbreak:
        id = pick_product(windbreak, args.product)
        release = windbreak.decide_release(id, args.version, choice)
    dump(release) if args.json else say(f"**{release.title}**: the {args.keep} package is right.")


def _show_both(args: argparse.Namespace) -> None:
    """The two packages of a version that came twice, and how to say which is right."""
    with connect(args) as windbreak:
        view = windbreak.product(pick_product(windbreak, args.product))
    release = next((r for r in view.releases if r.version == args.version), None)
    name = view.row.product.name
    if release is None:
        raise Refusal(
            f"{name} {args.version} is not known; see windbreak product show {args.product}"
        )
    if args.json:
        return dump(release)
    again = release.republished
    if again is None:
        return say(f"**{release.title}** came once; there is nothing to decide.")
    say(f"**{release.title}** came twice, with different packages.")
    say(f"  first  {again.first}")
    size = f", {again.now.size:,} bytes" if again.now.size is not None else ""
    source = f"told by {again.feed} on {again.at:%d %b %Y}"
    say(f"  new    {again.now.sha256 or 'no sum is told'}{size}, {source}")
    if not again.open:
        return say(f"The {again.decided} one is right, {again.by} decided: {again.why}.")
    say("It goes to no site until you say which is right; ask its maker, then:")
    line = f"windbreak product decide {args.product} {args.version}"
    say(f"  {line} first --why TEXT")
    say(f"  {line} new --why TEXT")
    return None


def _coverage(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        coverage = windbreak.coverage()
    if args.json:
        return dump(coverage)
    left = coverage.components - coverage.covered
    say(
        f"{coverage.covered} of {coverage.components} components have a feed; "
        f"of {left} nobody tells us."
    )
    table(
        ["component", "where", "version", "why"],
        (
            (u.product, ", ".join(u.labels), ", ".join(u.versions), u.text)
            for u in coverage.uncovered
        ),
        "Every component has a feed.",
    )
    gaps = [s for s in coverage.sites if s.covered < s.components]
    for site in gaps:
        say(f"  {site.label}: {site.covered} of {site.components}")
    return None


def _advisories(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        advisories = windbreak.advisories()
    if args.json:
        return dump(advisories)
    table(
        ["advisory", "product", "severity", "affected", "published", "what"],
        (
            (a.id, a.product, a.severity, a.affected, a.published or "–", a.summary)
            for a in advisories
        ),
        "No advisory is known.",
    )
    return None
