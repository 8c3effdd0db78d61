"""Where each credential is used: credential, the product it opens, the sites that run that."""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.values.feeds import Feed
from windbreak.core.values.sites import Site
from windbreak.documents.licences import CredentialRow, CredentialSite, LicenceView
from windbreak.operations.context import Context
from windbreak.operations.licensing import licence_views

_WORST = ("missing", "other code", "grace", "unknown", "not asked", "registered")


def rows(context: Context) -> list[CredentialRow]:
    """Every credential with each product it opens: those of feeds, then codes of licences."""
    with context.store.database.remembered():
        return list(_Table(context).rows())


class _Table:
    def __init__(self, context: Context) -> None:
        self.context = context
        self.names = {p.id: p.name for p in context.store.products.all()}
        self.sites = {site.id: site for site in context.store.sites.live()}
        self.running: dict[str, list[Site]] = {}
        for site, product, _, _ in context.store.inventories.installed():
            if site in self.sites:
                self.running.setdefault(product, []).append(self.sites[site])

    def rows(self) -> Iterator[CredentialRow]:
        for feed in self.context.store.feeds.all():
            if feed.credential is not None:
                yield from self._of_feed(feed)
        for view in licence_views.views(self.context):
            if view.licence.code is not None or any(s.seat.code for s in view.seats):
                yield from self._of_licence(view)

    def _of_feed(self, feed: Feed) -> Iterator[CredentialRow]:
        """A feed's credential stands at the service; it is as good for each site as for all."""
        check = feed.check
        for product in feed.products:
            yield CredentialRow(
                feed=feed.id,
                label=feed.label,
                credential=f"{feed.sign_in} {feed.credential}",
                state=check.seen if check else "not yet",
                at=check.at if check else None,
                text=check.text if check else "Nobody has asked the maker yet.",
                product=product,
                name=self.names.get(product, product),
                sites=tuple(
                    [
                        CredentialSite(site=site.id, label=site.label, state="by the service")
                        for site in self.running.get(product, ())
                    ]
                ),
            )

    def _of_licence(self, view: LicenceView) -> Iterator[CredentialRow]:
        """A licence's code stands on each site; it is what was read back there."""
        licence = view.licence
        held = {seated.seat.site: seated for seated in view.seats}
        for product in view.covers:
            sites = [site for site in self.running.get(product, ()) if site.id in held]
            seats = [held[site.id] for site in sites]
            worst = min((seat.state for seat in seats), key=_WORST.index, default="not asked")
            yield CredentialRow(
                licence=licence.id,
                label=licence.label,
                credential=licence.code or "a code for each site",
                state=worst,
                at=max((seat.read_at for seat in seats if seat.read_at), default=None),
                text=view.text,
                product=product,
                name=self.names.get(product, product),
                sites=tuple(
                    [
                        CredentialSite(
                            site=seat.seat.site,
                            label=seat.site_label,
                            state=seat.state,
                            credential=seat.seat.code,
                        )
                        for seat in seats
                    ]
                ),
            )
