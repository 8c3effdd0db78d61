"""The files of a site's components, held against the pristine packages of their versions.

Looked at once a day, and when somebody asks; so that what was changed in place is known before a
plan is approved. A package that is not on the shelf is fetched where the site has the right to it;
where it can't be had, it is said that nobody knows.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta

from windbreak.core.values.integrity import ComponentFiles, Integrity
from windbreak.core.values.inventories import Installed, Inventory
from windbreak.core.values.sites import Site
from windbreak.feeds.errors import FeedError
from windbreak.links.adapter import Agent
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.reasoning.catalogue import catalogue
from windbreak.operations.sites import sites
from windbreak.operations.tracking import shelving
from windbreak.packages.errors import PackageRefused
from windbreak.packages.pristine import sums

EVERY = timedelta(days=1)
CALL = "own-files"


def look(context: Context, site_id: str) -> Integrity:
    """Hold the files of every component of a site against its package, and keep it. Writes.

    Raises Refused for a site that is not linked, or whose agent can't list files; LinkError.
    """
    site = context.store.sites.get(site_id)
    if site.link.state != "linked":
        raise Refused("not-linked", f"{site.label} can't be asked: {site.link.reason}")
    if CALL not in site.link.agent_can:
        raise Refused(
            "agent-too-old",
            f"the agent of {site.label} is {site.link.agent_version}, which can't list files",
        )
    inventory = context.store.inventories.get(site_id)
    agent = sites.agent_for(context, site_id)
    seen = tuple(
        of_component(context, agent, site_id, files.product, files.version)
        for files in _of_makers(context, site, inventory)
    )
    return context.store.integrity.put(
        Integrity(id=site_id, looked_at=context.clock(), components=seen), site_id
    )


def _of_makers(context: Context, site: Site, inventory: Inventory) -> Iterable[Installed]:
    """The components that a maker's package stands for: none that were made for the site."""
    namesakes = catalogue(context).namesakes(inventory)
    for component in inventory.components:
        if component.product.startswith("runtime/") or component.product in site.own:
            continue
        if component.product not in namesakes:
            yield component


def of_component(
    context: Context, agent: Agent, site: str, product: str, version: str
) -> ComponentFiles:
    """A component's files, as its agent lists them. Raises LinkError."""
    if CALL not in context.store.sites.get(site).link.agent_can:
        why = "its agent can't list files"
        return ComponentFiles(product=product, version=version, known=False, why=why)
    try:
        package = shelving.fetch_package(context, product, version, site, lent=True)
    except (Refused, PackageRefused, FeedError) as error:
        why = f"its package can't be had: {error}"
        return ComponentFiles(product=product, version=version, known=False, why=why)
    files = agent.own_files(product, sums(context.shelf.read(package)))
    changed, added, missing = (
        tuple([file.path for file in files if file.state == state])
        for state in ("changed", "added", "missing")
    )
    return ComponentFiles(
        product=product,
        version=version,
        known=True,
        changed=changed,
        added=added,
        missing=missing,
        sums={f.path: f.sha256 for f in files if f.state == "changed" and f.sha256},
    )


def pristine(context: Context, site: str, product: str, version: str) -> dict[str, str]:
    """SHA-256 of the files of a component's package, by path; nothing where it can't be had."""
    try:
        package = shelving.fetch_package(context, product, version, site, lent=True)
    except (Refused, PackageRefused, FeedError):
        return {}
    return sums(context.shelf.read(package))


def of(context: Context, site: str) -> Integrity | None:
    """What was seen last; None where nobody has looked. Reads."""
    return context.store.integrity.find(site)


def due(context: Context, site: Site) -> bool:
    """Whether a site's files are to be looked at again. Reads."""
    if site.link.state != "linked" or CALL not in site.link.agent_can:
        return False
    seen = of(context, site.id)
    return seen is None or seen.looked_at + EVERY <= context.clock()
