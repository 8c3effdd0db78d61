"""The four answers to "newest", kept apart for each component.

Known to the maker; carried by this site's theme; what its licence allows; what policy allows.
They are independent of each other: policy answers whatever the licence says. What neighbours allow
is the choice of ``resolve``.
"""

from __future__ import annotations

from windbreak.core.bits import bits
from windbreak.core.case.candidates import Member, in_channel, reasons
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.values.reasons import (
    AccessExclusion,
    BundleExclusion,
    ChannelExclusion,
    HoldExclusion,
    LicenceExclusion,
    OfferExclusion,
    SoakExclusion,
)
from windbreak.core.values.verdicts import Newest
from windbreak.core.versions.version import Version, parse_version

_NOT_TO_BE_HAD = (LicenceExclusion, BundleExclusion, AccessExclusion, OfferExclusion)


_NOT_BY_POLICY = (ChannelExclusion, HoldExclusion, SoakExclusion)


def newest(case: Case, catalogue: Catalogue, member: Member) -> Newest:
    """The four answers for one component of a case."""
    had: Version | None = None
    allowed = member.installed
    for number in bits(member.universe & ~(1 << member.start)):
        version = member.version(number)
        assert version is not None  # a component is at some version
        if member.installed is not None and version < member.installed:
            continue
        exclusions = reasons(case, catalogue, member, number)
        if not any(isinstance(r, _NOT_TO_BE_HAD) for r in exclusions):
            had = version
        if not any(isinstance(r, _NOT_BY_POLICY) for r in exclusions):
            allowed = version
    if had is None and _has_a_right(case, member):
        had = member.installed
    top = (
        member.line.versions[listed.bit_length() - 2]
        if (listed := _announced(case, member))
        else None
    )
    theme, carried = _carried(case, member.product)
    return Newest(
        maker=top.text if top else None,
        carried=carried,
        carried_by=theme,
        licence=had.text if had else None,
        policy=allowed.text if allowed else None,
    )


def _announced(case: Case, member: Member) -> int:
    """The releases that its maker tells of, as bits; none of what was made here or withdrawn."""
    if member.line.product.closed:
        return 0
    return in_channel(case, member.line)


def _has_a_right(case: Case, member: Member) -> bool:
    """Whether its releases may be taken at all: it asks for no licence, or has one, or comes inside
    a theme.
    """
    if member.line.product.access != "licensed":
        return True
    licensed = any(licence.product == member.product for licence in case.site.licences)
    return licensed or _carried(case, member.product)[0] is not None


def _carried(case: Case, product: str) -> tuple[str | None, str | None]:
    """The version of a plugin that the site's theme, as installed, carries."""
    for component in case.site.components:
        if component.product.startswith("theme/") and component.active:
            for release in case.releases_of[component.product]:
                same = release.parsed == parse_version(component.version)
                if same and product in release.bundles:
                    return component.product, release.bundles[product]
    return None, None
