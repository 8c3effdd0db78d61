"""What a site could do without: proposed apart from its plan, never done by itself.

Withdrawn products, plugins whose work another release now includes, spare themes beside the one to
fall back on, second copies of what is there, and alternatives that are switched off. Nothing is
proposed that something else on the site needs, or that was made for it; nothing is proposed on a
guess.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from windbreak.core.case.situation import Case
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.verdicts import Answer
from windbreak.core.versions.version import parse_version
from windbreak.documents.sites import Proposal
from windbreak.operations.context import Context


def of_case(context: Context, case: Case, answer: Answer) -> tuple[Proposal, ...]:
    """What could leave a site, by product id. Reads."""
    return tuple(sorted(_Proposing(context, case, answer).all(), key=lambda p: p.product))


class _Proposing:
    def __init__(self, context: Context, case: Case, answer: Answer) -> None:
        self.context = context
        self.case = case
        self.now = {c.product: c.version for c in case.site.components}
        inventory = context.store.inventories.find(case.site.id)
        self.installed = inventory.components if inventory else ()
        self.then = {v.product: v.to or v.from_ or "" for v in answer.verdicts}
        self.products: Mapping[str, KnownProduct] = {
            p.id: p for p in context.store.products.all() if p.id in self.now
        }

    def all(self) -> Iterator[Proposal]:
        yield from self._withdrawn()
        yield from self._included()
        yield from self._spare()
        yield from self._copies()
        yield from self._alternatives()

    def _withdrawn(self) -> Iterator[Proposal]:
        for id, product in self.products.items():
            if product.withdrawn_at is None or not self._may_go(id):
                continue
            name = self.case.label(id)
            yield Proposal(
                product=id,
                why="withdrawn",
                text=f"{name} was withdrawn by its maker: nobody mends it any more. Remove it, or "
                "find what takes its place.",
            )

    def _included(self) -> Iterator[Proposal]:
        """Plugins whose work a release of something else on the site includes."""
        for id in self.now:
            for release in self.context.store.releases.all(product=id):
                for gone in release.replaces:
                    if gone in self.now and gone != id and self._may_go(gone):
                        yield from self._replaced(gone, id, release)

    def _replaced(self, gone: str, by: str, release: KnownRelease) -> Iterator[Proposal]:
        since = parse_version(release.version)
        name, other = self.case.label(gone), self.case.label(by)
        now = parse_version(self.now[by]) >= since
        if now:
            when = f"{other} {self.now[by]} does what {name} did. Remove it."
        elif parse_version(self.then[by]) >= since:
            when = f"{other} {self.then[by]} will do what {name} does. Remove it afterwards."
        else:
            return
        yield Proposal(product=gone, why="included", text=when, by=by, now=now)

    def _spare(self) -> Iterator[Proposal]:
        """Themes not in use, but for the one to fall back on: the one of the core's maker."""
        themes = [
            c.product
            for c in self.case.site.components
            if c.product.startswith("theme/") and not c.active
        ]
        makers = {p.maker for p in self.products.values() if p.id.startswith("core/") and p.maker}
        kept = [t for t in themes if t in self.products and self.products[t].maker in makers]
        if not kept:
            return  # none of them is known to be the one to fall back on
        store = self.context.store.inventories
        usual = max(kept, key=lambda theme: len(store.installed(theme)))  # of two, what most have
        stays = self.case.label(usual)
        for theme in themes:
            if theme != usual and self._may_go(theme):
                yield Proposal(
                    product=theme,
                    why="spare",
                    text=f"{self.case.label(theme)} is a theme nobody uses here; {stays} stays to "
                    "fall back on. Remove it.",
                )

    def _copies(self) -> Iterator[Proposal]:
        """What is switched off and bears the name of another component of its kind: a second copy
        of it, in a folder of its own, that no update reaches.
        """
        for copy in self.installed:
            kind = copy.product.partition("/")[0]
            for other in self.installed:
                same = copy.name.casefold() == other.name.casefold()
                of_kind = other.product.startswith(f"{kind}/") and other.product in self.products
                if copy.product in self.products or copy.active or not (same and of_kind):
                    continue
                if copy.maker is None and self._may_go(copy.product):
                    yield Proposal(
                        product=copy.product,
                        why="copy",
                        text=f"The folder {copy.folder} holds {copy.name} {copy.version} once "
                        f"more, switched off, beside {other.version} in {other.folder}: no update "
                        "reaches it. Remove it.",
                        by=other.product,
                    )

    def _alternatives(self) -> Iterator[Proposal]:
        """Of what a theme takes in each other's place, those that are off while one is on."""
        on = {copy.product for copy in self.installed if copy.active}
        off = {copy.product for copy in self.installed if not copy.active}
        for theme in (p for p in on if p.startswith("theme/")):
            release = self.context.store.releases.find(
                self.context.store.releases.id_of(theme, self.now[theme])
            )
            bundles = release.bundles.items() if release else ()
            choice = {carried for carried, how in bundles if how.need == "alternative"}
            in_use = sorted(on.intersection(choice))
            for spare in sorted(off.intersection(choice)):
                if in_use and self._may_go(spare):
                    used, name = self.case.label(in_use[0]), self.case.label(spare)
                    yield Proposal(
                        product=spare,
                        why="alternative",
                        text=f"{self.case.label(theme)} takes {name} or {used}; {used} is in use "
                        f"and {name} is off. Remove it.",
                        by=in_use[0],
                    )

    def _may_go(self, product: str) -> bool:
        """Whether it is not this site's own, and nothing here needs it, now or after the plan."""
        if self.case.product[product].access == "custom":
            return False
        for id in self.now:
            for release in self.case.releases_of[id]:
                stands = release.version in (self.now[id], self.then.get(id))
                if stands and product in release.requires:
                    return False
        return True
