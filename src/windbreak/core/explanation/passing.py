"""What a move from one version to another passes, and how long a carried plugin takes to come.

A hop inherits what it passes: changes, the form of licence, tasks and watch items of every
release between its start and its end, not only of the end. A release that tells of no changes is
counted as silent: silence is not "no change". Source: docs/tracking.md.
"""

from __future__ import annotations

from collections.abc import Iterable
from statistics import median

from windbreak.core.values.basics import Day, ProductId, Value
from windbreak.core.values.releases import (
    AnnouncedTask,
    Change,
    ChangeKind,
    KnownRelease,
    LicenceTerms,
    WatchItem,
)
from windbreak.core.versions.version import Version, parse_version

CHANGE_KINDS: tuple[ChangeKind, ...] = ("security", "fix", "feature", "breaking")


class PassedChange(Value):
    """A change with the version that brought it."""

    version: str
    change: Change


class Passed(Value):
    """What lies between two versions of a product, the end included and the start not.

    ``counts`` are changes by kind; ``licence`` is the form asked for on the way, where it is
    another one than the start's, with ``licence_at`` the version that brings it.
    """

    product: ProductId
    start: str
    end: str
    releases: tuple[str, ...]
    silent: tuple[str, ...]
    counts: dict[ChangeKind, int]
    changes: tuple[PassedChange, ...]
    licence: LicenceTerms | None = None
    licence_at: str | None = None
    tasks: tuple[AnnouncedTask, ...] = ()
    watch: tuple[WatchItem, ...] = ()
    since: Day | None = None


def passed(product: str, releases: Iterable[KnownRelease], start: Version, end: Version) -> Passed:
    """What a move passes. Pre-releases count only where the end is one itself.

    A way down, or none, passes nothing.
    """
    ordered = sorted(releases, key=lambda r: parse_version(r.version).key)
    stable = [r for r in ordered if r.channel == "stable" or parse_version(r.version) == end]
    between = [r for r in stable if start < parse_version(r.version) <= end]
    counts: dict[ChangeKind, int] = dict.fromkeys(CHANGE_KINDS, 0)
    changes: list[PassedChange] = []
    for release in between:
        for change in release.changes:
            counts[change.kind] += 1
            changes.append(PassedChange(version=release.version, change=change))
    licence, licence_at = _licence(stable, between, start)
    return Passed(
        product=product,
        start=start.text,
        end=end.text,
        releases=tuple(r.version for r in between),
        silent=tuple(r.version for r in between if not r.changes),
        counts=counts,
        changes=tuple(changes),
        licence=licence,
        licence_at=licence_at,
        tasks=tuple(dict.fromkeys(task for r in between for task in r.tasks)),
        watch=tuple(dict.fromkeys(item for r in between for item in r.watch)),
        since=min((r.published for r in between), default=None),
    )


def _licence(
    stable: list[KnownRelease], between: list[KnownRelease], start: Version
) -> tuple[LicenceTerms | None, str | None]:
    """The last form that is asked for on the way, where the start had another one."""
    before = [r.licence for r in stable if r.licence and parse_version(r.version) <= start]
    form = before[-1].form if before else None
    terms, at = None, None
    for release in between:
        if release.licence is not None and release.licence.form != form:
            terms, at, form = release.licence, release.version, release.licence.form
    return terms, at


class Lag(Value):
    """How long a theme takes to carry a plugin's releases, from the record.

    ``days`` is the median over ``releases`` of them; None where there is no record.
    """

    theme: ProductId
    plugin: ProductId
    days: int | None
    releases: int


def lag(
    theme: str, plugin: str, themes: Iterable[KnownRelease], plugins: Iterable[KnownRelease]
) -> Lag:
    """How long a theme takes: for each version it carried, its first theme release after it."""
    published = {parse_version(r.version): r.published for r in plugins}
    first: dict[Version, int] = {}
    for release in sorted(themes, key=lambda r: r.published):
        bundled = release.bundles.get(plugin)
        if bundled is None:
            continue
        version = parse_version(bundled.version)
        if version in published and version not in first:
            first[version] = max(0, (release.published - published[version]).days)
    days = round(median(first.values())) if first else None
    return Lag(theme=theme, plugin=plugin, days=days, releases=len(first))
