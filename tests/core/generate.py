"""Small random cases for property tests, and the rules of reasoning written plainly.

The oracle here tries every choice, every order and every set of acts, from the rules as they are
worded; it shares nothing with the core but the reading of versions and ranges, and what a
component may become, which is tested by itself.
"""

from __future__ import annotations

import itertools
import random
from collections.abc import Iterator
from datetime import timedelta
from heapq import heappop, heappush
from typing import Any

from windbreak.core.bits import bits
from windbreak.core.case.candidates import Member, members
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.reading import case_from
from windbreak.core.case.situation import Case, Release
from windbreak.core.explanation.acts import applied
from windbreak.core.values.reasons import Act, Fact
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version, parse_version

Choice = tuple[int, ...]


def random_case(seed: int) -> Case:
    """A case of three to five components with two to four releases each."""
    r = random.Random(seed)
    plugins = [f"plugin/p{n}" for n in range(r.randint(1, 3))]
    names = ["core/c", "theme/t", *plugins, "plugin/q"]
    accesses = {n: "public" for n in names} | {"runtime/r": "host"}
    for plugin in plugins:
        accesses[plugin] = r.choice(["public", "public", "licensed", "bundled-only"])
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
            if r.random() < 0.12:
                release["channel"] = "preview"
            if r.random() < 0.25:
                release["published"] = f"2026-11-{r.randint(10, 24)}"
            if name == "theme/t":
                release["bundles"] = {
                    p: r.choice(known[p]) for p in plugins if accesses[p] != "public"
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
    clashes = []
    if r.random() < 0.3:
        a, b = r.sample([n for n in names if n != "plugin/q"], 2)
        sides = [{"product": n, "range": ">=" + r.choice(known[n])} for n in (a, b)]
        clashes.append({"a": sides[0], "b": sides[1]})
    holds = [
        {"product": n, "range": ">=" + r.choice(known[n]), "until": r.choice(UNTIL), "reason": "x"}
        for n in names
        if r.random() < 0.08
    ]
    licences = [{"product": p} for p in plugins if r.random() < 0.3]
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
            "clashes": clashes,
            "site": {
                "id": f"random-{seed}",
                "components": components,
                "licences": [x for x in licences if accesses[x["product"]] == "licensed"],
                "offers": {"runtime/r": ["8.0", *(["8.1"] if r.random() < 0.6 else [])]},
            },
            "policy": {
                "holds": holds,
                "soak": {"major": 7, "minor": 3, "patch": 1},
                "install_required": r.random() < 0.8,
            },
        }
    )


UNTIL = [None, "2026-11-20", "2026-11-26"]


