"""A case file read whole or refused whole, with every fault and its JSON path.

Source of the format: docs/reasoning.md, "The case file". Nothing is guessed: an unknown key, a
product that is not listed or a version that can't be read is a fault with its place.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import cast

from pydantic import ValidationError

from windbreak.core.case.situation import FORMAT, Case
from windbreak.core.errors import CaseError, CoreError, Fault
from windbreak.core.reading import json_of, model_faults, objects, path_of
from windbreak.core.versions.version import Version, parse_version


def read_case(text: str | bytes) -> Case:
    """Read a case file. Raises CaseError with every fault of the document."""
    return _case(json_of(text, CaseError), text)


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
        for fault in model_faults(error):
            faults.setdefault(fault.path, fault)
    for fault in _cross_faults(raw):
        faults.setdefault(fault.path, fault)
    if case is None or faults:
        raise CaseError(list(faults.values()))
    return case


def _cross_faults(raw: Mapping[str, object]) -> Iterator[Fault]:
    """What no single value shows: unlisted products, things that stand twice.

    Works on the raw document, skipping what is malformed, so that a document's faults of both
    sorts are reported together.
    """
    products = objects(raw.get("products"))
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
    for i, group in objects(raw.get("lockstep")):
        members = group.get("products")
        if not isinstance(members, list):
            continue
        for j, member in enumerate(members):
            where = f"$.lockstep[{i}].products[{j}]"
            if isinstance(member, str) and member not in listed:
                yield Fault(where, f"{member} is not a listed product")
            elif member in members[:j]:
                yield Fault(where, f"{member} can't be in lockstep with itself")
    for i, clash in objects(raw.get("clashes")):
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
        for i, item in objects(items):
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
                yield Fault(path_of([part, key, name]), f"{name} is not a listed product")


def _release_faults(raw: Mapping[str, object]) -> Iterator[Fault]:
    seen: dict[tuple[str, Version], int] = {}
    for i, release in objects(raw.get("releases")):
        bundles = release.get("bundles")
        for target in bundles if isinstance(bundles, dict) else ():
            if not target.startswith("plugin/"):
                where = path_of(["releases", i, "bundles", target])
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
    for i, component in objects(site.get("components") if isinstance(site, dict) else None):
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


def _version(text: object) -> Version | None:
    try:
        return parse_version(text) if isinstance(text, str) else None
    except CoreError:
        return None
