"""What binds variables: the one type of constraint, in two forms.

Domains are options as bits of an integer, by variable. A constraint can do four things, and the
rest of the solver asks for nothing else:

    propagate(domains, v)   what the domain of v leaves of another variable
    violated(choice)        whether a whole choice breaks it
    entailed(domains)       whether nothing that is still open can break it
    explain(u)              by whose domains an option of u was dropped

A *table* binds two variables by classes: "options ``own`` of p go with options ``others`` of q".
A *clause* binds any number: of some ``(variable, options)`` at least one must be met. A rule that
one of several supports must be there is a clause; so is a nogood. Generalised clauses over sets of
options: see Beckert, Hähnle and Manyà, "The SAT problem of signed CNF formulas" (2000).

``distinctions`` and ``advantages`` tell dominance which options of a variable a constraint treats
alike (see dominance). Nothing here knows what the options stand for.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence

Domains = list[int]
Classes = tuple[tuple[int, int], ...]

_KEPT_SUPPORTS = 4096


class Relation:
    """Pairs of options of two variables, whichever these are: ``classes`` of ``(own, others)``.

    No option of the first is in two classes; one that is in none goes with everything. The support
    of a domain is kept, since the same domains come again and again: one relation serves many
    problems.

        Relation(((0b0011, 0b001), (0b0100, 0b110)))   # 0, 1 go with 0; 2 goes with 1, 2
    """

    __slots__ = ("_back", "_forth", "_rows", "classes")

    def __init__(self, classes: Iterable[tuple[int, int]]) -> None:
        self.classes: Classes = tuple(classes)
        self._forth: dict[int, int] = {}
        self._back: dict[int, int] = {}
        self._rows: dict[int, int] = {}

    def forth(self, own: int) -> int:
        """The options of the second that go with some option in a domain of the first."""
        kept = self._forth.get(own)
        if kept is None:
            rest, kept = own, 0
            for mine, others in self.classes:
                if rest & mine:
                    kept |= others
                    rest &= ~mine
                    if not rest:
                        break
            if rest:
                kept = -1
            if len(self._forth) > _KEPT_SUPPORTS:
                self._forth.clear()
            self._forth[own] = kept
        return kept

    def back(self, there: int) -> int:
        """The options of the first that go with some option in a domain of the second."""
        kept = self._back.get(there)
        if kept is None:
            kept = -1
            for mine, others in self.classes:
                if not others & there:
                    kept &= ~mine
            if len(self._back) > _KEPT_SUPPORTS:
                self._back.clear()
            self._back[there] = kept
        return kept

    def row(self, i: int) -> int:
        """The options of the second that go with option i of the first; -1: all."""
        kept = self._rows.get(i)
        if kept is None:
            kept = next((others for mine, others in self.classes if mine >> i & 1), -1)
            self._rows[i] = kept
        return kept

    def column(self, j: int) -> int:
        """The options of the first that go with option j of the second."""
        kept = self._back.get(1 << j)
        return self.back(1 << j) if kept is None else kept

    def fits(self, i: int, j: int) -> bool:
        """Whether option i of the first goes with option j of the second."""
        return bool(self.row(i) >> j & 1)

    def forbids(self, own: int, there: int) -> bool:
        """Whether some pair of two domains does not go together."""
        # Nothing is asked as often, so it is no any() over a generator.
        for mine, others in self.classes:  # noqa: SIM110
            if mine & own and there & ~others:
                return True
        return False


class Constraint(ABC):
    """Something that a choice must meet. ``scope`` are the variables it binds."""

    __slots__ = ("scope",)

    scope: tuple[int, ...]

    @abstractmethod
    def propagate(self, domains: Sequence[int], v: int) -> tuple[int, int]:
        """After the domain of v has narrowed: a variable, and its domain without what this
        constraint leaves no support; the domain may be as before.
        """

    @abstractmethod
    def violated(self, choice: Sequence[int]) -> bool:
        """Whether a choice breaks it."""

    @abstractmethod
    def entailed(self, domains: Sequence[int]) -> bool:
        """Whether every choice among the domains meets it."""

    def open(self, domains: Sequence[int]) -> Iterable[int]:
        """The variables it still binds among these domains; none where it is entailed."""
        return () if self.entailed(domains) else self.bound(domains)

    @abstractmethod
    def bound(self, domains: Sequence[int]) -> Iterable[int]:
        """The variables that it binds among these domains, where it is not entailed."""

    def explain(self, u: int) -> tuple[int, ...]:
        """The variables by whose domains it drops options of u."""
        return tuple([v for v in self.scope if v != u])

    @abstractmethod
    def advantages(self, domains: Sequence[int], v: int) -> Iterator[tuple[int, int]]:
        """``(these, others)``: with some neighbour, these options of v are better off than the
        others, which may be none. Options that are in all the same of ``these`` it treats alike.
        """


class Table(Constraint):
    """A relation between the options of p and those of q."""

    __slots__ = ("_back", "_forth", "_rows", "p", "q", "relation")

    def __init__(self, p: int, q: int, relation: Relation) -> None:
        self.p, self.q, self.relation = p, q, relation
        self.scope = (p, q)
        # What the relation has kept is looked up here, without a call: this is the inner loop.
        self._forth, self._back = relation._forth.get, relation._back.get
        self._rows = relation._rows.get

    def propagate(self, domains: Sequence[int], v: int) -> tuple[int, int]:
        own = domains[v]
        if v == self.p:
            there = self._forth(own)
            if there is None:
                there = self.relation.forth(own)
            return self.q, domains[self.q] & there
        there = self._back(own)
        if there is None:
            there = self.relation.back(own)
        return self.p, domains[self.p] & there

    def violated(self, choice: Sequence[int]) -> bool:
        i = choice[self.p]
        row = self._rows(i)
        if row is None:
            row = self.relation.row(i)
        return not row >> choice[self.q] & 1

    def entailed(self, domains: Sequence[int]) -> bool:
        return not self.relation.forbids(domains[self.p], domains[self.q])

    def bound(self, domains: Sequence[int]) -> tuple[int, ...]:
        return self.scope

    def advantages(self, domains: Sequence[int], v: int) -> Iterator[tuple[int, int]]:
        there = domains[self.q] if v == self.p else domains[self.p]
        if not there & (there - 1):
            return  # who is settled goes with every option that is left
        if v == self.p:
            # An option is better off than one that lacks some of what goes with it.
            fit = alike(self.relation.classes, domains[v], there, there)
            for met, own in fit.items():
                yield own, sum([mask for other, mask in fit.items() if met & ~other])
        else:
            for own, others in self.relation.classes:
                if own & there:
                    yield others, ~others


class Clause(Constraint):
    """Of some ``(variable, options)``, at least one is met.

    Clause({2: ~0b10, 5: 0b1100}): whoever takes option 1 of variable 2 needs 2 or 3 of variable 5.
    """

    __slots__ = ("literals",)

    def __init__(self, literals: dict[int, int]) -> None:
        self.literals = tuple(literals.items())
        self.scope = tuple(literals)

    def propagate(self, domains: Sequence[int], v: int) -> tuple[int, int]:
        last = -1
        left = 0
        for u, options in self.literals:
            domain = domains[u]
            if domain & options:
                if not domain & ~options or last >= 0:
                    return u, domain  # met already, or two may still meet it
                last, left = u, domain & options
        if last < 0:
            return v, 0
        return last, left

    def violated(self, choice: Sequence[int]) -> bool:
        return not any([options >> choice[u] & 1 for u, options in self.literals])

    def entailed(self, domains: Sequence[int]) -> bool:
        return any([not domains[u] & ~options for u, options in self.literals])

    def bound(self, domains: Sequence[int]) -> list[int]:
        return [u for u, options in self.literals if domains[u] & options]

    def advantages(self, domains: Sequence[int], v: int) -> Iterator[tuple[int, int]]:
        for u, options in self.literals:
            if u == v:
                yield options, ~options


class Cost:
    """Pairs of options of p and q that cost ``weight`` together, in classes; others are free."""

    __slots__ = ("classes", "p", "q", "weight")

    def __init__(self, p: int, q: int, weight: int, classes: Classes) -> None:
        self.p, self.q, self.weight, self.classes = p, q, weight, classes

    def paid(self, choice: Sequence[int]) -> bool:
        """Whether a choice pays it."""
        i, j = choice[self.p], choice[self.q]
        return any([own >> i & 1 and others >> j & 1 for own, others in self.classes])

    def bounds(self, domains: Sequence[int]) -> tuple[bool, bool]:
        """Whether it may still be paid, and whether it must be, whatever is chosen."""
        rest, there = domains[self.p], domains[self.q]
        may, must = False, True
        for own, others in self.classes:
            if own & rest:
                rest &= ~own
                may |= bool(others & there)
                must &= not there & ~others
        return may, must and not rest

    def with_option(self, v: int, i: int) -> int:
        """The options of the other side that pay together with option i of v."""
        if v == self.p:
            for own, others in self.classes:
                if own >> i & 1:
                    return others
            return 0
        paying = 0
        for own, others in self.classes:
            if others >> i & 1:
                paying |= own
        return paying

    def advantages(self, domains: Sequence[int], v: int) -> Iterator[tuple[int, int]]:
        """``(these, others)``: with some neighbour, these options of v cost less than others."""
        there = domains[self.q] if v == self.p else domains[self.p]
        if v == self.p:
            cost = alike(self.classes, domains[v], there, 0)
            for met, own in cost.items():
                yield own, sum([mask for other, mask in cost.items() if other & ~met])
        else:
            for own, others in self.classes:
                if own & there:
                    yield ~others, others


def alike(classes: Classes, mine: int, there: int, rest: int) -> dict[int, int]:
    """Some options by which of a neighbour's they meet; those in no class meet the rest."""
    by_met: dict[int, int] = {}
    for own, others in classes:
        if own & mine:
            by_met[others & there] = by_met.get(others & there, 0) | own & mine
            mine &= ~own
    if mine:
        by_met[rest] = by_met.get(rest, 0) | mine
    return by_met
