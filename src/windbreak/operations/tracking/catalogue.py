"""The catalogue: what was announced, taken in once, with findings instead of silent changes.

What is known of a release is never taken back by a failed look. A version that comes again with
another package goes to no site until a person has decided; a release that a whole look no longer
lists is withdrawn; sources that disagree are told of, and the one believed is named.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from datetime import datetime

from windbreak.core.values.accounts import Principal
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.feeds import Disagreement, Feed, Found
from windbreak.core.values.packages import Package
from windbreak.core.values.products import KnownProduct, ProductChange
from windbreak.core.values.releases import (
    BY_HAND,
    Announcement,
    DecideRepublished,
    KnownRelease,
    NewRelease,
    Republished,
)
from windbreak.core.versions.version import Version, parse_version
from windbreak.feeds.announced import Announced
from windbreak.feeds.errors import FeedUnreadable
from windbreak.feeds.recipes import name_of
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused

# What a later announcement may set right of a release that is known.
_REVISED = (
    *("title", "text", "published", "channel", "requires", "conflicts", "tested", "from_"),
    *("bundles", "needs", "replaces", "licence", "changes", "tasks", "watch"),
)


@dataclass
class Taken:
    """What a look brought: ids of what is new, what was passed over, what came again with another
    package, and whether more changed.
    """

    ids: tuple[str, ...] = ()
    faults: tuple[str, ...] = ()
    again: tuple[str, ...] = ()
    products: tuple[str, ...] = ()
    noted: bool = False


@dataclass
class _Intake:
    context: Context
    feed: Feed
    now: datetime
    maker: str
    by_product: dict[str, dict[Version, str]] = field(default_factory=dict)
    ids: list[str] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)
    again: list[str] = field(default_factory=list)
    settled: set[str] = field(default_factory=set)  # products of which no more is to be learnt
    noted: bool = False

    def versions(self, product: str) -> dict[Version, str]:
        """The ids of a product's known releases by version; read once."""
        if product not in self.by_product:
            ids = self.context.store.releases.ids_of(product)
            self.by_product[product] = {parse_version(id.partition("@")[2]): id for id in ids}
        return self.by_product[product]

    def find(self, product: str, version: Version) -> KnownRelease | None:
        """A known release, or None."""
        id = self.versions(product).get(version)
        return self.context.store.releases.find(id) if id else None

    def keep(self, release: KnownRelease, *, new: bool = False) -> None:
        releases = self.context.store.releases
        (releases.add if new else releases.put)(release)
        self.versions(release.product)[parse_version(release.version)] = release.id
        self.noted = True


def take_in(
    context: Context,
    feed: Feed,
    announced: Announced,
    now: datetime,
    before: Announced | None = None,
) -> Taken:
    """Keep what is new, set right what changed, note what came again or vanished. Writes.

    ``before`` is what this feed's last good look brought: what it said then, word by word, was
    taken in then, and what it lists of a product still can't have vanished.
    """
    same = {id(a) for a in before.announcements} if before else set()
    maker = announced.maker or feed.label
    intake = _Intake(context, feed, now, maker, faults=list(announced.faults))
    intake.settled |= {a.product for a in before.announcements} if before else set()
    with context.store.transaction():
        listed: dict[str, set[Version]] = defaultdict(set)
        for announcement in announced.announcements:
            version = parse_version(announcement.version)
            if version in listed[announcement.product]:
                intake.faults.append(
                    f"{announcement.product} {announcement.version} is listed twice; "
                    "the first one was taken"
                )
                continue
            listed[announcement.product].add(version)
            if id(announcement) not in same:
                _take(intake, announcement, version)
        for advisory in announced.advisories:
            _take_advisory(intake, advisory)
        if announced.whole and feed.kind != "advisories" and not _all_still(announced, before):
            _find_vanished(intake, listed, announced, before)
        elif announced.advisories and not announced.faults:
            _drop_advisories(intake, announced)
    return Taken(
        tuple(intake.ids),
        tuple(intake.faults),
        tuple(intake.again),
        tuple(sorted(listed) or sorted({a.product for a in announced.advisories})),
        intake.noted,
    )


def refuse_emptied(context: Context, feed: Feed, announced: Announced) -> None:
    """A document that lists nothing any more is no word about every product at once.

    Raises FeedUnreadable, so that nothing is inferred from it. Reads.
    """
    if feed.kind == "advisories" or announced.announcements or announced.withdrawn:
        return
    releases = context.store.releases.all(feed=feed.id)
    if releases and not announced.faults:
        raise FeedUnreadable(f"it lists nothing, and it listed {len(releases)} releases before")
    if releases:
        raise FeedUnreadable(f"none of what it lists can be read; {announced.faults[0]}")


