"""What must hold between components, compiled to small integers and bit sets.

Source of the rules: docs/reasoning.md, "What must hold". A ``Problem`` numbers the members of a
site and each member's options; a constraint is a table that says, for each option of one
member, which options of the other it goes with, as the bits of one integer. Text stays outside.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Literal

from windbreak.core.candidates import Member, Option
from windbreak.core.case import Case, Match
from windbreak.core.versions import Version, parse_range, parse_version

ConstraintKind = Literal["requires", "conflicts", "clash", "lockstep"]

NOBODY = -1  # the other side of a requirement that names something not on the site


@dataclass(frozen=True, slots=True)
class Constraint:
    """One triple (kind, p, q): ``fits[i]`` has bit j set when option i of p goes with j of q.

    Where q is NOBODY, bit 0 alone is used.
    """

    kind: ConstraintKind
    p: int
    q: int
    subject: str
    object: str
    fits: tuple[int, ...]

    def holds(self, choice: Sequence[int]) -> bool:
        other = 0 if self.q == NOBODY else choice[self.q]
        return bool(self.fits[choice[self.p]] >> other & 1)


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
class Problem:
    """A case, numbered. ``start[v]`` is the option of member v that stands today.

    ``domains[v]`` are the options members are compiled over, as bits: all of ``options[v]``.
    ``broken`` are the numbers of the constraints that do not hold today: they may stay so.
    """

    members: tuple[Member, ...]
    options: tuple[tuple[Option, ...], ...]
    start: tuple[int, ...]
    constraints: tuple[Constraint, ...]
    broken: frozenset[int]
    carried: tuple[Carried, ...]

    @property
    def domains(self) -> tuple[int, ...]:
        return tuple((1 << len(options)) - 1 for options in self.options)

    def number(self, product: str) -> int:
        """The number of a member. Raises KeyError."""
        for index, member in enumerate(self.members):
            if member.product == product:
                return index
        raise KeyError(product)

    def violated(self, choice: Sequence[int]) -> frozenset[int]:
        """The numbers of the constraints that a choice does not meet."""
        return frozenset(n for n, c in enumerate(self.constraints) if not c.holds(choice))


def compile_problem(case: Case, members: Sequence[Member], *, universe: bool = False) -> Problem:
    """Number a case. With ``universe`` the options are all known releases, not candidates only."""
    options = tuple(m.universe if universe else m.options for m in members)
    start = tuple(opts.index(m.options[0]) for m, opts in zip(members, options, strict=True))
    builder = _Builder(case, members, options)
    constraints = tuple(builder.constraints())
    broken = frozenset(n for n, c in enumerate(constraints) if not c.holds(start))
    carried = tuple(builder.carried(start))
    return Problem(tuple(members), options, start, constraints, broken, carried)


class _Builder:
    def __init__(
        self, case: Case, members: Sequence[Member], options: tuple[tuple[Option, ...], ...]
    ) -> None:
        self.case = case
        self.members = members
        self.options = options
        self.number = {m.product: n for n, m in enumerate(members)}

    def constraints(self) -> Iterator[Constraint]:
        for p, member in enumerate(self.members):
            if member.active:
                yield from self._requires(p, member)
                yield from self._conflicts(p, member)
        yield from self._clashes()
        yield from self._lockstep()

    def _in_range(self, q: int, text: str) -> int:
        """The options of q, present, whose version lies in a range, as bits."""
        wanted = parse_range(text)
        return _bits(o.version is not None and o.version in wanted for o in self.options[q])

    def _named(self, p: int, field: Literal["requires", "conflicts"]) -> list[str]:
        found = {
            q for o in self.options[p] if o.release is not None for q in getattr(o.release, field)
        }
        return sorted(found - {self.members[p].product})

    def _requires(self, p: int, member: Member) -> Iterator[Constraint]:
        for product in self._named(p, "requires"):
            q = self.number.get(product, NOBODY)
            usable = q != NOBODY and self.members[q].active
            every = (1 << len(self.options[q])) - 1 if q != NOBODY else 1
            fits = []
            for option in self.options[p]:
                wanted = option.release.requires.get(product) if option.release else None
                if wanted is None:
                    fits.append(every)
                else:
                    fits.append(self._in_range(q, wanted) if usable else 0)
            yield Constraint("requires", p, q, member.product, product, tuple(fits))

    def _conflicts(self, p: int, member: Member) -> Iterator[Constraint]:
        for product in self._named(p, "conflicts"):
            q = self.number.get(product, NOBODY)
            if q == NOBODY or not self.members[q].active:
                continue
            every = (1 << len(self.options[q])) - 1
            fits = []
            for option in self.options[p]:
                avoided = option.release.conflicts.get(product) if option.release else None
                fits.append(every if avoided is None else every & ~self._in_range(q, avoided))
            yield Constraint("conflicts", p, q, member.product, product, tuple(fits))

    def _pair(self, a: str, b: str) -> tuple[int, int] | None:
        """The numbers of two products, in the order of their ids, when both can bind."""
        p, q = (self.number.get(product) for product in sorted((a, b)))
        if p is None or q is None or p == q:
            return None
        return (p, q) if self.members[p].active and self.members[q].active else None

    def _clashes(self) -> Iterator[Constraint]:
        tables: dict[tuple[int, int], list[int]] = {}
        for clash in self.case.clashes:
            pair = self._pair(clash.a.product, clash.b.product)
            if pair is None:
                continue
            p, q = pair
            ranges = {clash.a.product: clash.a.range, clash.b.product: clash.b.range}
            table = tables.setdefault(
                pair, [(1 << len(self.options[q])) - 1] * len(self.options[p])
            )
            inside = self._in_range(p, ranges[self.members[p].product])
            avoid = self._in_range(q, ranges[self.members[q].product])
            for i in range(len(table)):
                if inside >> i & 1:
                    table[i] &= ~avoid
        yield from self._tables("clash", tables)

    def _lockstep(self) -> Iterator[Constraint]:
        tables: dict[tuple[int, int], list[int]] = {}
        for group in self.case.lockstep:
            for a, b in combinations(group.products, 2):
                pair = self._pair(a, b)
                if pair is None:
                    continue
                p, q = pair
                table = tables.setdefault(
                    pair, [(1 << len(self.options[q])) - 1] * len(self.options[p])
                )
                for i, option in enumerate(self.options[p]):
                    table[i] &= _bits(
                        _match(option.version, o.version, group.match) for o in self.options[q]
                    )
        yield from self._tables("lockstep", tables)

    def _tables(
        self, kind: ConstraintKind, tables: dict[tuple[int, int], list[int]]
    ) -> Iterator[Constraint]:
        for (p, q), table in sorted(tables.items()):
            yield Constraint(
                kind, p, q, self.members[p].product, self.members[q].product, tuple(table)
            )

    def carried(self, start: tuple[int, ...]) -> Iterator[Carried]:
        for p, options in enumerate(self.options):
            for i, option in enumerate(options):
                if option.bundle_only and i != start[p]:
                    assert option.version is not None
                    yield Carried(p, i, tuple(self._carriers(p, option.version)))

    def _carriers(self, p: int, version: Version) -> Iterator[tuple[int, int]]:
        product = self.members[p].product
        for theme, member in enumerate(self.members):
            if not member.product.startswith("theme/") or not member.active:
                continue
            mask = _bits(_carries(o, product, version) for o in self.options[theme])
            if mask:
                yield theme, mask


def _carries(option: Option, product: str, version: Version) -> bool:
    bundled = option.release.bundles.get(product) if option.release else None
    return bundled is not None and parse_version(bundled) == version


def _match(a: Version | None, b: Version | None, level: Match) -> bool:
    if a is None or b is None:
        return True
    if level == "exact":
        return a == b
    places = 2 if level == "minor" else 1
    return all(a.place(n) == b.place(n) for n in range(places))


def _bits(flags: Iterable[bool]) -> int:
    return sum(1 << index for index, flag in enumerate(flags) if flag)
