"""Releases that the demo's makers make after the start, kept in ``made-later.json``.

    [{"product": "plugin/lee", "version": "5.5.1", "at": "2026-11-27T16:30:00Z"}]

It is read at each look of the service, so that a release can be made meanwhile. Such a release asks
for what the one before it asks for, and leaves no work.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

from windbreak.core.versions.version import parse_version
from windbreak.standins.catalogue import CHANDLERY, COMMONS, EBBING, Made

FILE = "made-later.json"
MAKERS = {"commons": COMMONS, "chandlery": CHANDLERY, "ebbing": EBBING}
_LEFT = ("tasks", "licence", "watch", "advisories")  # what only the release itself asked for


class ReleaseRefused(ValueError):
    """A release that no maker of the demo can make; the text says why."""


def make(folder: Path, product: str, version: str, at: datetime) -> None:
    """Have the maker of a product make one more release. Raises ReleaseRefused."""
    made = [release for every in MAKERS.values() for release in every if release.package]
    products = {release.product for release in made}
    if product not in products:
        raise ReleaseRefused(f"no maker makes {product!r}; there are {', '.join(sorted(products))}")
    package = _additions(folder)
    versions = [release.version for release in made if release.product == product]
    versions += [release["version"] for release in package if release["product"] == product]
    if version in versions:
        raise ReleaseRefused(f"{product} {version} was made already")
    if all(parse_version(version) < parse_version(release) for release in versions):
        raise ReleaseRefused(f"{version} is older than all of {product}: {', '.join(versions)}")
    package.append({"product": product, "version": version, "at": at.isoformat()})
    beside = folder / f"{FILE}.new"
    beside.write_text(json.dumps(package, indent=1) + "\n")
    beside.replace(folder / FILE)


def of_maker(folder: Path, made: tuple[Made, ...]) -> tuple[Made, ...]:
    """What a maker has made, with what it made since the start."""
    return _with(made, json.dumps(_additions(folder)))


@lru_cache(maxsize=16)
def _with(made: tuple[Made, ...], text: str) -> tuple[Made, ...]:
    more = list(made)
    for release in json.loads(text):
        version = parse_version(release["version"])
        before = [
            made
            for made in more
            if made.product == release["product"] and parse_version(made.version) < version
        ]
        if before:
            more.append(_made(before, release))
    return tuple(more)


def _made(before: Iterable[Made], fields: Mapping[str, Any]) -> Made:
    newest = max(before, key=lambda made: parse_version(made.version))
    changes = [{"kind": "fix", "text": "What some saw go wrong is mended."}]
    says = {key: value for key, value in newest.says.items() if key not in _LEFT}
    return replace(
        newest,
        version=fields["version"],
        at=datetime.fromisoformat(fields["at"]),
        says={**says, "changes": changes},
    )


def _additions(folder: Path) -> list[dict[str, Any]]:
    path = folder / FILE
    return list(json.loads(path.read_text())) if path.exists() else []