def _take(intake: _Intake, announcement: Announcement, version: Version) -> None:
    if announcement.product not in intake.settled:
        intake.settled.add(announcement.product)
        _know_product(intake, announcement)
    listed = intake.find(announcement.product, version)
    if listed is None:
        # Every field was looked at when the announcement was read.
        release = KnownRelease.model_construct(
            **dict(announcement),
            id=f"{announcement.product}@{announcement.version}",
            feed=intake.feed.id,
            routes=(intake.feed.id,),
            taken_at=intake.now,
        )
        intake.keep(release, new=True)
        intake.ids.append(release.id)
        return
    changed = _revised(intake, listed, announcement)
    if changed != listed:
        intake.keep(changed)


def _revised(intake: _Intake, release: KnownRelease, again: Announcement) -> KnownRelease:
    """A known release as it stands after it was announced again; the first feed's word counts."""
    update: dict[str, object] = {}
    if intake.feed.id not in release.routes:
        update["routes"] = (*release.routes, intake.feed.id)
    if release.feed in (intake.feed.id, BY_HAND):
        update |= {name: getattr(again, name) for name in _REVISED}
        if release.corrected is not None:
            update["bundles"] = release.bundles  # the package itself said otherwise
        update["feed"] = intake.feed.id
        if release.withdrawn_at is not None:
            update["withdrawn_at"] = None
    if again.package is not None:
        if release.package is None:
            update["package"] = again.package
            update["feed"] = intake.feed.id
        if (first := _other_package(release, again)) is not None:
            before = release.republished
            if before is None or before.now.sha256 != again.package.sha256:
                update["republished"] = Republished(
                    at=intake.now, feed=intake.feed.id, first=first, now=again.package
                )
                intake.again.append(
                    f"{release.id} came again with another package; it goes to no site until "
                    "somebody has decided"
                )
        elif (
            release.package is not None
            and release.feed == intake.feed.id
            and release.package.url != again.package.url
        ):
            update["package"] = release.package.model_copy(update={"url": again.package.url})
            update["refused"] = None  # it lies elsewhere now: it may be had again
    return release.model_copy(update=update)


def _other_package(release: KnownRelease, again: Announcement) -> str | None:
    """The first package's sum (or size) when the one announced now is another; the one in hand, or
    the one that was announced.
    """
    assert again.package is not None  # callers look first
    now = again.package
    for was in (release.sha256, release.package.sha256 if release.package else None):
        if was and now.sha256:
            return was if was.lower() != now.sha256.lower() else None
    if release.package and release.package.size and now.size and release.package.size != now.size:
        return f"{release.package.size} bytes"
    return None


def _take_advisory(intake: _Intake, advisory: KnownAdvisory) -> None:
    for id in (advisory.id, *advisory.aliases):
        # The same advisory by several routes is one.
        for other in intake.context.store.advisories.all(product=advisory.product):
            if other.feed != advisory.feed and id in (other.id, *other.aliases):
                return
    if intake.context.store.advisories.find(advisory.key) != advisory:
        intake.context.store.advisories.put(advisory, advisory.key)
        intake.ids.append(advisory.id)


def _drop_advisories(intake: _Intake, announced: Announced) -> None:
    """An advisory that a look no longer lists is taken back by who published it.

    Callers look first that everything was read, and that something of ours is listed at all: a
    weakness is not forgotten because a document broke.
    """
    kept = {advisory.key for advisory in announced.advisories}
    for advisory in intake.context.store.advisories.all(feed=intake.feed.id):
        if advisory.key not in kept:
            intake.context.store.advisories.drop(advisory.key)
            intake.noted = True


def _all_still(announced: Announced, before: Announced | None) -> bool:
    """Whether a whole look lists all that the one before it listed, and withdraws the same."""
    return (
        before is not None
        and before.whole
        and (before.withdrawn, before.unread) == (announced.withdrawn, announced.unread)
        and {(a.product, a.version) for a in before.announcements}
        <= {(a.product, a.version) for a in announced.announcements}
    )


