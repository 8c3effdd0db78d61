"""Why a version is not reached, and what would change that, as data.

An *exclusion* keeps a release from being a candidate; *facts* together forbid a candidate; a
*trade* is a candidate that a better choice gives up. An *act* is what somebody could do about it.
"""

from __future__ import annotations

from datetime import date
from functools import lru_cache
from typing import Annotated, Literal, get_args

from pydantic import Field

from windbreak.core.values.basics import ALIASED, Channel, Frozen
from windbreak.core.versions.version import parse_version

Way = Literal["public", "licensed", "shelf", "host", "bundle"]


SoakClass = Literal["major", "minor", "patch", "security"]


LicenceState = Literal["none", "expired", "not-covered"]


class Carrier(Frozen):
    """A theme release that carries a plugin release inside it."""

    product: str
    version: str


class ChannelExclusion(Frozen):
    kind: Literal["channel"] = "channel"
    channel: Channel


class HoldExclusion(Frozen):
    kind: Literal["hold"] = "hold"
    until: date | None
    reason: str


class SoakExclusion(Frozen):
    """``over`` is the first day on which the soak is over."""

    kind: Literal["soak"] = "soak"
    soak_class: Annotated[SoakClass, Field(alias="class")]
    over: date

    model_config = ALIASED


class LicenceExclusion(Frozen):
    kind: Literal["licence"] = "licence"
    state: LicenceState
    carried_by: tuple[Carrier, ...] = ()


class OfferExclusion(Frozen):
    kind: Literal["offer"] = "offer"


class BundleExclusion(Frozen):
    kind: Literal["bundle"] = "bundle"
    carried_by: tuple[Carrier, ...]


class AccessExclusion(Frozen):
    kind: Literal["access"] = "access"


class FromExclusion(Frozen):
    kind: Literal["from"] = "from"
    needs: str


Exclusion = (
    ChannelExclusion
    | HoldExclusion
    | SoakExclusion
    | LicenceExclusion
    | OfferExclusion
    | BundleExclusion
    | AccessExclusion
    | FromExclusion
)


class Fact(Frozen):
    """One of the things that together make a version impossible."""

    fact: Literal["requires", "conflicts", "clash", "lockstep", "limit", "bundle"]
    subject: str | None = None
    object: str | None = None
    product: str | None = None


class Conflict(Frozen):
    """The version is a candidate, and these facts together forbid it; none can be left out."""

    kind: Literal["conflict"] = "conflict"
    facts: tuple[Fact, ...]


class Objective(Frozen):
    """The vector that is made smallest, compared from the top."""

    broken: int
    exposure: int
    behind: int
    lag: int
    untested: int
    moves: int


class Trade(Frozen):
    """The version is possible, but the best choice with it, ``instead``, is worse."""

    kind: Literal["trade"] = "trade"
    instead: Objective
    pay: tuple[str, ...]


Reason = Exclusion | Conflict | Trade


class Unshipped(Frozen):
    """``by`` has no release yet that would do: the theme that carries the plugin, or a product
    whose newest release is too old for what is asked.
    """

    kind: Literal["unshipped"] = "unshipped"
    by: str


class RootReason(Frozen):
    """Where a chain of reasons ends: what keeps a release of a product back by itself.

    ``version`` is None for a product that is not to be had at all.
    """

    product: str
    version: str | None
    reason: Exclusion | Conflict | Trade | Unshipped


ActKind = Literal["wait", "activate", "lift-hold", "licence", "offer", "remove", "channel", "shelf"]


class Act(Frozen):
    """One act; the fields its kind does not use are None."""

    act: ActKind
    product: str | None = None
    version: str | None = None
    channel: Channel | None = None
    until: date | None = None


@lru_cache(maxsize=4096)
def act_of(
    kind: ActKind,
    product: str | None = None,
    version: str | None = None,
    channel: Channel | None = None,
    until: date | None = None,
) -> Act:
    """An act; equal ones are one."""
    return Act(act=kind, product=product, version=version, channel=channel, until=until)


_ORDER = {kind: place for place, kind in enumerate(get_args(ActKind))}


@lru_cache(maxsize=4096)
def rank(act: Act) -> tuple[object, ...]:
    """The place of an act among equals: by kind, then by product, day and version."""
    version = parse_version(act.version).key if act.version else ()
    return (_ORDER[act.act], act.until or date.min, act.product or "", version, act.channel or "")
