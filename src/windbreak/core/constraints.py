"""What must hold between components, compiled to small integers and bit sets.

Source of the rules: docs/reasoning.md, "What must hold". A ``Problem`` numbers the members of a
site; each member's options are the numbers of its line (see catalogue), so that what releases
say of each other is taken from the catalogue as it is, whatever the candidates are.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import combinations
from typing import Literal

from windbreak.core.candidates import Member, again, asks_for_more, members, removed
from windbreak.core.case import Case, Match
from windbreak.core.catalogue import OFF_LIST, Catalogue, bits, lockstep_mark
from windbreak.core.versions import Version, parse_range, parse_version

ConstraintKind = Literal["requires", "conflicts", "clash", "lockstep"]
Classes = tuple[tuple[int, int], ...]

NOBODY = -1  # the other side of a requirement that names something not on the site


@dataclass(frozen=True, slots=True)
class Constraint:
    """One triple (kind, p, q). ``classes`` are ``(options of p, options of q they go with)``.

    No option of p is in two classes; those in none go with everything.
    """

    kind: ConstraintKind
    p: int
    q: int
    subject: str
    object: str
    classes: Classes

    def holds(self, choice: Sequence[int]) -> bool:
        return self.fits(choice[self.p], 0 if self.q == NOBODY else choice[self.q])

    def fits(self, i: int, j: int) -> bool:
        """Whether option i of p goes with option j of q."""
        for own, others in self.classes:
            if own >> i & 1:
                return bool(others >> j & 1)
        return True

    def row(self, options: Iterable[int]) -> list[int]:
        """For each option of p, the options of q it goes with; -1 where it goes with all."""
        found = []
        for i in options:
            for own, others in self.classes:
                if own >> i & 1:
                    found.append(others)
                    break
            else:
                found.append(-1)
        return found


@dataclass(frozen=True, slots=True)
class Carried:
    """Option ``i`` of plugin ``p`` comes only by bundle: one of ``themes`` must carry it.

    ``themes`` pairs a theme's number with the bits of its options that carry this version.
    """

    p: int
    i: int
    themes: tuple[tuple[int, int], ...]

    def holds(self, choice: Sequence[int]) -> bool:
        return any(mask >> choice[theme] & 1 for theme, mask in self.themes)


@dataclass(frozen=True, slots=True)
class Pair:
    """Options of p and q that cost ``weight`` together, in classes; other pairs cost nothing."""

    p: int
    q: int
    weight: int
    classes: Classes

    def costs(self, choice: Sequence[int]) -> bool:
        for own, others in self.classes:
            if own >> choice[self.p] & 1 and others >> choice[self.q] & 1:
                return True
        return False


class Ties:
    """The constraints that bind, by member; shared by problems that differ in candidates alone.

    ``numbers[v]`` are the numbers of those that v takes part in, on either side; ``links[v]`` the
    ``(p, q, classes)`` of those with somebody who is there; ``shut[v]`` the options that ask for
    somebody who is not; ``named`` the numbers by kind and products.
    """

    def __init__(
        self, size: int, constraints: Sequence[Constraint], broken: frozenset[int]
    ) -> None:
        self.numbers: list[list[int]] = [[] for _ in range(size)]
        self.links: list[list[tuple[int, int, Classes]]] = [[] for _ in range(size)]
        self.shut = [0] * size
        for n, c in enumerate(constraints):
            if n not in broken:
                self._add(n, c)
        self._constraints = constraints

    def again(self, v: int, constraints: Sequence[Constraint], broken: Set[int]) -> Ties:
        """The same where what v takes part in was made anew."""
        found = Ties(0, (), frozenset())
        found._constraints = constraints
        found.numbers, found.links = list(self.numbers), list(self.links)
        found.shut = list(self.shut)
        about = [n for n, c in enumerate(constraints) if v in (c.p, c.q) or n in self.numbers[v]]
        near = {w for p, q, _ in self.links[v] for w in (p, q)} | {v}
        for w in near:
            found.links[w] = [link for link in self.links[w] if v not in link[:2]]
            found.numbers[w] = [n for n in self.numbers[w] if n not in about]
        found.shut[v] = 0
        for n in about:
            if n not in broken:
                for w in {constraints[n].p, constraints[n].q} - near - {NOBODY}:
                    found.links[w], found.numbers[w] = [*found.links[w]], [*found.numbers[w]]
                    near.add(w)
                found._add(n, constraints[n])
        return found

    def _add(self, n: int, c: Constraint) -> None:
        self.numbers[c.p].append(n)
        if c.q == NOBODY:
            for own, _ in c.classes:
                self.shut[c.p] |= own
        else:
            self.links[c.p].append((c.p, c.q, c.classes))
            self.links[c.q].append((c.p, c.q, c.classes))
            self.numbers[c.q].append(n)

    @cached_property
    def named(self) -> Mapping[tuple[str, str | None, str | None], int]:
        every = {n for numbers in self.numbers for n in numbers}
        return {
            (c.kind, c.subject, c.object): n for n, c in enumerate(self._constraints) if n in every
        }


@dataclass(frozen=True)
class Problem:
    """A case, numbered. ``start[v]`` is where member v stands today, ``domains[v]`` what it may
    become, as bits.

    ``broken`` are the numbers of the constraints that do not hold today: they may stay so.
    """

    catalogue: Catalogue
    members: tuple[Member, ...]
    start: tuple[int, ...]
    domains: tuple[int, ...]
    constraints: tuple[Constraint, ...]
    broken: frozenset[int]
    ties: Ties

    @cached_property
    def numbers(self) -> Mapping[str, int]:
        return {m.product: n for n, m in enumerate(self.members)}

    def number(self, product: str) -> int:
        """The number of a member. Raises KeyError."""
        return self.numbers[product]

    def like(self, members: Sequence[Member]) -> Problem:
        """The same problem, the members of which may become something else."""
        found = Problem(
            self.catalogue,
            tuple(members),
            self.start,
            tuple([m.candidates for m in members]),
            self.constraints,
            self.broken,
            self.ties,
        )
        found.__dict__["numbers"] = self.numbers
        if all(
            new is old or (new.bundle_only == old.bundle_only and new.active == old.active)
            for new, old in zip(members, self.members, strict=True)
        ):
            found.__dict__["carried"] = self.carried
            found.__dict__["carried_of"] = self.carried_of
        return found

    @cached_property
    def carried(self) -> tuple[Carried, ...]:
        """The rules for the candidates that come only by bundle."""
        return tuple(
            self.carriage(p, i)
            for p, member in enumerate(self.members)
            if member.bundle_only
            for i in bits(member.bundle_only)
        )

    @cached_property
    def carried_of(self) -> list[list[Carried]]:
        """The same by member, plugin or theme."""
        found: list[list[Carried]] = [[] for _ in self.members]
        for rule in self.carried:
            for v in {rule.p, *(theme for theme, _ in rule.themes)}:
                found[v].append(rule)
        return found

    def carriage(self, p: int, i: int) -> Carried:
        """The rule for a release that comes only by bundle: which theme releases carry it."""
        plugin = self.members[p]
        themes = (
            (self.numbers[name], mask)
            for name, mask in self.catalogue.carriage(plugin.product, i)
            if name in self.numbers
        )
        return Carried(p, i, tuple((t, mask) for t, mask in themes if self.members[t].active))

    @cached_property
    def untested(self) -> tuple[Pair, ...]:
        """For p, q both active: the options of q newer than options of p were tried with."""
        found = []
        for p, member in enumerate(self.members):
            if not member.active:
                continue
            for product in member.line.tested:
                q = self.numbers.get(product, NOBODY)
                if q != NOBODY and self.members[q].active:
                    classes = _table(self.catalogue, self.members, "tested", p, q)
                    found.append(Pair(p, q, 1, classes))
        return tuple(found)

    def violated(self, choice: Sequence[int]) -> frozenset[int]:
        """The numbers of the constraints that a choice does not meet."""
        return frozenset(n for n, c in enumerate(self.constraints) if not c.holds(choice))


def compile_problem(case: Case, catalogue: Catalogue | None = None) -> Problem:
    """Number a case. The catalogue is compiled from the case where none is given."""
    catalogue = catalogue or Catalogue.of(case)
    found = members(case, catalogue)
    constraints = list(_Builder(catalogue, found).constraints())
    start = [m.start for m in found]
    broken = frozenset([n for n, c in enumerate(constraints) if not c.holds(start)])
    return _numbered(catalogue, found, constraints, broken)


def _numbered(
    catalogue: Catalogue,
    found: tuple[Member, ...],
    constraints: Sequence[Constraint],
    broken: frozenset[int],
    ties: Ties | None = None,
) -> Problem:
    start = tuple([m.start for m in found])
    domains = tuple([m.candidates for m in found])
    ties = ties or Ties(len(found), constraints, broken)
    return Problem(catalogue, found, start, domains, tuple(constraints), broken, ties)


def with_candidates(problem: Problem, case: Case, products: Iterable[str]) -> Problem:
    """The problem of a case changed in what some products may become, and no more.

    Much quicker than compiling anew, unless other plugins may now join the site. Additions that
    nobody requires any more stay among the members; they take nothing from anybody.
    """
    changed = again(case, problem.catalogue, problem.members, products)
    present = {m.product for m in problem.members if not m.gone}
    for product, member in changed.items():
        more = member.candidates & ~problem.domains[problem.numbers[product]]
        if more and asks_for_more(problem.catalogue, member, more, present):
            return compile_problem(case, problem.catalogue)
    return problem.like([changed.get(m.product, m) for m in problem.members])


def with_option(problem: Problem, case: Case, v: int, number: int) -> Problem | None:
    """The problem as if one more release were a candidate of v, and all it carries could be had.

    None where other plugins could join the site then.
    """
    known = list(problem.members)
    known[v] = replace(known[v], candidates=known[v].candidates | 1 << number)
    if known[v].product.startswith("theme/"):
        carried = [p for p in known[v].line.bundles if p in problem.numbers]
        for product, member in again(case, problem.catalogue, known, carried).items():
            known[problem.numbers[product]] = member
    for new, old in zip(known, problem.members, strict=True):
        more = new.candidates & ~old.candidates
        if more and asks_for_more(problem.catalogue, new, more, problem.numbers):
            return None
    return problem.like(known)


def without_plugin(problem: Problem, case: Case, product: str) -> Problem:
    """The problem of a case from whose site a plugin was removed, and no more.

    It keeps its number: as an addition, where somebody asks for it, else as one that is gone:
    absent, and nothing else. Only what speaks of it is made anew.
    """
    v, catalogue = problem.numbers[product], problem.catalogue
    before = problem.members[v]
    member = removed(case, catalogue, problem.members, product)
    present = {m.product for m in problem.members if not m.gone}
    joins = not member.gone and asks_for_more(catalogue, member, member.candidates, present)
    left = any(m.addition and m.product in before.line.requires for m in problem.members)
    if joins or left or not before.active:
        return compile_problem(case, catalogue)
    found = list(problem.members)
    found[v] = member
    start = [m.start for m in found]
    constraints, broken = list(problem.constraints), set(problem.broken)
    builder = _Builder(catalogue, found)
    for n, c in enumerate(constraints):
        if v in (c.p, c.q):
            constraints[n] = builder.again(c)
            if member.gone and (c.kind != "requires" or c.p == v):
                broken.add(n)  # it is no constraint any more: one that never binds
            elif constraints[n].holds(start):
                broken.discard(n)
            else:
                broken.add(n)
    ties = problem.ties.again(v, constraints, broken)
    return _numbered(catalogue, tuple(found), constraints, frozenset(broken), ties)


class _Builder:
    def __init__(self, catalogue: Catalogue, members: Sequence[Member]) -> None:
        self.catalogue = catalogue
        self.members = members
        self.number = {m.product: n for n, m in enumerate(members) if not m.gone}

    def constraints(self) -> Iterator[Constraint]:
        for p, member in enumerate(self.members):
            if member.active:
                for product in member.line.requires:
                    yield self._requires(p, product)
                for product in member.line.conflicts:
                    yield from self._conflicts(p, product)
        yield from self._clashes()
        yield from self._lockstep()

    def again(self, c: Constraint) -> Constraint:
        """A constraint anew, between members one of whom is another now, or gone."""
        if c.kind == "requires":
            return self._requires(c.p, c.object)
        if self.members[c.p].gone or self.members[c.q].gone:
            return c
        if c.kind == "conflicts":
            return next(self._conflicts(c.p, c.object))
        pairs = self._clashes() if c.kind == "clash" else self._lockstep()
        return next(one for one in pairs if (one.p, one.q) == (c.p, c.q))

    def _requires(self, p: int, product: str) -> Constraint:
        member = self.members[p]
        q = self.number.get(product, NOBODY)
        if q == NOBODY or not self.members[q].active:
            classes: Classes = tuple((own, 0) for own, _ in member.line.requires[product])
        else:
            classes = _table(self.catalogue, self.members, "requires", p, q)
        return Constraint("requires", p, q, member.product, product, classes)

    def _conflicts(self, p: int, product: str) -> Iterator[Constraint]:
        q = self.number.get(product, NOBODY)
        if q != NOBODY and self.members[q].active:
            classes = _table(self.catalogue, self.members, "conflicts", p, q)
            yield Constraint("conflicts", p, q, self.members[p].product, product, classes)

    def _pair(self, a: str, b: str) -> tuple[int, int] | None:
        """The numbers of two products, in the order of their ids, when both can bind."""
        p, q = (self.number.get(product) for product in sorted((a, b)))
        if p is None or q is None or p == q:
            return None
        return (p, q) if self.members[p].active and self.members[q].active else None

    def _clashes(self) -> Iterator[Constraint]:
        met: dict[tuple[int, int], list[tuple[int, int]]] = {}
        for clash in self.catalogue.clashes:
            pair = self._pair(clash.a.product, clash.b.product)
            if pair is not None:
                ranges = {clash.a.product: clash.a.range, clash.b.product: clash.b.range}
                own, others = (_inside(m := self.members[n], ranges[m.product]) for n in pair)
                met.setdefault(pair, []).append((own, others))
        for pair, both in sorted(met.items()):
            yield self._of_pair("clash", pair, _apart(both))

    def _lockstep(self) -> Iterator[Constraint]:
        levels: dict[tuple[int, int], set[Match]] = {}
        for group in self.catalogue.lockstep:
            for a, b in combinations(group.products, 2):
                pair = self._pair(a, b)
                if pair is not None:
                    levels.setdefault(pair, set()).add(group.match)
        for (p, q), matches in sorted(levels.items()):
            level = next(m for m in ("exact", "minor", "major") if m in matches)
            yield self._of_pair("lockstep", (p, q), self._matching(p, q, level))

    def _matching(self, p: int, q: int, level: Match) -> Classes:
        """Which versions of two products match. What is absent matches everything."""
        own, other = _by_mark(self.members[p], level), _by_mark(self.members[q], level)
        absent = OFF_LIST if self.members[q].addition else 0
        return tuple([(mask, other.get(mark, 0) | absent) for mark, mask in own.items()])

    def _of_pair(self, kind: ConstraintKind, pair: tuple[int, int], classes: Classes) -> Constraint:
        p, q = pair
        return Constraint(kind, p, q, self.members[p].product, self.members[q].product, classes)


def _table(catalogue: Catalogue, members: Sequence[Member], field: str, p: int, q: int) -> Classes:
    """What p's releases say of q, as classes; q's unlisted version or absence put in its place."""
    other = members[q]
    if other.start:
        return catalogue.classes(field, members[p].product, other.product)
    rows = catalogue.table(field, members[p].product, other.product)
    return tuple(
        [
            (own, others | OFF_LIST if _off_list(field, other.installed, text) else others)
            for own, others, text in rows
        ]
    )


def _off_list(field: str, version: Version | None, text: str) -> bool:
    """Whether an unlisted version, or being absent, is among those a table speaks of."""
    match field:
        case "requires":
            return version is not None and version in parse_range(text)
        case "conflicts":
            return version is None or version not in parse_range(text)
        case _:
            return version is not None and version > parse_version(text)


def _inside(member: Member, text: str) -> int:
    found = member.line.within(text)
    if not member.start and member.installed and member.installed in parse_range(text):
        found |= OFF_LIST
    return found


def _apart(both: Iterable[tuple[int, int]]) -> Classes:
    """Classes for pairs of masks that may not meet: what meets none of them is in no class."""
    classes: list[tuple[int, int]] = []  # options of p, options of q they must not meet
    for own, others in both:
        rest, split = own, []
        for mask, bad in classes:
            if mask & own:
                split.append((mask & own, bad | others))
            if mask & ~own:
                split.append((mask & ~own, bad))
            rest &= ~mask
        if rest:
            split.append((rest, others))
        classes = split
    return tuple((own, ~bad) for own, bad in classes)


def _by_mark(member: Member, level: Match) -> Mapping[object, int]:
    """The options of a member by what must be equal at a level of lockstep."""
    listed = member.line.marks(level)
    if member.start or member.installed is None:
        return listed
    mark = lockstep_mark(member.installed, level)
    return {**listed, mark: listed.get(mark, 0) | OFF_LIST}