def _find_vanished(
    intake: _Intake,
    listed: dict[str, set[Version]],
    announced: Announced,
    before: Announced | None,
) -> None:
    """Releases of this feed that it lists no longer: withdrawn, unless they only grew old.

    A feed may list its newest releases only: what is older than everything it lists of a product
    is not taken for withdrawn. Of a product of which something could not be read, and of a
    document that lists nothing, nothing is inferred; what the maker says in words always counts.
    """
    context, feed, now = intake.context, intake.feed, intake.now
    own = context.store.releases.products_with_releases(feed.id)
    listed_before: dict[str, set[Version]] = defaultdict(set)
    for announcement in before.announcements if before and before.whole else ():
        listed_before[announcement.product].add(parse_version(announcement.version))
    for product_id in sorted(own):
        here = listed.get(product_id, set())
        withdrawn = announced.withdrawn.get(product_id)
        if withdrawn is None and (product_id in announced.unread or not listed):
            continue
        still = bool(listed_before[product_id]) and listed_before[product_id] <= here
        missing = [] if still else [v for v in intake.versions(product_id) if v not in here]
        for version in missing:
            release = intake.find(product_id, version)
            assert release is not None  # its id was listed just now
            gone = release.feed == feed.id and release.withdrawn_at is None
            if gone and (not here or version > min(here)):
                intake.keep(release.model_copy(update={"withdrawn_at": now}))
        product = context.store.products.find(product_id)
        if product is None:
            continue
        if withdrawn is None and here:
            _set_withdrawn(intake, product, None, "")
        elif withdrawn is not None:
            _set_withdrawn(
                intake, product, now, withdrawn or f"{feed.label} says that it is withdrawn."
            )
        else:
            _set_withdrawn(intake, product, now, f"{feed.label} lists it no longer.")
    for product_id, text in announced.withdrawn.items():
        product = context.store.products.find(product_id)
        if product is not None and product_id not in own and product.feed in (feed.id, None):
            # What another maker's feed tells of is not this one's to withdraw.
            reason = text or f"{feed.label} says that it is withdrawn."
            _set_withdrawn(intake, product, now, reason)
        elif product is None:
            kind = product_id.partition("/")[0]
            fields = {"id": product_id, "kind": kind, "name": name_of(product_id)}
            added = KnownProduct.model_validate(
                {**fields, "access": "public", "maker": intake.maker, "feed": feed.id}
            )
            context.store.products.add(added)
            _set_withdrawn(intake, added, now, text or f"{feed.label} says that it is withdrawn.")


def _set_withdrawn(intake: _Intake, product: KnownProduct, at: datetime | None, text: str) -> None:
    if (product.withdrawn_at is None) != (at is None) or (at and product.withdrawn_text != text):
        intake.context.store.products.change(
            product.id, withdrawn_at=product.withdrawn_at or at if at else None, withdrawn_text=text
        )
        intake.noted = True


def _know_product(intake: _Intake, announcement: Announcement) -> None:
    """Learn a product from its first release; a person's word on it is never changed back."""
    context, feed = intake.context, intake.feed
    product = context.store.products.find(announcement.product)
    if product is not None:
        if product.feed is None and feed.id != BY_HAND:
            context.store.products.change(
                product.id, feed=feed.id, maker=product.maker or intake.maker
            )
        elif product.access == "bundled-only" and announcement.package is not None:
            # It came only inside a theme till now; this feed has it by itself.
            access = "public" if feed.sign_in == "none" else "licensed"
            context.store.products.change(
                product.id, access=access, feed=feed.id, maker=intake.maker
            )
        return
    kind = announcement.product.partition("/")[0]
    name = announcement.title.removesuffix(announcement.version).strip() or announcement.product
    if kind == "runtime":
        access = "host"
    elif announcement.package is None:
        access = "bundled-only"
    else:
        access = "public" if feed.sign_in == "none" else "licensed"
    context.store.products.add(
        KnownProduct.model_validate(
            {
                "id": announcement.product,
                "kind": kind,
                "name": name[:120],
                "access": access,
                "maker": intake.maker,
                "feed": feed.id,
            }
        )
    )


_FIELDS = {"major_place": "the place of its major number", "helps": "whom it helps"}


def change_product(
    context: Context, product: str, change: ProductChange, by: Principal
) -> KnownProduct:
    """Set what a person knows of a product. Writes."""
    fields = change.model_dump(exclude_none=True)
    before = context.store.products.get(product)
    changed = context.store.products.change(product, **fields)
    if changed == before:
        return changed
    what = ", ".join(_FIELDS.get(field, field) for field in fields)
    context.record(by.name, f"{changed.name}: {what} set", product)
    context.tell("product", product, "set")
    return changed


