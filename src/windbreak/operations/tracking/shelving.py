"""Packages: fetched once, examined, kept for going back, and handed out by right.

Being on the shelf gives no right. A site may have a package from there that was uploaded for
it, that it ran before, or that was taken while it held a seat.
"""

from __future__ import annotations

from collections import defaultdict
from datetime import timedelta

from windbreak.core.values.accounts import Principal
from windbreak.core.values.packages import Package, ShelfRight
from windbreak.core.values.releases import Bundled, KnownRelease
from windbreak.core.versions.version import Version, parse_version
from windbreak.feeds.errors import FeedError
from windbreak.feeds.fetching import PACKAGE_LIMIT, PACKAGE_SECONDS, fetch, origin
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_codes
from windbreak.operations.tracking import catalogue, rights
from windbreak.operations.tracking.asking import credential_of
from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import examine


def put_on_shelf(
    context: Context, archive: bytes, by: Principal, sites: tuple[str, ...] = ()
) -> Package:
    """Examine an archive that a person brings and keep it; ``sites`` may have it. Writes.

    Raises Refused with what was found and what was expected; then nothing is kept.
    """
    for site in sites:
        context.store.sites.get(site)
    releases = context.store.releases

    def announced(product: str, version: str) -> str | None:
        listed = releases.find(releases.id_of(product, version))
        return listed.package.sha256 if listed is not None and listed.package else None

    try:
        package = context.shelf.add(
            archive, at=context.clock(), source=f"by hand, {by.name}", announced=announced
        )
    except PackageRefused as error:
        raise Refused("wrong-archive", f"the archive was not kept: {error}") from error
    release = releases.find(releases.id_of(package.product, package.version))
    with context.store.transaction():
        if release is None:
            catalogue.know_brought(context, package, by)
        elif release.refused is not None:
            context.store.releases.change(release.id, refused=None)
        for site in sites:
            rights.give(context, site, package.product, package.version, "uploaded for it")
        for_whom = f"for {', '.join(sites)}" if sites else "for no site by itself"
        what = f"{package.name} {package.version} put on the shelf"
        context.record(by.name, what, package.product, result=for_whom)
    context.tell("product", package.product, what)
    return package


def give(context: Context, package_id: str, site: str, by: Principal) -> ShelfRight:
    """Let a site have a package that is on the shelf. Writes."""
    package = context.store.packages.get(package_id)
    label = context.store.sites.get(site).label
    with context.store.transaction():
        right = rights.give(context, site, package.product, package.version, "uploaded for it")
        context.record(by.name, f"{label} may have {package.name} {package.version}", site)
    context.tell("site", site, "may have a package of the shelf")
    return right


def fetch_package(
    context: Context, product_id: str, version: str, site: str | None = None, *, lent: bool = False
) -> Package:
    """The package of a release, fetched and examined unless it is on the shelf. Writes.

    A product that comes only inside a theme is found by fetching a theme that carries it. With
    ``site`` its seat's code is used where the maker wants one, and its right is noted, but where
    it is ``lent``: for a run only, which may be put back. Raises
    Refused when there is no way to it, when what came is not what was announced, and while
    somebody has to decide which of two packages is right.
    """
    release = context.store.releases.find(context.store.releases.id_of(product_id, version))
    if release is not None and release.undecided:
        raise Refused(
            "republished",
            f"{release.title} came twice, with different packages, and nobody has decided which "
            f"is right: windbreak product decide {product_id} {version} first|new --why …",
        )
    kept = _in_hand(context, release, product_id, version, site)
    if kept is None and release is not None and release.package is not None:
        _fetch_release(context, release, site)
        kept = context.shelf.find(product_id, version)
    if kept is None:
        carrier = _carrier(context, product_id, version)
        if carrier is not None:
            _fetch_release(context, carrier, site)
            kept = context.shelf.find(product_id, version)
    if kept is None:
        raise Refused("no-package", f"no feed has a package of {product_id} {version}")
    product = context.store.products.find(product_id)
    if site is not None and not lent and product is not None and product.access == "licensed":
        rights.give(context, site, product_id, version, "taken under its seat")
    return kept


def _in_hand(
    context: Context, release: KnownRelease | None, product: str, version: str, site: str | None
) -> Package | None:
    """The right package of the shelf: what was brought for the site, or what the maker means."""
    right = context.store.rights.find(f"{site} {product}@{version}") if site else None
    if release is None or (right is not None and right.why == "uploaded for it"):
        return context.shelf.find(product, version)
    wanted = release.sha256 or (release.package.sha256 if release.package else None)
    kept = context.shelf.find(product, version, wanted)
    again = release.republished
    if (
        kept is not None
        and again is not None
        and again.decided == "new"
        and kept.kept_at < again.at
    ):
        return None
    return kept


def _carrier(context: Context, product: str, version: str) -> KnownRelease | None:
    """A theme's release that carries a plugin and can be fetched."""
    wanted = parse_version(version)
    for theme in context.store.releases.all():
        bundled = theme.bundles.get(product)
        if bundled is None or theme.package is None or theme.undecided:
            continue
        if parse_version(bundled.version) == wanted:
            return theme
    return None


