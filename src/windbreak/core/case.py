"""The case: one site's situation, frozen, as types and as a file.

Source of the format: docs/reasoning.md, "The case file". A document is read whole or refused
whole: every fault it has is reported at once, each with its JSON path. This module does not
reason; it only makes sure that what is reasoned about can be.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, date, datetime
from functools import cached_property
from typing import Annotated, Final, Literal, cast

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    ValidationError,
)

from windbreak.core.errors import CaseError, CoreError, Fault, RangeError, VersionError
from windbreak.core.versions import Version, parse_range, parse_version

FORMAT: Final = "windbreak-case/1"

# What an advisory weighs in the exposure of a choice.
SEVERITY: Final = {"critical": 64, "high": 16, "medium": 4, "low": 1}

Kind = Literal["core", "theme", "plugin", "runtime"]
Access = Literal["public", "licensed", "bundled-only", "custom", "host"]
Channel = Literal["stable", "preview"]
Match = Literal["exact", "minor", "major"]
Severity = Literal["low", "medium", "high", "critical"]


def _is_version(text: str) -> str:
    parse_version(text)
    return text


def _is_range(text: str) -> str:
    parse_range(text)
    return text


def _is_day(value: object) -> object:
    if isinstance(value, str):
        try:
            if len(value) == 10:
                return date.fromisoformat(value)
        except ValueError:
            pass
        raise ValueError(f"{value!r} is not a date; write it as 2026-11-24")
    if isinstance(value, date) and not isinstance(value, datetime):
        return value
    raise ValueError("expected a date, as 2026-11-24")


def _is_instant(value: object) -> object:
    if isinstance(value, str):
        try:
            read = datetime.fromisoformat(value) if "T" in value.upper() else None
        except ValueError:
            read = None
        if read is not None and read.tzinfo is not None:
            return read
        raise ValueError(f"{value!r} is not an instant; write it as 2026-11-24T01:10:00Z")
    if isinstance(value, datetime):
        return value
    raise ValueError("expected an instant, as 2026-11-24T01:10:00Z")


def _is_id(text: str) -> str:
    kind, slash, slug = text.partition("/")
    if kind not in ("core", "theme", "plugin", "runtime") or not slash or not slug.strip():
        raise ValueError(f"{text!r} is not a product id; write it as plugin/oarlock")
    return text


VersionText = Annotated[str, AfterValidator(_is_version)]
RangeText = Annotated[str, AfterValidator(_is_range)]
Day = Annotated[date, BeforeValidator(_is_day)]
Instant = Annotated[AwareDatetime, BeforeValidator(_is_instant)]
ProductId = Annotated[str, AfterValidator(_is_id)]


class Frozen(BaseModel):
    """A value that can't be changed and has no keys but its own."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)


class Product(Frozen):
    """Something that is installed on sites. ``closed``: its maker has withdrawn it."""

    id: ProductId
    kind: Kind
    access: Access
    name: str | None = None
    major_place: Annotated[int, Field(ge=1)] = 1
    closed: bool = False

    @property
    def label(self) -> str:
        return self.name or self.id


class Release(Frozen):
    """One version of a product, with what its maker says of it."""

    product: ProductId
    version: VersionText
    published: Day
    channel: Channel = "stable"
    requires: dict[str, RangeText] = Field(default_factory=dict)
    conflicts: dict[str, RangeText] = Field(default_factory=dict)
    tested: dict[str, VersionText] = Field(default_factory=dict)
    bundles: dict[str, VersionText] = Field(default_factory=dict)
    from_: Annotated[RangeText, Field(alias="from")] = "*"

    model_config = ConfigDict(
        frozen=True, extra="forbid", strict=True, populate_by_name=True, serialize_by_alias=True
    )

    @cached_property
    def parsed(self) -> Version:
        return parse_version(self.version)


class Lockstep(Frozen):
    """Products whose versions must match: exactly, in two numbers, or in the first."""

    products: tuple[ProductId, ...]
    match: Match


class Advisory(Frozen):
    """A published weakness of a range of versions."""

    id: str
    product: ProductId
    affected: RangeText
    severity: Severity


class ClashSide(Frozen):
    product: ProductId
    range: RangeText


class Clash(Frozen):
    """Two ranges of two products that are known not to work together."""

    a: ClashSide
    b: ClashSide
    note: str = ""


class Component(Frozen):
    """One product as installed on the site."""

    product: ProductId
    version: VersionText
    active: bool = True


class Licence(Frozen):
    """The right to take releases of a product; ``None`` means without end."""

    product: ProductId
    range: RangeText = "*"
    covers_until: Day | None = None
    expires: Day | None = None


class ShelfItem(Frozen):
    """A package in hand that this site may have."""

    product: ProductId
    version: VersionText


class CaseSite(Frozen):
    id: str
    components: tuple[Component, ...]
    offers: dict[ProductId, tuple[VersionText, ...]] = Field(default_factory=dict)
    licences: tuple[Licence, ...] = ()
    shelf: tuple[ShelfItem, ...] = ()


