"""What gives cause for a finding in what is seen on a site: files, folders, checks, other hands."""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.values.findings import Finding, NextAct
from windbreak.core.values.inventories import Installed, Inventory
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.operations.reasoning.catalogue import catalogue
from windbreak.operations.sites import integrity, inventories, turns
from windbreak.operations.views import coverage
from windbreak.wording.looks import files_text
from windbreak.wording.words import counted, day, listed


def of_other_hands(context: Context, site: Site) -> Iterator[Finding]:
    """A site on which something moved without us: a second master is at work there."""
    moved = inventories.moved_by_others(context, site.id)
    if not moved:
        return
    inventory = context.store.inventories.find(site.id)
    updater = (
        " The site’s own updater is on and may have made it, without a snapshot and without a "
        "check afterwards. Runs pause that updater."
        if inventory and inventory.automatic_updates
        else ""
    )
    text = (
        "No run of Windbreak made this change, and the site does not say who did. Plans from "
        f"before it no longer fit, and are replaced.{updater}"
    )
    yield finding(
        context,
        f"other-hands:{site.id}",
        "unknown",
        "medium",
        site,
        f"**{site.label}** was changed on the site: {listed([line.what for line in moved])}.",
        text,
        act("See the site", "see-site", site=site.id),
    )


def of_by_hand(context: Context, site: Site, names: dict[str, str]) -> Iterator[Finding]:
    """Components that were to be looked at again by hand by now."""
    today = context.clock().date()
    for component in site.by_hand:
        if component.until < today:
            name = names.get(component.product, component.product.partition("/")[2])
            due = day(component.until, today)
            yield finding(
                context,
                f"by-hand:{site.id}:{component.product}",
                "unknown",
                "medium",
                site,
                f"**{site.label}**: {name} was to be looked at again by {due}.",
                f"{component.by} looks after it by hand: {component.why.rstrip('.')}. No feed "
                "tells of it.",
                act("Say until when again", "by-hand", site=site.id, product=component.product),
            )


def of_files(context: Context, site: Site, names: dict[str, str]) -> Iterator[Finding]:
    """Files of makers that were changed in place or lost: the next update would meet them."""
    seen, inventory = integrity.of(context, site.id), context.store.inventories.find(site.id)
    if seen is None or inventory is None:
        return
    for files in seen.components:
        there = inventory.version_of(files.product) == files.version
        if not there or not (files.changed or files.missing):
            continue
        name = names.get(files.product, files.product)
        yield finding(
            context,
            f"files:{site.id}:{files.product}",
            "waiting",
            "low",
            site,
            f"**{site.label}**: {name} was changed by hand.",
            f"{files_text(files)}. An update would carry that over or set it aside: "
            "whoever approves it says which.",
            act("See the files", "see-files", site=site.id),
        )


def of_copies(context: Context, site: Site) -> Iterator[Finding]:
    """A component in an unknown folder that bears a known product's name: a renamed copy."""
    products = catalogue(context).products
    inventory = context.store.inventories.find(site.id)
    if inventory is None:
        return
    odd = [c for c in inventory.components if c.product not in products]
    if odd:
        by_name = {p.name.casefold(): p for p in products.values()}
        for component in odd:
            product = by_name.get(component.name.casefold())
            if product is None or component.product in products or component.product in site.own:
                continue
            if product.kind != component.product.partition("/")[0] or component.maker is not None:
                continue
            yield finding(
                context,
                f"copy:{site.id}:{component.product}",
                "blocked",
                "low",
                site,
                f"**{site.label}**: the folder `{component.folder}` bears the name of "
                f"{product.name}.",
                _copy_text(product.name, product.id, component, inventory),
                _of_copy(site, product.id, component, inventory),
            )


def of_namesakes(context: Context, site: Site) -> Iterator[Finding]:
    for namesake in coverage.namesakes_on(context, site):
        yield finding(
            context,
            f"namesake:{site.id}:{namesake.product}",
            "blocked",
            "low",
            site,
            f"**{site.label}**: its {namesake.name} is {namesake.text}.",
            "The offer is refused. If it was made for this site, mark it: nobody asks again.",
            act("Mark it", "mark-own", site=site.id, product=namesake.product),
        )


def _copy_text(name: str, product: str, copy: Installed, there: Inventory) -> str:
    slug, other = product.partition("/")[2], there.version_of(product)
    text = f"It says {name} `{copy.version}`, and no update reaches it there."
    if other is not None and not copy.active:
        return f"{text} It is off, beside `{other}` in `{slug}`: a copy that was left over."
    return f"{text} It is the one in use, or a copy beside it: somebody who knows it has to say."


def _of_copy(site: Site, product: str, copy: Installed, there: Inventory) -> NextAct:
    """A second copy leaves the site; of the only one somebody says which product it is."""
    if there.version_of(product) is not None and not copy.active:
        return act("Plan its removal", "remove", site=site.id, product=copy.product)
    return act("Say what it is", "set-folder", product=product, folder=copy.folder, site=site.id)


def of_checks(context: Context, site: Site) -> Iterator[Finding]:
    """A site's own health checks that say something is broken: one finding, with all of them."""
    inventory = context.store.inventories.find(site.id)
    checks = (inventory.checks if inventory else None) or ()
    bad = [check for check in checks if check.state == "critical"]
    if not bad:
        return
    since, today = turns.checks_since(context, site.id), context.clock().date()
    lines = [
        f"Since {day(since[check.id].date(), today)}: {(check.text or check.name).rstrip('.')}."
        for check in bad
        if check.id in since
    ]
    yield finding(
        context,
        f"checks:{site.id}",
        "failed",
        "medium" if site.environment == "production" else "low",
        site,
        f"**{site.label}**: {len(bad)} of its own {counted(len(checks), 'check')} "
        f"{'says' if len(bad) == 1 else 'say'} that something is broken.",
        " ".join(lines),
        act("See its checks", "see-site", site=site.id),
    )


def of_complaints(context: Context, site: Site, names: dict[str, str]) -> Iterator[Finding]:
    """What one component says of another that it works with: nobody else tells of that."""
    inventory = context.store.inventories.find(site.id)
    by_about: dict[str, list[str]] = {}
    for complaint in inventory.complaints if inventory else ():
        by = names.get(complaint.by, complaint.by)
        by_about.setdefault(complaint.about, []).append(f"{by} says: {complaint.text.rstrip('.')}.")
    for about, complaints in by_about.items():
        yield finding(
            context,
            f"complaint:{site.id}:{about}",
            "waiting",
            "low",
            site,
            f"**{site.label}**: {names.get(about, about)} is behind what works with it.",
            f"{' '.join(complaints)} No feed tells of that; whoever made the copy has to look.",
            act("Make an errand of it", "add-errand", site=site.id, text=complaints[0]),
        )
