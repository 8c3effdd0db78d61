"""What a person may mean by a text: an id, a name, or a part of one."""

from __future__ import annotations

from windbreak.core.values.sites import Site
from windbreak.documents.named import Kind, Named
from windbreak.operations.context import Context


def named(context: Context, kind: Kind, text: str) -> list[Named]:
    """The sites or products that a text may mean; one where it names one exactly. Reads."""
    if kind == "site":
        return [Named(id=site.id, name=site.label) for site in _sites(context, text)]
    return [Named(id=p.id, name=p.name) for p in context.store.products.named(text)]


def _sites(context: Context, text: str) -> list[Site]:
    """A twin bears its site's name: the name alone means the site. Reads."""
    sites = context.store.sites.named(text)
    ids = {site.id for site in sites}
    return [site for site in sites if site.twin_of not in ids]
