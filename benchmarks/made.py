"""Made-up cases of any size, the same for the same seed, shaped like real sites.

A core, a theme that carries a plugin, a runtime, and plugins whose releases ask for a range of the
core, now and then of the runtime and of each other, and now and then do not go with something.
"""

from __future__ import annotations

import random
from datetime import date, timedelta
from typing import Any

from windbreak.core.case.reading import case_from
from windbreak.core.case.situation import Case

_FIRST = date(2025, 1, 6)


def versions(r: random.Random, count: int) -> list[str]:
    """So many versions, each above the one before it."""
    major, minor, patch, found = r.randint(1, 6), 0, 0, []
    for _ in range(count):
        roll = r.random()
        if roll < 0.15:
            major, minor, patch = major + 1, 0, 0
        elif roll < 0.55:
            minor, patch = minor + 1, 0
        else:
            patch += 1
        found.append(f"{major}.{minor}.{patch}")
    return found


def made_case(components: int, candidates: int, seed: int = 1) -> Case:
    """A site of so many components, each with about so many candidates."""
    r = random.Random(seed)
    plugins = [f"plugin/p{n:02}" for n in range(components - 3)]
    access = {p: r.choice(["public", "public", "licensed"]) for p in plugins}
    if plugins:
        access[plugins[0]] = "bundled-only"
    access |= {"core/c": "public", "theme/t": "public", "runtime/r": "host"}
    known = {p: versions(r, candidates) for p in access}
    known["runtime/r"] = ["7.4", "8.0", "8.1", "8.2", "8.3"]
    releases = [
        _release(r, known, plugins, product, index)
        for product in access
        for index in range(len(known[product]))
    ]
    licences = [{"product": p} for p, a in access.items() if a == "licensed" and r.random() < 0.7]
    return case_from(
        {
            "format": "windbreak-case/1",
            "at": "2026-11-24T01:10:00Z",
            "products": [
                {"id": p, "kind": p.partition("/")[0], "access": a} for p, a in access.items()
            ],
            "releases": releases,
            "advisories": [
                {
                    "id": f"A-{n}",
                    "product": p,
                    "affected": f"<{r.choice(known[p])}",
                    "severity": r.choice(["low", "medium", "high", "critical"]),
                }
                for n, p in enumerate(r.sample(plugins, min(len(plugins), 6)))
            ],
            "site": {
                "id": f"made-{components}-{candidates}-{seed}",
                "components": [{"product": p, "version": v[0]} for p, v in known.items()],
                "offers": {"runtime/r": ["8.0", "8.1", "8.2"]},
                "licences": licences,
            },
            "policy": {"soak": {"major": 14, "minor": 3, "patch": 1}},
        }
    )


def _release(
    r: random.Random, known: dict[str, list[str]], plugins: list[str], product: str, index: int
) -> dict[str, Any]:
    """A release that goes with what was out at its time, more or less."""
    every = known[product]
    age = index / max(1, len(every) - 1)

    def then(other: str, shift: float) -> str:
        place = min(1.0, max(0.0, age + shift))
        return known[other][int(place * (len(known[other]) - 1))]

    release: dict[str, Any] = {
        "product": product,
        "version": every[index],
        "published": str(_FIRST + timedelta(days=int(age * 680))),
    }
    if product == "runtime/r":
        return release
    requires: dict[str, str] = {}
    if r.random() < 0.35:
        requires["runtime/r"] = f">={then('runtime/r', -0.3)}"
    if product != "core/c":
        if r.random() < 0.7:
            requires["core/c"] = f">={then('core/c', -0.3)}"
        if r.random() < 0.12:
            release["conflicts"] = {"core/c": f">{then('core/c', 0.4)}"}
        if r.random() < 0.3:
            release["tested"] = {"core/c": then("core/c", 0.1)}
        # One plugin in four has a companion, which some of its releases ask for.
        mate = plugins[sum(product.encode()) * 7 % len(plugins)] if plugins else product
        if mate != product and sum(product.encode()) % 4 == 0 and r.random() < 0.4:
            requires[mate] = f">={then(mate, -0.3)}"
    if requires:
        release["requires"] = requires
    if index and r.random() < 0.1:
        release["from"] = f">={every[max(0, index - 6)]}"
    if product == "theme/t" and plugins:
        release["bundles"] = {plugins[0]: then(plugins[0], 0.0)}
    return release
