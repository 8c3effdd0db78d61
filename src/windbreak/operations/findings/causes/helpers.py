"""What gives cause for a finding in makers' own helper plugins: there, linked, of age.

Nobody announces their updates: the newest that is seen on any site is held against each.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from windbreak.core.values.findings import Finding
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.sites import Site
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.wording.words import listed


def of_helpers(
    context: Context, helpers: Iterable[KnownProduct], names: Mapping[str, str]
) -> Iterator[Finding]:
    """Each helper plugin, on each site with a product that it serves where it does not do its work
    there.
    """
    store = context.store
    for helper in helpers:
        seen = {version for _, _, version, _ in store.inventories.installed(helper.id)}
        newest = max(seen, key=lambda version: parse_version(version).key, default="0")
        serves: dict[str, list[str]] = {}
        for product in helper.helps:
            for site, _, _, active in store.inventories.installed(product):
                if active:
                    serves.setdefault(site, []).append(names.get(product, product))
        for id, served in sorted(serves.items()):
            amiss = _amiss(store.inventories.get(id), helper, newest)
            if amiss:
                yield _finding(context, store.sites.get(id), helper, served, amiss)


def _finding(
    context: Context, site: Site, helper: KnownProduct, served: list[str], amiss: str
) -> Finding:
    return finding(
        context,
        f"helper:{site.id}:{helper.id}",
        "waiting",
        "low",
        site,
        f"**{site.label}**: {helper.name}, the helper of {listed(served)}, {amiss}.",
        "Its maker’s services for them go through it, and nobody announces its updates.",
        act("See the site", "see-site", site=site.id),
    )


def _amiss(inventory: Inventory, helper: KnownProduct, newest: str) -> str:
    """What keeps a helper from its work on a site, in words; "" where nothing does; ``newest`` is
    the newest that runs anywhere.
    """
    there = next((c for c in inventory.components if c.product == helper.id), None)
    if there is None:
        return "is not there"
    if not there.active:
        return "is switched off"
    registration = inventory.registration_of(helper.id)
    if registration is not None and registration.state in ("missing", "grace"):
        return "is not linked to its maker"
    if parse_version(newest) > parse_version(there.version):
        return f"is `{there.version}`, and `{newest}` runs elsewhere in the fleet"
    return ""