class Hold(Frozen):
    """A decision not to move a product; it stands through the day ``until``."""

    product: ProductId
    range: RangeText = "*"
    until: Day | None = None
    reason: str


class Soak(Frozen):
    """How many days old a release must be, by the kind of move."""

    major: Annotated[int, Field(ge=0)] = 0
    minor: Annotated[int, Field(ge=0)] = 0
    patch: Annotated[int, Field(ge=0)] = 0
    security: Annotated[int, Field(ge=0)] = 0


class Policy(Frozen):
    """What the house decided for a site. ``soaks`` and ``channels_of`` are for single products and
    outrank what is for all.
    """

    holds: tuple[Hold, ...] = ()
    soak: Soak = Soak()
    soaks: dict[ProductId, Soak] = Field(default_factory=dict)
    channels: tuple[Channel, ...] = ("stable",)
    channels_of: dict[ProductId, tuple[Channel, ...]] = Field(default_factory=dict)
    install_required: bool = True
    order: tuple[Kind, ...] = ("runtime", "plugin", "theme", "core")

    def soak_of(self, product: str) -> Soak:
        return self.soaks.get(product, self.soak)

    def channels_for(self, product: str) -> tuple[Channel, ...]:
        return self.channels_of.get(product, self.channels)


class Case(Frozen):
    """One site's situation. Everything the reasoning may know is in here."""

    format: Literal["windbreak-case/1"] = FORMAT
    at: Instant
    products: tuple[Product, ...]
    releases: tuple[Release, ...] = ()
    lockstep: tuple[Lockstep, ...] = ()
    advisories: tuple[Advisory, ...] = ()
    clashes: tuple[Clash, ...] = ()
    site: CaseSite
    policy: Policy = Policy()

    @property
    def day(self) -> date:
        """The day of ``at`` in UTC, the one that dates are compared with."""
        return self.at.astimezone(UTC).date()

    @cached_property
    def product(self) -> Mapping[str, Product]:
        return {p.id: p for p in self.products}

    @cached_property
    def releases_of(self) -> Mapping[str, tuple[Release, ...]]:
        """The known releases by product, lowest first; a custom product has none."""
        found: dict[str, list[Release]] = {p.id: [] for p in self.products}
        for release in self.releases:
            if self.product[release.product].access != "custom":
                found[release.product].append(release)
        return {p: tuple(sorted(rs, key=lambda r: r.parsed.key)) for p, rs in found.items()}

    def label(self, product: str) -> str:
        known = self.product.get(product)
        return known.label if known else product

    def to_json(self) -> str:
        """The case as its file: readable back to an equal case."""
        return self.model_dump_json(indent=1)


def read_case(text: str | bytes) -> Case:
    """Read a case file. Raises CaseError with every fault of the document."""
    try:
        raw = json.loads(text, object_pairs_hook=_no_twins, parse_constant=_no_constant)
    except _Twin as twin:
        raise CaseError([Fault("$", f"the key {twin.key!r} stands twice in one object")]) from None
    except (ValueError, RecursionError) as error:
        raise CaseError([Fault("$", f"this is not JSON: {error}")]) from None
    return _case(raw, text)


def case_from(raw: object) -> Case:
    """Read a case from its JSON value. Raises CaseError with every fault of the document."""
    return _case(raw, json.dumps(raw))


def _case(raw: object, text: str | bytes) -> Case:
    if not isinstance(raw, dict):
        raise CaseError([Fault("$", "a case is one JSON object")])
    faults: dict[str, Fault] = {}
    case = None
    if "format" not in raw:
        faults["$.format"] = Fault("$.format", f"required; it must be {FORMAT!r}")
    try:
        case = Case.model_validate_json(text)
    except ValidationError as error:
        for fault in _model_faults(error):
            faults.setdefault(fault.path, fault)
    for fault in _cross_faults(raw):
        faults.setdefault(fault.path, fault)
    if case is None or faults:
        raise CaseError(list(faults.values()))
    return case


class _Twin(Exception):
    def __init__(self, key: str) -> None:
        self.key = key


def _no_twins(pairs: list[tuple[str, object]]) -> dict[str, object]:
    found: dict[str, object] = {}
    for key, value in pairs:
        if key in found:
            raise _Twin(key)
        found[key] = value
    return found


def _no_constant(name: str) -> object:
    raise ValueError(f"{name} is not JSON")


def _path(parts: Iterable[object]) -> str:
    path = "$"
    for part in parts:
        if isinstance(part, int):
            path += f"[{part}]"
        elif isinstance(part, str) and part.replace("_", "").isalnum():
            path += f".{part}"
        elif part != "[key]":
            path += f"[{json.dumps(part)}]"
    return path


def _model_faults(error: ValidationError) -> Iterator[Fault]:
    for one in error.errors(include_url=False):
        reason = one["msg"]
        context = one.get("ctx") or {}
        cause = context.get("error")
        if isinstance(cause, (VersionError, RangeError)):
            reason = str(cause)
        elif one["type"] == "extra_forbidden":
            reason = "this key is unknown"
        elif one["type"] == "missing":
            reason = "required, but missing"
        elif cause is not None:
            reason = str(cause)
        yield Fault(_path(one["loc"]), reason)


