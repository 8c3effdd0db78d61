"""The four answers to "newest", kept apart for each component.

Known to the maker; carried by this site's theme; what its licence allows; what policy allows.
The last is a candidate by everything that is asked of a single version; what its neighbours
allow is the choice of ``resolve``.
"""

from __future__ import annotations

from windbreak.core.candidates import (
    AccessExclusion,
    BundleExclusion,
    ChannelExclusion,
    HoldExclusion,
    LicenceExclusion,
    Member,
    OfferExclusion,
    SoakExclusion,
)
from windbreak.core.case import Case
from windbreak.core.fleet import Value
from windbreak.core.versions import parse_version

_NOT_TO_BE_HAD = (LicenceExclusion, BundleExclusion, AccessExclusion, OfferExclusion)
_NOT_BY_POLICY = (ChannelExclusion, HoldExclusion, SoakExclusion)


class Newest(Value):
    """Four versions; None where the answer does not arise. ``carried_by`` is the theme."""

    maker: str | None
    carried: str | None = None
    carried_by: str | None = None
    licence: str | None
    policy: str | None


def newest(case: Case, member: Member) -> Newest:
    """The four answers for one component of a case."""
    known = [o.version for o in member.universe if o.version is not None]
    shut = {
        v for v, rs in member.excluded.items() if any(isinstance(r, _NOT_TO_BE_HAD) for r in rs)
    }
    put_off = {
        v for v, rs in member.excluded.items() if any(isinstance(r, _NOT_BY_POLICY) for r in rs)
    }
    had = [v for v in known if v not in shut]
    allowed = [v for v in had if v not in put_off]
    theme, carried = _carried(case, member.product)
    return Newest(
        maker=member.newest.text if member.newest else None,
        carried=carried,
        carried_by=theme,
        licence=max(had).text if had else None,
        policy=max(allowed).text if allowed else None,
    )


def _carried(case: Case, product: str) -> tuple[str | None, str | None]:
    """The version of a plugin that the site's theme, as installed, carries."""
    for component in case.site.components:
        if component.product.startswith("theme/") and component.active:
            for release in case.releases_of[component.product]:
                same = release.parsed == parse_version(component.version)
                if same and product in release.bundles:
                    return component.product, release.bundles[product]
    return None, None