def type_in(context: Context, new: NewRelease, by: Principal) -> KnownRelease:
    """Take in a release that no feed tells of. Writes. Raises Refused when it is known."""
    version = parse_version(new.version)
    for listed in context.store.releases.all(product=new.product):
        if parse_version(listed.version) == version:
            raise Refused("known-release", f"{listed.title} is known already, from {listed.feed}")
    name = _by_hand(context, new.product, name_of(new.product)).name
    release = KnownRelease(
        **new.model_dump(by_alias=False, exclude={"source"}),
        title=f"{name} {new.version}",
        text=f"Typed in by {by.name}; from {new.source}.",
        id=f"{new.product}@{new.version}",
        feed=BY_HAND,
        routes=(BY_HAND,),
        taken_at=context.clock(),
    )
    with context.store.transaction():
        context.store.releases.add(release)
        context.record(by.name, f"{release.title} typed in", new.product, why=new.source)
    context.tell("release", new.product, f"{release.title} typed in")
    return release


def _by_hand(context: Context, product: str, name: str) -> KnownProduct:
    """A product; made where nobody told of it. There is no way to it then but the shelf: no feed
    has it, and no theme carries it. Writes.
    """
    if context.store.products.find(product) is None:
        kind = product.partition("/")[0]
        fields = {"id": product, "kind": kind, "name": name, "access": "bundled-only"}
        context.store.products.add(KnownProduct.model_validate(fields))
    return context.store.products.get(product)


def know_brought(context: Context, package: Package, by: Principal) -> None:
    """Take in the release of a package that a person brought, where it is newer than all that is
    known of its product: nobody announced it, and whoever it is not given to does not have it.
    Within a transaction. Writes.
    """
    version = parse_version(package.version)
    releases = context.store.releases.all(product=package.product)
    if any(parse_version(release.version) >= version for release in releases):
        return
    product = _by_hand(context, package.product, package.name)
    context.store.releases.add(
        KnownRelease(
            product=package.product,
            version=package.version,
            published=context.clock().date(),
            title=f"{product.name} {package.version}",
            text=f"Brought by {by.name} as a package; no feed tells of it.",
            id=f"{package.product}@{package.version}",
            feed=BY_HAND,
            routes=(BY_HAND,),
            taken_at=context.clock(),
            sha256=package.id,
        )
    )


def decide(
    context: Context, product: str, version: str, choice: DecideRepublished, by: Principal
) -> KnownRelease:
    """Say which package of a version that came twice is right. Writes.

    Raises Refused when there is nothing to decide.
    """
    id = context.store.releases.id_of(product, version)
    with context.store.transaction():
        release = context.store.releases.get(id)
        if release.republished is None or not release.republished.open:
            raise Refused(
                "nothing-to-decide", f"{release.title} did not come twice, or it is decided"
            )
        decided = release.republished.model_copy(
            update={"decided": choice.keep, "by": by.name, "why": choice.why}
        )
        update: dict[str, object] = {"republished": decided}
        if choice.keep == "new":
            update |= {"package": decided.now, "sha256": None, "refused": None}
        changed = context.store.releases.change(id, **update)
        what = f"{release.title}: the {choice.keep} package is the right one"
        context.record(by.name, what, product, why=choice.why)
    context.tell("release", product, what)
    return changed


def disagreements(context: Context, feed: Feed, announced: Announced) -> tuple[Disagreement, ...]:
    """Where a feed's headline and its list do not agree on what is newest. Reads.

    What a package says of itself outranks the list, and the list outranks the headline.
    """
    newest: dict[str, Announcement] = {}
    for announcement in announced.announcements:
        if announcement.product not in announced.headline or announcement.channel != "stable":
            continue
        listed = newest.get(announcement.product)
        if listed is None or parse_version(announcement.version) > parse_version(listed.version):
            newest[announcement.product] = announcement
    texts = []
    for product, headline in sorted(announced.headline.items()):
        release = newest.get(product)
        try:
            same = release is not None and parse_version(headline) == parse_version(release.version)
        except ValueError:
            continue
        if not same:
            texts.append(_disagreement(context, product, headline, release))
    return tuple(texts)


def _disagreement(
    context: Context, product_id: str, headline: str, release: Announcement | None
) -> Disagreement:
    product = context.store.products.find(product_id)
    name = product.name if product else product_id
    if release is None:
        text = f"Its headline says {name} {headline}, and its list has no release of it."
        return Disagreement(product=product_id, headline=headline, believed="headline", text=text)
    in_hand = context.shelf.find(product_id, release.version)
    believed: Found = "package" if in_hand else "changelog"
    line = f"Its headline says {name} {headline}, its list {release.version}"
    if in_hand is not None:
        line += f", and the package itself {in_hand.version}"
    because = "the package outranks both" if in_hand else "the list outranks the headline"
    return Disagreement(
        product=product_id,
        headline=headline,
        changelog=release.version,
        package=in_hand.version if in_hand else None,
        believed=believed,
        text=f"{line}. Believed: {release.version}, since {because}.",
    )