def _cross_faults(raw: Mapping[str, object]) -> Iterator[Fault]:
    """What no single value shows: unlisted products, things that stand twice.

    Works on the raw document, skipping what is malformed, so that a document's faults of both
    sorts are reported together.
    """
    products = _objects(raw.get("products"))
    listed: set[str] = set()
    for i, product in products:
        pid, kind = product.get("id"), product.get("kind")
        if not isinstance(pid, str):
            continue
        if pid in listed:
            yield Fault(f"$.products[{i}].id", f"{pid} is listed twice")
        listed.add(pid)
        if isinstance(kind, str) and pid.partition("/")[0] != kind:
            yield Fault(f"$.products[{i}].id", f"{pid} does not begin with its kind, {kind}/")
    yield from _unlisted(raw, listed)
    yield from _release_faults(raw)
    yield from _component_faults(raw)
    for i, group in _objects(raw.get("lockstep")):
        members = group.get("products")
        if not isinstance(members, list):
            continue
        for j, member in enumerate(members):
            where = f"$.lockstep[{i}].products[{j}]"
            if isinstance(member, str) and member not in listed:
                yield Fault(where, f"{member} is not a listed product")
            elif member in members[:j]:
                yield Fault(where, f"{member} can't be in lockstep with itself")
    for i, clash in _objects(raw.get("clashes")):
        sides = [clash.get(side) for side in ("a", "b")]
        names = [side.get("product") if isinstance(side, dict) else None for side in sides]
        for side, name in zip(("a", "b"), names, strict=True):
            if isinstance(name, str) and name not in listed:
                yield Fault(f"$.clashes[{i}].{side}.product", f"{name} is not a listed product")
        if names[0] is not None and names[0] == names[1]:
            yield Fault(f"$.clashes[{i}]", f"{names[0]} can't clash with itself")


def _unlisted(raw: Mapping[str, object], listed: set[str]) -> Iterator[Fault]:
    site = raw.get("site") if isinstance(raw.get("site"), dict) else {}
    policy = raw.get("policy") if isinstance(raw.get("policy"), dict) else {}
    site, policy = cast("dict[str, object]", site), cast("dict[str, object]", policy)
    for base, items in (
        ("$.releases", raw.get("releases")),
        ("$.advisories", raw.get("advisories")),
        ("$.site.components", site.get("components")),
        ("$.site.licences", site.get("licences")),
        ("$.site.shelf", site.get("shelf")),
        ("$.policy.holds", policy.get("holds")),
    ):
        for i, item in _objects(items):
            name = item.get("product")
            if isinstance(name, str) and name not in listed:
                yield Fault(f"{base}[{i}].product", f"{name} is not a listed product")
    for part, key, keys in (
        ("site", "offers", site.get("offers")),
        ("policy", "soaks", policy.get("soaks")),
        ("policy", "channels_of", policy.get("channels_of")),
    ):
        for name in keys if isinstance(keys, dict) else ():
            if name not in listed:
                yield Fault(_path([part, key, name]), f"{name} is not a listed product")


def _release_faults(raw: Mapping[str, object]) -> Iterator[Fault]:
    seen: dict[tuple[str, Version], int] = {}
    for i, release in _objects(raw.get("releases")):
        bundles = release.get("bundles")
        for target in bundles if isinstance(bundles, dict) else ():
            if not target.startswith("plugin/"):
                where = _path(["releases", i, "bundles", target])
                yield Fault(where, f"only plugins can be bundled, and {target} is none")
        name, version = release.get("product"), _version(release.get("version"))
        if isinstance(name, str) and version is not None:
            if (name, version) in seen:
                first = seen[name, version]
                reason = f"{name} {version} is the same release as $.releases[{first}]"
                yield Fault(f"$.releases[{i}].version", reason)
            seen.setdefault((name, version), i)


def _component_faults(raw: Mapping[str, object]) -> Iterator[Fault]:
    site = raw.get("site")
    seen: set[str] = set()
    cores = 0
    for i, component in _objects(site.get("components") if isinstance(site, dict) else None):
        name = component.get("product")
        if not isinstance(name, str):
            continue
        if name in seen:
            yield Fault(f"$.site.components[{i}].product", f"{name} is installed twice")
        elif name.startswith("core/"):
            cores += 1
            if cores > 1:
                yield Fault(f"$.site.components[{i}].product", f"{name} is a second core")
        seen.add(name)


def _objects(items: object) -> Iterator[tuple[int, dict[str, object]]]:
    for i, item in enumerate(items if isinstance(items, list) else ()):
        if isinstance(item, dict):
            yield i, item


def _version(text: object) -> Version | None:
    try:
        return parse_version(text) if isinstance(text, str) else None
    except CoreError:
        return None
