"""Small random cases for property tests, and the rules of reasoning written plainly.

The oracle here tries every choice and every order, from the rules as they are worded; it
shares nothing with the core but the reading of versions and ranges.
"""

from __future__ import annotations

import itertools
import random
from heapq import heappop, heappush
from typing import Any

from windbreak.core.candidates import Member
from windbreak.core.case import Case, case_from
from windbreak.core.versions import parse_range, parse_version

Choice = tuple[int, ...]


def random_case(seed: int) -> Case:
    """A case of three to five components with two to four releases each."""
    r = random.Random(seed)
    plugins = [f"plugin/p{n}" for n in range(r.randint(1, 3))]
    names = ["core/c", "theme/t", *plugins, "plugin/q"]
    accesses = {n: "public" for n in names} | {"runtime/r": "host"}
    for plugin in plugins:
        accesses[plugin] = r.choice(["public", "public", "bundled-only"])
    known = {n: [f"{r.choice([1, 1, 2])}.{k}" for k in range(r.randint(2, 4))] for n in names}
    known = {n: sorted(set(vs), key=lambda v: parse_version(v).key) for n, vs in known.items()}
    known["runtime/r"] = ["8.0", "8.1"]
    releases: list[dict[str, Any]] = []
    for name, versions in known.items():
        for index, version in enumerate(versions):
            release: dict[str, Any] = {
                "product": name,
                "version": version,
                "published": "2026-06-01",
            }
            for other in known:
                if other == name or name == "runtime/r":
                    continue
                pivot = r.choice(known[other])
                roll = r.random()
                if (roll < 0.13 and other != "plugin/q") or roll < 0.05:
                    release.setdefault("requires", {})[other] = r.choice([">=", "<="]) + pivot
                elif roll < 0.2:
                    release.setdefault("conflicts", {})[other] = r.choice([">", "<"]) + pivot
                elif roll < 0.27:
                    release.setdefault("tested", {})[other] = pivot
            if index and r.random() < 0.3:
                release["from"] = ">=" + versions[r.randrange(index)]
            if name == "theme/t":
                release["bundles"] = {
                    p: r.choice(known[p]) for p in plugins if accesses[p] == "bundled-only"
                }
            releases.append(release)
    components = [
        {"product": n, "version": known[n][0], "active": n[0] != "p" or r.random() < 0.9}
        for n in known
        if n != "plugin/q"
    ]
    lockstep = []
    if len(plugins) > 1 and r.random() < 0.4:
        lockstep.append({"products": plugins[:2], "match": r.choice(["exact", "minor", "major"])})
    advisories = []
    for k in range(r.randint(0, 2)):
        product = r.choice(names)
        advisories.append(
            {
                "id": f"A-{k}",
                "product": product,
                "affected": r.choice(["<=", ">="]) + r.choice(known[product]),
                "severity": r.choice(["low", "medium", "high", "critical"]),
            }
        )
    return case_from(
        {
            "format": "windbreak-case/1",
            "at": "2026-11-24T01:10:00Z",
            "products": [
                {"id": n, "kind": n.partition("/")[0], "access": a} for n, a in accesses.items()
            ],
            "releases": releases,
            "lockstep": lockstep,
            "advisories": advisories,
            "site": {
                "id": f"random-{seed}",
                "components": components,
                "offers": {"runtime/r": ["8.0", *(["8.1"] if r.random() < 0.6 else [])]},
            },
        }
    )