def _fetch_release(context: Context, release: KnownRelease, site: str | None) -> None:
    assert release.package is not None  # callers look first
    source, credential = "by hand", None
    url = release.package.url
    feed = context.store.feeds.find(release.feed)
    if feed is not None:
        source, credential = feed.label, credential_of(context, feed)
        if "{code}" in url or "%7Bcode%7D" in url:
            url = _with_code(
                context, release, url, site, {origin(u) for u in (feed.url, *feed.origins)}
            )
    try:
        answer = fetch(
            context.out, url, credential=credential, limit=PACKAGE_LIMIT, seconds=PACKAGE_SECONDS
        )
        package = context.shelf.add(
            answer.body,
            at=context.clock(),
            source=source,
            product=release.product,
            version=release.version,
            sha256=release.package.sha256,
        )
    except FeedError as error:
        raise Refused("fetch-failed", f"{release.title} could not be fetched: {error}") from error
    except PackageRefused as error:
        _note_refused(context, release, error)
        raise Refused("wrong-archive", f"the package of {release.title}: {error}") from error
    _outranked(context, release, package)


def _with_code(
    context: Context,
    release: KnownRelease,
    url: str,
    site: str | None,
    home: set[tuple[str, str, int | None]],
) -> str:
    """A package's address with a site's own licence code in it; the code stays at its origins."""
    if site is None:
        raise Refused(
            "needs-a-code", f"{release.title} is fetched with a site's own code; say for which site"
        )
    code = licence_codes.code_for(context, site, release.product)
    if code is None:
        label = context.store.sites.get(site).label
        raise Refused("no-code", f"{label} has no code for {release.title}")
    if origin(url) not in home:
        raise Refused(
            "elsewhere",
            f"the package of {release.title} lies at an origin that is not registered with its "
            "feed; a site's code goes nowhere else",
        )
    return url.replace("{code}", code).replace("%7Bcode%7D", code)


def _note_refused(context: Context, release: KnownRelease, error: PackageRefused) -> None:
    context.store.releases.change(release.id, refused=str(error))
    context.tell("release", release.product, f"the package of {release.title} was refused")


def _outranked(context: Context, release: KnownRelease, package: Package) -> None:
    """What was examined outranks what the feed said: what a theme really carries. Writes."""
    update: dict[str, object] = {"sha256": package.id, "refused": None}
    carried = examine(context.shelf.read(package)).carried
    headers = [examine(data).header for _, data in carried]
    if headers:
        really = {
            h.product: Bundled(
                version=h.version,
                need=release.bundles[h.product].need
                if h.product in release.bundles
                else "optional",
            )
            for h in headers
        }
        bundled = {p: parse_version(b.version) for p, b in release.bundles.items()}
        versions = {p: parse_version(b.version) for p, b in really.items()}
        if any(bundled.get(p) != v for p, v in versions.items()):
            update["bundles"] = {**release.bundles, **really}
            update["corrected"] = "The package carries " + ", ".join(
                f"{p} {b.version}"
                + (f" and not {release.bundles[p].version}" if p in release.bundles else "")
                for p, b in sorted(really.items())
                if bundled.get(p) != versions[p]
            )
    context.store.releases.change(release.id, **update)


# Keeping and dropping.


def protected(context: Context) -> dict[str, str]:
    """The packages that stay whatever their age, with the reason. Reads."""
    running: dict[tuple[str, Version], str] = {}
    newest: dict[str, Version] = {}
    for site, product, text, _ in context.store.inventories.installed():
        version = parse_version(text)
        running[product, version] = f"{site} runs it"
        newest[product] = max(newest.get(product, version), version)
    last: dict[tuple[str, str], list[ShelfRight]] = defaultdict(list)
    for right in context.store.rights.all():
        if right.why == "run by it":
            last[right.site, right.product].append(right)
    ran_last: dict[tuple[str, Version], str] = {}
    for (site, product), ran in last.items():
        for right in sorted(ran, key=lambda r: r.at)[-2:]:
            ran_last.setdefault((product, parse_version(right.version)), f"{site} ran it last")
    kept: dict[str, str] = {}
    by_product: dict[str, list[Package]] = defaultdict(list)
    for package in context.store.packages.all():
        key = package.product, parse_version(package.version)
        reason = running.get(key) or ran_last.get(key)
        if reason:
            kept[package.id] = reason
        by_product[package.product].append(package)
    for product, packages in by_product.items():
        if not any(p.id in kept for p in packages):
            # The newest one is the last that is known to be whole.
            newest_kept = max(packages, key=lambda p: parse_version(p.version).key)
            kept[newest_kept.id] = f"it is the last good package of {product}"
    return kept


def drop(context: Context, package_id: str, by: Principal) -> None:
    """Take a package from the shelf. Writes. Raises Refused when it is kept for going back."""
    package = context.store.packages.get(package_id)
    reason = protected(context).get(package_id)
    if reason is not None:
        raise Refused("kept", f"{package.name} {package.version} stays: {reason}")
    with context.store.transaction():
        context.shelf.drop(package)
        context.record(
            by.name, f"{package.name} {package.version} taken from the shelf", package.product
        )
    context.tell("product", package.product, "a package left the shelf")


def tidy(context: Context, days: int, most_mb: int) -> list[Package]:
    """Drop what is older than so many days, then the oldest beyond so many MB. Writes.

    What is kept for going back stays in either case. The packages that were dropped.
    """
    kept = protected(context)
    before = context.clock() - timedelta(days=days)
    free = sorted(
        (p for p in context.store.packages.all() if p.id not in kept), key=lambda p: p.kept_at
    )
    room = sum(p.size for p in context.store.packages.all()) - most_mb * 2**20
    dropped = []
    for package in free:
        if package.kept_at < before or room > 0:
            context.shelf.drop(package)
            room -= package.size
            dropped.append(package)
    if dropped:
        names = ", ".join(f"{p.name} {p.version}" for p in dropped[:10])
        context.record(
            "Windbreak", f"{len(dropped)} packages left the shelf", "shelf", result=names
        )
    return dropped