class Oracle:
    """Every rule of the best choice and the order, tried out one by one.

    A choice holds, for each member, the number of its option.
    """

    def __init__(self, case: Case, known: tuple[Member, ...] | None = None) -> None:
        self.case = case
        self.members = known or members(case, Catalogue.of(case))
        self.start = tuple(m.start for m in self.members)
        self.limits = [list(bits(m.candidates)) for m in self.members]
        self.today = self.violations(self.start)

    def violations(self, choice: Choice) -> set[tuple[str, str, str]]:
        at: dict[str, tuple[Version, Release | None]] = {}
        for m, i in zip(self.members, choice, strict=True):
            version = m.version(i)
            if m.active and version is not None:
                at[m.product] = (version, m.release(i))
        found = set()
        for p, (_, release) in at.items():
            if release is None:
                continue
            for q, wanted in release.requires.items():
                if q != p and (q not in at or at[q][0] not in parse_range(wanted)):
                    found.add(("requires", p, q))
            for q, bad in release.conflicts.items():
                if q != p and q in at and at[q][0] in parse_range(bad):
                    found.add(("conflicts", p, q))
        for group in self.case.lockstep:
            places = {"exact": None, "minor": 2, "major": 1}[group.match]
            for p, q in itertools.combinations(sorted(group.products), 2):
                if p in at and q in at:
                    a, b = at[p][0], at[q][0]
                    same = (
                        a == b
                        if places is None
                        else all(a.place(k) == b.place(k) for k in range(places))
                    )
                    if not same:
                        found.add(("lockstep", p, q))
        for clash in self.case.clashes:
            sides = {clash.a.product: clash.a.range, clash.b.product: clash.b.range}
            if all(p in at and at[p][0] in parse_range(text) for p, text in sides.items()):
                p, q = sorted(sides)
                found.add(("clash", p, q))
        return found

    def carried(self, choice: Choice, k: int) -> bool:
        member, number = self.members[k], choice[k]
        if number == member.start or not member.ways.bundle_only >> number & 1:
            return True
        for m, i in zip(self.members, choice, strict=True):
            release = m.release(i)
            if m.product.startswith("theme/") and m.active and release:
                text = release.bundles.get(member.product)
                if text and parse_version(text) == member.version(number):
                    return True
        return False

    def allowed(self, choice: Choice) -> bool:
        return self.violations(choice) <= self.today and all(
            self.carried(choice, k) for k in range(len(choice))
        )

    def vector(self, choice: Choice) -> tuple[int, ...]:
        weights = {"critical": 64, "high": 16, "medium": 4, "low": 1}
        exposure = behind = lag = untested = moves = 0
        for m, i, limit in zip(self.members, choice, self.limits, strict=True):
            version = m.version(i)
            for a in self.case.advisories:
                if a.product == m.product and version and version in parse_range(a.affected):
                    exposure += weights[a.severity]
            moves += i != m.start
            if m.product.startswith("runtime/") or version is None:
                continue
            behind += i != limit[-1]
            lag += sum(1 for other in limit if other > i)
        for (m, i), (o, j) in itertools.permutations(zip(self.members, choice, strict=True), 2):
            release, other = m.release(i), o.version(j)
            tested = release.tested.get(o.product) if release and m.active and o.active else None
            untested += bool(tested and other and other > parse_version(tested))
        return (len(self.violations(choice)), exposure, behind, lag, untested, moves)

    def choices(self) -> Iterator[Choice]:
        return itertools.product(*self.limits)

    def best(self) -> tuple[int, ...]:
        return min(self.vector(c) for c in self.choices() if self.allowed(c))

    def possible(self, product: str, version: Version) -> bool:
        """Whether some allowed choice has a product at a version."""
        for k, m in enumerate(self.members):
            if m.product == product:
                number = m.line.number(version)
                if not m.candidates >> number & 1:
                    return False
                limits = [[number] if n == k else limit for n, limit in enumerate(self.limits)]
                return any(self.allowed(c) for c in itertools.product(*limits))
        return False

    def open_with(self, facts: set[Fact], product: str, version: Version) -> bool:
        """Whether a version is possible when nothing but some facts binds."""
        limits = []
        for k, m in enumerate(self.members):
            if m.product == product:
                limits.append([m.line.number(version)])
            elif Fact(fact="limit", product=m.product) in facts:
                limits.append(self.limits[k])
            else:
                limits.append(list(bits(m.universe)))
        bound = {(f.fact, f.subject, f.object) for f in facts}
        bundled = [
            k for k, m in enumerate(self.members) if Fact(fact="bundle", product=m.product) in facts
        ]
        for choice in itertools.product(*limits):
            broken = {v for v in self.violations(choice) - self.today if v in bound}
            if not broken and all(self.carried(choice, k) for k in bundled):
                return True
        return False

    def order(self, target: Choice) -> tuple[int, int] | None:
        """The cheapest (combined, steps) over all states and all sets of hops."""
        heap, spent = [((0, 0), self.start)], {self.start: (0, 0)}
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
        member = self.members[k]
        if member.component is None:
            return [target] if here != target else []
        found = []
        for j in self.limits[k]:
            release, version = member.release(j), member.version(here)
            if not here < j <= target or release is None or version is None:
                continue
            if version in parse_range(release.from_):
                found.append(j)
        return found


def every_act(case: Case, product: str) -> list[Act]:
    """Every single act there is for a case, in the order in which equals are preferred."""
    found = [Act(act="wait", until=case.day + timedelta(days=n)) for n in range(1, 16)]
    components = sorted(case.site.components, key=lambda c: c.product)
    found += [Act(act="activate", product=c.product) for c in components if not c.active]
    found += [
        Act(act="lift-hold", product=p) for p in sorted({h.product for h in case.policy.holds})
    ]
    licensed = sorted(p.id for p in case.products if p.access == "licensed")
    found += [Act(act="licence", product=p) for p in licensed]
    for release in case.releases_of.get("runtime/r", ()):
        if release.version not in case.site.offers["runtime/r"]:
            found.append(Act(act="offer", product="runtime/r", version=release.version))
    for one in components:
        if one.product.startswith("plugin/") and one.product != product:
            found.append(Act(act="remove", product=one.product))
    found.append(Act(act="channel", channel="preview"))
    for name in sorted(case.product):
        if case.product[name].access != "public" and not name.startswith("runtime/"):
            for release in case.releases_of[name]:
                found.append(Act(act="shelf", product=name, version=release.version))
    return found


def smallest_sets(case: Case, product: str, version: Version, most: int) -> list[tuple[Act, ...]]:
    """Every smallest set of up to ``most`` acts after which a version is possible, by trying all;
    of two that differ in the wait alone, the one with the shorter.
    """
    pool = every_act(case, product)
    for size in range(1, most + 1):
        found: list[tuple[Act, ...]] = []
        served: set[tuple[Act, ...]] = set()
        for acts in itertools.combinations(pool, size):
            rest = tuple(a for a in acts if a.act != "wait")
            if len(rest) < size - 1 or (len(rest) < size and rest in served):
                continue
            if Oracle(applied(case, acts)).possible(product, version):
                found.append(acts)
                if len(rest) < size:
                    served.add(rest)
        if found:
            return found
    return []
