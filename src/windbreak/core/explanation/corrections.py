"""The smallest sets of acts after which a release is part of an allowed choice.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". Whether a set helps is
found by reasoning again on the changed case; which are worth trying is read off what stands in the
way (see touching).
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from itertools import count

from windbreak.core.bits import bits
from windbreak.core.case.candidates import reasons
from windbreak.core.case.situation import Case
from windbreak.core.explanation.acts import apply
from windbreak.core.explanation.conflicts import conflict, forbid
from windbreak.core.explanation.relevance import Core, Touching, What
from windbreak.core.resolution.changed import after
from windbreak.core.resolution.problem import Problem
from windbreak.core.solver.network import Network
from windbreak.core.solver.search import Choice, satisfiable_from
from windbreak.core.values.reasons import Act, Fact, act_of
from windbreak.core.values.reasons import rank as rank_of
from windbreak.core.versions.version import parse_version

MOST_ACTS = 3  # in a set, and sets that are told


MOST_TRIES = 400  # changed cases reasoned about for one version; beyond it nothing is known


class SearchTooLong(Exception):
    """More changed cases were looked at than allowed."""


Explored = dict[tuple[frozenset[Act], date | None], "_Explored"]


def smallest(
    case: Case,
    problem: Problem,
    product: str,
    number: int,
    explored: Explored | None = None,
    facts: tuple[Fact, ...] = (),
) -> list[tuple[Act, ...]]:
    """The smallest sets of acts after which a release is part of an allowed choice.

    Up to MOST_ACTS sets of equal size, of up to MOST_ACTS acts, those first that are preferred;
    none where there is none. ``explored`` keeps changed cases for the next question about the same
    case; ``facts`` are what makes the release impossible, where that is known. Raises
    SearchTooLong.

    (1) What makes the release impossible now is its *core*: one exclusion, or a minimal set of
        facts. While no act touches it, it stands: so every set that helps has an act that does.
    (2) Each act that touches the core is tried. Where that does not help, the changed case has a
        core of its own, and an act that touches that one joins; one act more in each round. A
        longer wait takes the place of a shorter one and is no act more.
    (3) A core that no act so far touches stands from the beginning: a set that leaves it alone, or
        has too few acts left for all such cores, need not be reasoned about.
    """
    explored = {} if explored is None else explored
    here = explored.setdefault((frozenset(), None), _Explored(case, problem))
    search = _Search(product, number, here, explored)
    search.facts += [facts] if facts else []
    tried = [_Changed(search, here)]
    for size in range(1, MOST_ACTS + 1):
        search.left = MOST_ACTS - size
        first, tried = search.first([new for changed in tried for new in changed.one_more()])
        if first:
            for changed in list(first):
                _put_lesser(changed, first)
            return [changed.acts for changed in first]
    return []


def _put_lesser(changed: _Changed, first: list[_Changed]) -> None:
    """Put among the first sets those with a package on the shelf in place of a licence.

    A licence does all that a package of its product does, so the search leaves packages out
    where a licence could be had.
    """
    for licence in sorted((a for a in changed.others if a.act == "licence"), key=rank_of):
        product = licence.product or ""
        rest = changed.others - {licence}
        without = changed.instead(rest)
        line = changed.problem.catalogue.line(product)
        for number in bits(without.core.wanted.get(product, 0)):
            version = line.releases[number - 1].version
            shelf = act_of("shelf", product=product, version=version)
            wait = () if changed.until is None else (act_of("wait", until=changed.until),)
            rank = sorted(map(rank_of, (*wait, *rest, shelf)))
            if len(first) == MOST_ACTS and rank > first[-1].rank():
                break  # the packages that follow come later still
            if not without.wants_package(product, version):
                continue
            other = without.after(shelf, rest | {shelf}, changed.until)
            if all(other.acts != listed.acts for listed in first) and other.frees:
                first.append(other)
                first.sort(key=_Changed.rank)
                del first[MOST_ACTS:]
                _put_lesser(other, first)


class _Search:
    """What is sought, which changes were looked at already, and the cores found on the way."""

    def __init__(self, product: str, number: int, here: _Explored, explored: Explored) -> None:
        self.product = product
        self.number = number
        self.here = here
        self.at_first = Touching(here.case, here.problem, product)
        self.explored = explored
        self.left = MOST_ACTS  # how many acts more a set of this round may get
        self.tries = 0
        self.seen: set[tuple[frozenset[Act], date | None]] = set()
        self.cores: list[Core] = []  # those that stand in the case as it is
        self.facts: list[tuple[Fact, ...]] = []  # what made the release impossible so far

    def new(self, others: frozenset[Act], until: date | None) -> bool:
        """Whether a set was not looked at before, and can still become one that helps."""
        if (others, until) in self.seen:
            return False
        self.seen.add((others, until))
        needed: list[Core] = []
        for core in self.cores:
            if not core.touched_by(others, until) and all(core.apart(n) for n in needed):
                needed.append(core)
        waits = until is not None and any(c.first_wait < date.max for c in needed)
        return len(needed) <= self.left + waits

    def untouched(self, others: frozenset[Act], until: date | None) -> Core | None:
        """A core that stands whatever a set of acts does."""
        return next((c for c in self.cores if not c.touched_by(others, until)), None)

    def first(self, round_: Iterable[_Changed]) -> tuple[list[_Changed], list[_Changed]]:
        """The first of a round that help, MOST_ACTS at most, and all that were tried for it.

        Those that are preferred are tried first. A wait that does not help is followed by the
        longer ones that its own lead to; of those that help only the shortest counts.
        """
        numbers = count()  # so that no two are compared but by their ranks
        waiting = [(changed.rank(), next(numbers), changed) for changed in round_]
        heapq.heapify(waiting)
        helping: list[_Changed] = []
        tried: list[_Changed] = []
        served: set[frozenset[Act]] = set()
        while waiting and len(helping) < MOST_ACTS:
            _, _, changed = heapq.heappop(waiting)
            if changed.until is not None and changed.others in served:
                continue
            tried.append(changed)
            if changed.frees:
                helping.append(changed)
                served.add(changed.others)
            elif changed.until is not None:
                for later in changed.later():
                    heapq.heappush(waiting, (later.rank(), next(numbers), later))
        return helping, tried


@dataclass(frozen=True)
class _Explored:
    """A case after some acts, compiled."""

    case: Case
    problem: Problem

    @cached_property
    def network(self) -> Network:
        return self.problem.network()

    @cached_property
    def choices(self) -> list[Choice]:
        """Allowed choices known so far."""
        return [self.problem.start]

    def after(self, acts: Iterable[Act]) -> _Explored:
        case, problem = self.case, self.problem
        for act in acts:
            case = apply(case, act)
            problem = after(problem, case, act)
        return _Explored(case, problem)


@dataclass(eq=False)
class _Changed:
    """A case after some acts. ``others`` are all but the wait, which lasts ``until`` a day."""

    search: _Search
    before: _Explored
    act: Act | None = None  # the last one, which ``before`` does not know of
    others: frozenset[Act] = frozenset()
    until: date | None = None

    @property
    def acts(self) -> tuple[Act, ...]:
        wait = () if self.until is None else (act_of("wait", until=self.until),)
        return tuple(sorted((*wait, *self.others), key=rank_of))

    def rank(self) -> list[tuple[object, ...]]:
        """The place of a set among equals."""
        return [rank_of(act) for act in self.acts]

    @cached_property
    def now(self) -> _Explored:
        if self.act is None:
            return self.before
        key = (self.others, self.until)
        if key not in self.search.explored:
            self.search.explored[key] = self.before.after((self.act,))
        return self.search.explored[key]

    @property
    def problem(self) -> Problem:
        return self.now.problem

    @cached_property
    def frees(self) -> bool:
        """Whether some allowed choice has the release. Raises SearchTooLong."""
        if self.search.untouched(self.others, self.until) is not None:
            return False
        self.search.tries += 1
        if self.search.tries > MOST_TRIES:
            raise SearchTooLong
        number = self.search.number
        v = self.problem.numbers.get(self.search.product)
        if v is None or not self.problem.domains[v] >> number & 1:
            return False
        network = self.now.network
        return bool(network.domains[v] >> number & 1) and satisfiable_from(
            network, v, number, self.now.choices
        )

    @cached_property
    def earlier_facts(self) -> tuple[Fact, ...] | None:
        """Facts met before that make the release impossible here too."""
        v = self.problem.number(self.search.product)
        for facts in reversed(self.search.facts):
            if forbid(self.problem, v, self.search.number, facts):
                return facts
        return None

    def wants_package(self, product: str, version: str) -> bool:
        """Whether nothing but access keeps a release out."""
        v = self.problem.numbers.get(product)
        if v is None:
            return False
        member = self.problem.members[v]
        number = member.line.number(parse_version(version))
        reasons_out = reasons(self.now.case, self.problem.catalogue, member, number)
        return all(r.kind in ("licence", "bundle", "access", "from") for r in reasons_out)

    @cached_property
    def core(self) -> Core:
        """What makes the release impossible here."""
        standing = self.search.untouched(self.others, self.until)
        if standing is not None:
            return standing
        v = self.problem.numbers.get(self.search.product)
        if v is None:
            return Core.of((), {})
        number = self.search.number
        here = Touching(self.now.case, self.problem, self.search.product)
        what: What
        if not self.problem.domains[v] >> number & 1:
            what = here.exclusion(number)
        else:
            what = self.earlier_facts or conflict(self.problem, v, number)
            if self.earlier_facts is None:
                self.search.facts.append(what)
        touching = here.core(what, number)
        at_first = self.search.at_first.core(what, number)
        if not at_first.touched_by(self.others, self.until):
            wanted = dict(touching.wanted)
            for product, options in at_first.wanted.items():
                wanted[product] = wanted.get(product, 0) | options
            touching = Core.of((*at_first.acts, *touching.acts), wanted)
            self.search.cores.append(touching)
        return touching

    def one_more(self) -> Iterator[_Changed]:
        """This change with each act more that may help."""
        for act in self.core.acts:
            if act.act != "wait":
                if act not in self.others and self.search.new(self.others | {act}, self.until):
                    yield self.after(act, self.others | {act}, self.until)
            elif self.until is None and self.search.new(self.others, act.until):
                yield self.after(act, self.others, act.until)

    def later(self) -> Iterator[_Changed]:
        """This change with a longer wait that may help."""
        for act in self.core.acts:
            longer = act.until is not None and self.until is not None and act.until > self.until
            if longer and self.search.new(self.others, act.until):
                yield self.after(act, self.others, act.until)

    def instead(self, others: frozenset[Act]) -> _Changed:
        """The case as it is at first after other acts, the wait being the same."""
        key = (others, self.until)
        if key not in self.search.explored:
            acts = sorted(others, key=rank_of)
            if self.until is not None:
                acts = [act_of("wait", until=self.until), *acts]
            self.search.explored[key] = self.search.here.after(acts)
        return _Changed(self.search, self.search.explored[key], None, others, self.until)

    def after(self, act: Act, others: frozenset[Act], until: date | None) -> _Changed:
        changed = self.search.explored.get((others, until))
        if changed is not None:
            return _Changed(self.search, changed, None, others, until)
        return _Changed(self.search, self.now, act, others, until)
