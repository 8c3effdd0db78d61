"""A case, numbered: members, what each may become, the rules between them, as a network.

Source of the rules: docs/reasoning.md, "What must hold". A ``Problem`` numbers the members of a
site; each member's options are the numbers of its line (see catalogue), so that what releases say
of each other is taken from the catalogue as it is, whatever the candidates are. What the solver is
given knows no versions: tables between two members' options, and clauses for what comes by bundle.

What an act makes of a problem is in ``changed``.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations
from typing import Literal, NamedTuple, cast

from windbreak.core.bits import bits
from windbreak.core.case.candidates import Member, members
from windbreak.core.case.catalogue import OFF_LIST, Catalogue, lockstep_mark
from windbreak.core.case.situation import Case
from windbreak.core.solver.constraints import Classes, Clause, Constraint, Cost, Relation, Table
from windbreak.core.solver.cores import Facts
from windbreak.core.solver.network import Network
from windbreak.core.values.basics import Match
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import Version, parse_version

RuleKind = Literal["requires", "conflicts", "clash", "lockstep"]

NOBODY = -1  # the other side of a requirement that names something not on the site


class Rule(NamedTuple):
    """One triple (kind, p, q) that must hold: which options of p go with which of q.

    ``constraint`` is what the solver is given. A rule with NOBODY on its other side shuts options
    of p by itself.
    """

    kind: RuleKind
    p: int
    q: int
    subject: str
    object: str
    relation: Relation
    constraint: Constraint

    @classmethod
    def of(
        cls, kind: RuleKind, p: int, q: int, subject: str, object_: str, relation: Relation
    ) -> Rule:
        lonely = q == NOBODY
        constraint = Clause({p: ~_asking(relation)}) if lonely else Table(p, q, relation)
        return cls(kind, p, q, subject, object_, relation, constraint)

    def saying_nothing(self) -> Rule:
        """A rule of the same name that everything meets."""
        return Rule.of(self.kind, self.p, self.q, self.subject, self.object, Relation(()))

    def holds(self, choice: Sequence[int]) -> bool:
        return not self.constraint.violated(choice)

    @property
    def shut(self) -> int:
        """The options of p that it shuts whatever else is chosen; 0 where q is on the site."""
        return _asking(self.relation) if self.q == NOBODY else 0


def _asking(relation: Relation) -> int:
    return sum([own for own, _ in relation.classes])


class Carriage(NamedTuple):
    """Option ``i`` of plugin ``p`` comes only by bundle: one of ``themes`` must carry it.

    ``themes`` pairs a theme's number with the bits of its options that carry this version.
    """

    p: int
    i: int
    themes: tuple[tuple[int, int], ...]
    clause: Clause

    @classmethod
    def of(cls, p: int, i: int, themes: Iterable[tuple[int, int]]) -> Carriage:
        pairs = tuple(themes)
        return cls(p, i, pairs, Clause({p: ~(1 << i), **dict(pairs)}))


class Binding:
    """The rules that bind, by member; shared by problems that differ in candidates alone.

    ``numbers[v]`` are the numbers of those that v takes part in, on either side; ``tables[v]`` the
    constraints of those with somebody who is there; ``shut[v]`` the options that ask for somebody
    who is not; ``named`` the numbers by kind and products.
    """

    def __init__(self, size: int, rules: Sequence[Rule], broken: Set[int]) -> None:
        self.numbers: list[list[int]] = [[] for _ in range(size)]
        self.tables: list[list[Table]] = [[] for _ in range(size)]
        self.shut = [0] * size
        self._rules = rules
        for n, rule in enumerate(rules):
            if n not in broken:
                self._add(n, rule)

    def anew(self, v: int, rules: Sequence[Rule], broken: Set[int]) -> Binding:
        """The same where the rules that v takes part in were made anew."""
        binding = Binding(0, (), frozenset())
        binding._rules = rules
        binding.numbers, binding.tables = list(self.numbers), list(self.tables)
        binding.shut = list(self.shut)
        about = [n for n, rule in enumerate(rules) if v in (rule.p, rule.q) or n in self.numbers[v]]
        near = {w for table in self.tables[v] for w in table.scope} | {v}
        for w in near:
            binding.tables[w] = [table for table in self.tables[w] if v not in table.scope]
            binding.numbers[w] = [n for n in self.numbers[w] if n not in about]
        binding.shut[v] = 0
        for n in about:
            if n not in broken:
                for w in {rules[n].p, rules[n].q} - near - {NOBODY}:
                    binding.tables[w], binding.numbers[w] = (
                        [*binding.tables[w]],
                        [*binding.numbers[w]],
                    )
                    near.add(w)
                binding._add(n, rules[n])
        return binding

    def _add(self, n: int, rule: Rule) -> None:
        self.numbers[rule.p].append(n)
        if isinstance(rule.constraint, Table):
            self.tables[rule.p].append(rule.constraint)
            self.tables[rule.q].append(rule.constraint)
            self.numbers[rule.q].append(n)
        else:
            self.shut[rule.p] |= rule.shut

    @cached_property
    def named(self) -> Mapping[tuple[str, str | None, str | None], int]:
        every = {n for numbers in self.numbers for n in numbers}
        return {(r.kind, r.subject, r.object): n for n, r in enumerate(self._rules) if n in every}


@dataclass(frozen=True)
class Problem:
    """A case, numbered. ``start[v]`` is where member v stands today, ``domains[v]`` what it may
    become, as bits.

    ``broken`` are the numbers of the rules that do not hold today: they may stay so.
    """

    catalogue: Catalogue
    members: tuple[Member, ...]
    start: tuple[int, ...]
    domains: tuple[int, ...]
    rules: tuple[Rule, ...]
    broken: frozenset[int]
    binding: Binding

    @cached_property
    def numbers(self) -> Mapping[str, int]:
        return {m.product: n for n, m in enumerate(self.members)}

    @cached_property
    def rules_of(self) -> list[list[tuple[int, Rule]]]:
        """The rules by member, each with its number; those too that do not hold today."""
        rows: list[list[tuple[int, Rule]]] = [[] for _ in self.members]
        for n, rule in enumerate(self.rules):
            rows[rule.p].append((n, rule))
            if rule.q != NOBODY:
                rows[rule.q].append((n, rule))
        return rows

    def number(self, product: str) -> int:
        """The number of a member. Raises KeyError."""
        return self.numbers[product]

    def like(self, members: Sequence[Member]) -> Problem:
        """The same problem, the members of which may become something else."""
        problem = Problem(
            self.catalogue,
            tuple(members),
            self.start,
            tuple([m.candidates for m in members]),
            self.rules,
            self.broken,
            self.binding,
        )
        problem.__dict__["numbers"] = self.numbers
        if all(
            new is old or (new.bundle_only == old.bundle_only and new.active == old.active)
            for new, old in zip(members, self.members, strict=True)
        ):
            problem.__dict__["carried"] = self.carried
            problem.__dict__["carried_of"] = self.carried_of
            problem.__dict__["constraints"] = self.constraints
        if "facts" in self.__dict__ and all(
            new is old or new.ways.bundle_only == old.ways.bundle_only
            for new, old in zip(members, self.members, strict=True)
        ):
            problem.__dict__["facts"] = self.facts
        return problem

    @cached_property
    def carried(self) -> tuple[Carriage, ...]:
        """The rules for the candidates that come only by bundle."""
        return tuple(
            self.carriage(p, i)
            for p, member in enumerate(self.members)
            if member.bundle_only
            for i in bits(member.bundle_only)
        )

    @cached_property
    def carried_of(self) -> list[list[Carriage]]:
        """The same by member, plugin or theme."""
        rows: list[list[Carriage]] = [[] for _ in self.members]
        for rule in self.carried:
            for v in {rule.p, *(theme for theme, _ in rule.themes)}:
                rows[v].append(rule)
        return rows

    def carriage(self, p: int, i: int) -> Carriage:
        """The rule for a release that comes only by bundle: which theme releases carry it."""
        numbers, members = self.numbers, self.members
        themes = [
            (numbers[name], mask)
            for name, mask in self.catalogue.carriage(members[p].product, i)
            if name in numbers and members[numbers[name]].active
        ]
        return Carriage.of(p, i, themes)

    @cached_property
    def untested(self) -> tuple[Cost, ...]:
        """For p, q both active: the options of q newer than options of p were tried with."""
        costs = []
        for p, member in enumerate(self.members):
            if not member.active:
                continue
            for product in member.line.tested:
                q = self.numbers.get(product, NOBODY)
                if q != NOBODY and self.members[q].active:
                    relation = _relation(self.catalogue, self.members, "tested", p, q)
                    costs.append(Cost(p, q, 1, relation.classes))
        return tuple(costs)

    @cached_property
    def constraints(self) -> list[list[Constraint]]:
        """What binds, by member: the rules that hold today, and what comes only by bundle."""
        tables = cast("list[list[Constraint]]", self.binding.tables)
        if not self.carried:
            return tables
        return [
            [*row, *[rule.clause for rule in carried]] if carried else row
            for row, carried in zip(tables, self.carried_of, strict=True)
        ]

    def network(self, domains: Sequence[int] | None = None) -> Network:
        """What is searched, over all candidates or narrower domains."""
        shut = self.binding.shut
        of = self.domains if domains is None else domains
        return Network([d & ~s for d, s in zip(of, shut, strict=True)], self.constraints)

    @cached_property
    def facts(self) -> Facts:
        """What can make an option impossible, by number: each rule that binds, then each member's
        limit to its candidates, then each plugin's need of a theme to carry it.
        """
        limits = len(self.rules)
        bundles = limits + len(self.members)
        constraints: dict[int, Sequence[Constraint]] = {
            n: (rule.constraint,) for n, rule in enumerate(self.rules) if n not in self.broken
        }
        for p, member in enumerate(self.members):
            only = member.ways.bundle_only & ~(1 << member.start) if member.ways.bundle else 0
            if only:
                constraints[bundles + p] = [self.carriage(p, i).clause for i in bits(only)]
        return Facts(
            [member.universe for member in self.members],
            constraints,
            limits,
        )

    def violated(self, choice: Sequence[int]) -> frozenset[int]:
        """The numbers of the rules that a choice does not meet."""
        return frozenset([n for n, rule in enumerate(self.rules) if not rule.holds(choice)])


def compile_problem(case: Case, catalogue: Catalogue | None = None) -> Problem:
    """Number a case. The catalogue is compiled from the case where none is given."""
    catalogue = catalogue or Catalogue.of(case)
    numbered_members = members(case, catalogue)
    rules = list(Rules(catalogue, numbered_members).every())
    start = [m.start for m in numbered_members]
    broken = frozenset([n for n, rule in enumerate(rules) if not rule.holds(start)])
    return numbered(catalogue, numbered_members, rules, broken)


def numbered(
    catalogue: Catalogue,
    members: tuple[Member, ...],
    rules: Sequence[Rule],
    broken: frozenset[int],
    binding: Binding | None = None,
) -> Problem:
    start = tuple([m.start for m in members])
    domains = tuple([m.candidates for m in members])
    binding = binding or Binding(len(members), rules, broken)
    return Problem(catalogue, members, start, domains, tuple(rules), broken, binding)


class Rules:
    """The rules of a site's members, made from what the catalogue says of their products."""

    def __init__(self, catalogue: Catalogue, members: Sequence[Member]) -> None:
        self.catalogue = catalogue
        self.members = members
        self.number = {m.product: n for n, m in enumerate(members) if not m.gone}

    def every(self) -> Iterator[Rule]:
        for p, member in enumerate(self.members):
            if member.active:
                for product in member.line.requires:
                    yield self._requires(p, product)
                for product in member.line.conflicts:
                    yield from self._conflicts(p, product)
        yield from self._clashes()
        yield from self._lockstep()

    def again(self, rule: Rule) -> Rule:
        """A rule anew, between members one of whom is another now, or gone."""
        if rule.kind == "requires":
            return self._requires(rule.p, rule.object)
        if self.members[rule.p].gone or self.members[rule.q].gone:
            return rule
        if rule.kind == "conflicts":
            return next(self._conflicts(rule.p, rule.object))
        pairs = self._clashes() if rule.kind == "clash" else self._lockstep()
        return next(remade for remade in pairs if (remade.p, remade.q) == (rule.p, rule.q))

    def _requires(self, p: int, product: str) -> Rule:
        member = self.members[p]
        q = self.number.get(product, NOBODY)
        if q == NOBODY or not self.members[q].active:
            relation = Relation([(own, 0) for own, _ in member.line.requires[product]])
        else:
            relation = _relation(self.catalogue, self.members, "requires", p, q)
        return Rule.of("requires", p, q, member.product, product, relation)

    def _conflicts(self, p: int, product: str) -> Iterator[Rule]:
        q = self.number.get(product, NOBODY)
        if q != NOBODY and self.members[q].active:
            relation = _relation(self.catalogue, self.members, "conflicts", p, q)
            yield Rule.of("conflicts", p, q, self.members[p].product, product, relation)

    def _pair(self, a: str, b: str) -> tuple[int, int] | None:
        """The numbers of two products, in the order of their ids, when both can bind."""
        p, q = (self.number.get(product) for product in sorted((a, b)))
        if p is None or q is None or p == q:
            return None
        return (p, q) if self.members[p].active and self.members[q].active else None

    def _clashes(self) -> Iterator[Rule]:
        met: dict[tuple[int, int], list[tuple[int, int]]] = {}
        for clash in self.catalogue.clashes:
            pair = self._pair(clash.a.product, clash.b.product)
            if pair is not None:
                ranges = {clash.a.product: clash.a.range, clash.b.product: clash.b.range}
                own, others = (_inside(m := self.members[n], ranges[m.product]) for n in pair)
                met.setdefault(pair, []).append((own, others))
        for pair, both in sorted(met.items()):
            yield self._of_pair("clash", pair, _apart(both))

    def _lockstep(self) -> Iterator[Rule]:
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

    def _of_pair(self, kind: RuleKind, pair: tuple[int, int], classes: Classes) -> Rule:
        p, q = pair
        relation = Relation(classes)
        return Rule.of(kind, p, q, self.members[p].product, self.members[q].product, relation)


def _relation(
    catalogue: Catalogue, members: Sequence[Member], field: str, p: int, q: int
) -> Relation:
    """What p's releases say of q; q's unlisted version or absence put in its place.

    Relations between listed releases are the same on every site, so they are made once.
    """
    own_product, other = members[p].product, members[q]
    both = (own_product, other.product)
    if other.start:
        return catalogue.derived(
            (field, *both),
            both,
            lambda: Relation([(own, mask) for own, mask, _ in catalogue.table(field, *both)]),
        )
    return Relation(
        [
            (own, mask | OFF_LIST if _off_list(field, other.installed, text) else mask)
            for own, mask, text in catalogue.table(field, *both)
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
    options = member.line.within(text)
    if not member.start and member.installed and member.installed in parse_range(text):
        options |= OFF_LIST
    return options


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