class Oracle:
    """Every rule of the best choice and the order, tried out one by one."""

    def __init__(self, case: Case, members: tuple[Member, ...]) -> None:
        self.case, self.members = case, members
        self.n = {m.product: k for k, m in enumerate(members)}
        self.today = self.violations(tuple(0 for _ in members))

    def violations(self, choice: Choice) -> set[tuple[str, str, str]]:
        at = {
            m.product: m.options[i]
            for m, i in zip(self.members, choice, strict=True)
            if m.active and m.options[i].version is not None
        }
        found = set()
        for p, option in at.items():
            if option.release is None:
                continue
            for q, wanted in option.release.requires.items():
                if q != p and (q not in at or at[q].version not in parse_range(wanted)):
                    found.add(("requires", p, q))
            for q, bad in option.release.conflicts.items():
                if q != p and q in at and at[q].version in parse_range(bad):
                    found.add(("conflicts", p, q))
        for group in self.case.lockstep:
            places = {"exact": None, "minor": 2, "major": 1}[group.match]
            for p, q in itertools.combinations(sorted(group.products), 2):
                if p in at and q in at:
                    a, b = at[p].version, at[q].version
                    assert a is not None and b is not None
                    same = (
                        a == b
                        if places is None
                        else all(a.place(k) == b.place(k) for k in range(places))
                    )
                    if not same:
                        found.add(("lockstep", p, q))
        return found

    def carried(self, choice: Choice, k: int) -> bool:
        option = self.members[k].options[choice[k]]
        if choice[k] == 0 or option.ways != ("bundle",):
            return True
        for m, i in zip(self.members, choice, strict=True):
            release = m.options[i].release
            if m.product.startswith("theme/") and m.active and release:
                text = release.bundles.get(self.members[k].product)
                if text and parse_version(text) == option.version:
                    return True
        return False

    def allowed(self, choice: Choice) -> bool:
        return self.violations(choice) <= self.today and all(
            self.carried(choice, k) for k in range(len(choice))
        )

    def vector(self, choice: Choice) -> tuple[int, ...]:
        weights = {"critical": 64, "high": 16, "medium": 4, "low": 1}
        exposure = behind = lag = untested = moves = 0
        for m, i in zip(self.members, choice, strict=True):
            version = m.options[i].version
            for a in self.case.advisories:
                if a.product == m.product and version and version in parse_range(a.affected):
                    exposure += weights[a.severity]
            moves += i != 0
            if m.product.startswith("runtime/") or (m.component is None and i == 0):
                continue
            behind += i != len(m.options) - 1
            lag += len(m.options) - 1 - i
        for (m, i), (o, j) in itertools.permutations(zip(self.members, choice, strict=True), 2):
            release, other = m.options[i].release, o.options[j].version
            tested = release.tested.get(o.product) if release and m.active and o.active else None
            untested += bool(tested and other and other > parse_version(tested))
        return (len(self.violations(choice)), exposure, behind, lag, untested, moves)

    def best(self) -> tuple[int, ...]:
        every = itertools.product(*(range(len(m.options)) for m in self.members))
        return min(self.vector(c) for c in every if self.allowed(c))

    def order(self, target: Choice) -> tuple[int, int] | None:
        """The cheapest (combined, steps) over all states and all sets of hops."""
        start = tuple(0 for _ in self.members)
        heap, spent = [((0, 0), start)], {start: (0, 0)}
        while heap:
            cost, state = heappop(heap)
            if state == target:
                return cost
            if cost > spent[state]:
                continue
            hops = [[state[k], *self.hops(k, state[k], target[k])] for k in range(len(state))]
            before = self.violations(state)
            for after in itertools.product(*hops):
                moved = [k for k in range(len(state)) if after[k] != state[k]]
                if not moved or not self.violations(after) <= before:
                    continue
                if not all(self.carried(after, k) for k in moved):
                    continue
                further = (cost[0] + len(moved) - 1, cost[1] + 1)
                if after not in spent or further < spent[after]:
                    spent[after] = further
                    heappush(heap, (further, after))
        return None

    def hops(self, k: int, here: int, target: int) -> list[int]:
        options = self.members[k].options
        if self.members[k].component is None:
            return [target] if here != target else []
        found = []
        for j in range(here + 1, target + 1):
            release, version = options[j].release, options[here].version
            assert release is not None and version is not None
            if version in parse_range(release.from_):
                found.append(j)
        return found
