"""Acts: what somebody could do to change a case, and the case after it was done.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". An act changes
what is true of the site, its host or the policy; whether it helps is found by reasoning again.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import cached_property, lru_cache
from itertools import count
from typing import Literal, get_args

from windbreak.core.blockers import Fact, conflict, could_be, forbid
from windbreak.core.candidates import Member, reasons, soak_over
from windbreak.core.case import Case, Channel, Frozen, Licence, ShelfItem
from windbreak.core.catalogue import bits
from windbreak.core.constraints import Problem, compile_problem, with_candidates, without_plugin
from windbreak.core.model import Model, build_model
from windbreak.core.search import Choice, possible_from
from windbreak.core.versions import parse_version

ActKind = Literal["wait", "activate", "lift-hold", "licence", "offer", "remove", "channel", "shelf"]


class Act(Frozen):
    """One act; the fields its kind does not use are None."""

    act: ActKind
    product: str | None = None
    version: str | None = None
    channel: Channel | None = None
    until: date | None = None


@lru_cache(maxsize=4096)
def _act(
    kind: ActKind,
    product: str | None = None,
    version: str | None = None,
    channel: Channel | None = None,
    until: date | None = None,
) -> Act:
    """An act; equal ones are one."""
    return Act(act=kind, product=product, version=version, channel=channel, until=until)


def applied(case: Case, acts: Iterable[Act]) -> Case:
    """The case as it would be after the acts."""
    for act in acts:
        case = _apply(case, act)
    return case


def _apply(case: Case, act: Act) -> Case:
    site, policy = case.site, case.policy
    product = act.product or ""
    match act.act:
        case "wait":
            assert act.until is not None
            return case.model_copy(update={"at": datetime.combine(act.until, time.min, tzinfo=UTC)})
        case "activate":
            changed = tuple(
                c.model_copy(update={"active": True}) if c.product == product else c
                for c in site.components
            )
            site = site.model_copy(update={"components": changed})
        case "remove":
            kept = tuple(c for c in site.components if c.product != product)
            site = site.model_copy(update={"components": kept})
        case "licence":
            more = (*site.licences, Licence(product=product))
            site = site.model_copy(update={"licences": more})
        case "offer":
            offered = (*site.offers.get(product, ()), act.version or "")
            site = site.model_copy(update={"offers": {**site.offers, product: offered}})
        case "shelf":
            item = ShelfItem(product=product, version=act.version or "")
            site = site.model_copy(update={"shelf": (*site.shelf, item)})
        case "lift-hold":
            holds = tuple(h for h in policy.holds if h.product != product)
            policy = policy.model_copy(update={"holds": holds})
        case "channel":
            assert act.channel is not None
            more_of = {p: (*own, act.channel) for p, own in policy.channels_of.items()}
            update = {"channels": (*policy.channels, act.channel), "channels_of": more_of}
            policy = policy.model_copy(update=update)
    return case.model_copy(update={"site": site, "policy": policy})


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
    search = _Search(product, number, _Touching(here, product), explored)
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
    for licence in sorted((a for a in changed.others if a.act == "licence"), key=_rank):
        product = licence.product or ""
        rest = changed.others - {licence}
        without = changed.instead(rest)
        line = changed.problem.catalogue.line(product)
        for number in bits(without.core.wanted.get(product, 0)):
            version = line.releases[number - 1].version
            shelf = _act("shelf", product=product, version=version)
            wait = () if changed.until is None else (_act("wait", until=changed.until),)
            rank = sorted(map(_rank, (*wait, *rest, shelf)))
            if len(first) == MOST_ACTS and rank > first[-1].rank():
                break  # the packages that follow come later still
            if not without.wants_package(product, version):
                continue
            other = without.after(shelf, rest | {shelf}, changed.until)
            if all(other.acts != known.acts for known in first) and other.frees:
                first.append(other)
                first.sort(key=_Changed.rank)
                del first[MOST_ACTS:]
                _put_lesser(other, first)


@dataclass(frozen=True, slots=True)
class _Core:
    """What touches one thing that makes the release impossible: acts, and a wait until a day.

    ``wanted`` are the releases of a product, as bits, of which one more to be had would touch it.
    """

    acts: tuple[Act, ...]
    others: frozenset[Act]
    first_wait: date
    wanted: Mapping[str, int]

    @classmethod
    def of(cls, acts: Iterable[Act], wanted: Mapping[str, int]) -> _Core:
        ordered = tuple(sorted(set(acts), key=_rank))
        waits = [a.until for a in ordered if a.until is not None]
        others = frozenset(a for a in ordered if a.until is None)
        return cls(ordered, others, min(waits, default=date.max), wanted)

    def touched_by(self, others: frozenset[Act], until: date | None) -> bool:
        if until is not None and until >= self.first_wait:
            return True
        # A package on the shelf touches what a licence for its product does.
        return any(a in self.others or _as_licence(a) in self.others for a in others)

    def apart(self, other: _Core) -> bool:
        """Whether no one act touches both."""
        never = date.max in (self.first_wait, other.first_wait)
        return never and self.others.isdisjoint(other.others)


def _as_licence(act: Act) -> Act | None:
    return _act("licence", product=act.product) if act.act == "shelf" else None


class _Search:
    """What is sought, which changes were looked at already, and the cores found on the way."""

    def __init__(self, product: str, number: int, at_first: _Touching, explored: Explored) -> None:
        self.product = product
        self.number = number
        self.at_first = at_first
        self.explored = explored
        self.left = MOST_ACTS  # how many acts more a set of this round may get
        self.tries = 0
        self.seen: set[tuple[frozenset[Act], date | None]] = set()
        self.cores: list[_Core] = []  # those that stand in the case as it is
        self.facts: list[tuple[Fact, ...]] = []  # what made the release impossible so far

    def new(self, others: frozenset[Act], until: date | None) -> bool:
        """Whether a set was not looked at before, and can still become one that helps."""
        if (others, until) in self.seen:
            return False
        self.seen.add((others, until))
        needed: list[_Core] = []
        for core in self.cores:
            if not core.touched_by(others, until) and all(core.apart(n) for n in needed):
                needed.append(core)
        waits = until is not None and any(c.first_wait < date.max for c in needed)
        return len(needed) <= self.left + waits

    def untouched(self, others: frozenset[Act], until: date | None) -> _Core | None:
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
        found: list[_Changed] = []
        tried: list[_Changed] = []
        served: set[frozenset[Act]] = set()
        while waiting and len(found) < MOST_ACTS:
            _, _, changed = heapq.heappop(waiting)
            if changed.until is not None and changed.others in served:
                continue
            tried.append(changed)
            if changed.frees:
                found.append(changed)
                served.add(changed.others)
            elif changed.until is not None:
                for later in changed.later():
                    heapq.heappush(waiting, (later.rank(), next(numbers), later))
        return found, tried


@dataclass(frozen=True)
class _Explored:
    """A case after some acts, compiled."""

    case: Case
    problem: Problem

    @cached_property
    def model(self) -> Model:
        return build_model(self.problem, self.problem.domains)

    @cached_property
    def choices(self) -> list[Choice]:
        """Allowed choices known so far."""
        return [self.problem.start]

    def after(self, acts: Iterable[Act]) -> _Explored:
        case, problem = self.case, self.problem
        for act in acts:
            case = _apply(case, act)
            problem = _after(problem, case, act)
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
        wait = () if self.until is None else (_act("wait", until=self.until),)
        return tuple(sorted((*wait, *self.others), key=_rank))

    def rank(self) -> list[tuple[object, ...]]:
        """The place of a set among equals."""
        return [_rank(act) for act in self.acts]

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
        if v is None or not self.problem.domains[v] >> number & 1 or self.known is not None:
            return False
        model = self.now.model
        return bool(model.domains[v] >> number & 1) and possible_from(
            model, v, number, self.now.choices
        )

    @cached_property
    def known(self) -> tuple[Fact, ...] | None:
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
        told = reasons(self.now.case, self.problem.catalogue, member, number)
        return all(r.kind in ("licence", "bundle", "access", "from") for r in told)

    @cached_property
    def core(self) -> _Core:
        """What makes the release impossible here."""
        known = self.search.untouched(self.others, self.until)
        if known is not None:
            return known
        v = self.problem.numbers.get(self.search.product)
        if v is None:
            return _Core.of((), {})
        number = self.search.number
        here = _Touching(self.now, self.search.product)
        what: _What
        if not self.problem.domains[v] >> number & 1:
            what = here.exclusion(number)
        else:
            what = self.known or conflict(self.problem, v, number)
            if self.known is None:
                self.search.facts.append(what)
        found = here.core(what, number)
        at_first = self.search.at_first.core(what, number)
        if not at_first.touched_by(self.others, self.until):
            wanted = dict(found.wanted)
            for product, options in at_first.wanted.items():
                wanted[product] = wanted.get(product, 0) | options
            found = _Core.of((*at_first.acts, *found.acts), wanted)
            self.search.cores.append(found)
        return found

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
            acts = sorted(others, key=_rank)
            if self.until is not None:
                acts = [_act("wait", until=self.until), *acts]
            self.search.explored[key] = self.search.at_first.here.after(acts)
        return _Changed(self.search, self.search.explored[key], None, others, self.until)

    def after(self, act: Act, others: frozenset[Act], until: date | None) -> _Changed:
        known = self.search.explored.get((others, until))
        if known is not None:
            return _Changed(self.search, known, None, others, until)
        return _Changed(self.search, self.now, act, others, until)


def _after(problem: Problem, case: Case, act: Act) -> Problem:
    """The problem of a case, that of the case before the act being given."""
    match act.act:
        case "activate":
            return compile_problem(case, problem.catalogue)
        case "remove":
            return without_plugin(problem, case, act.product or "")
        case "wait":
            touched = [m.product for m in problem.members if m.dated]
        case "channel":
            channel = act.channel or "stable"
            touched = [
                m.product for m in problem.members if channel in m.line.channels and not m.gone
            ]
        case _:
            touched = [act.product or ""]
    return with_candidates(problem, case, touched)


_ORDER = {kind: place for place, kind in enumerate(get_args(ActKind))}


@lru_cache(maxsize=4096)
def _rank(act: Act) -> tuple[object, ...]:
    """The place of an act among equals: by kind, then by product, day and version."""
    version = parse_version(act.version).key if act.version else ()
    return (_ORDER[act.act], act.until or date.min, act.product or "", version, act.channel or "")


_What = str | tuple[Fact, ...]  # an exclusion's kind, or facts


class _Touching:
    """The acts that change anything about why one product does not reach a release."""

    def __init__(self, here: _Explored, asked: str) -> None:
        self.here = here
        self.case = here.case
        self.problem = here.problem
        self.asked = asked
        self.wanted: dict[str, int] = {}
        self._cores: dict[_What, _Core] = {}

    def exclusion(self, number: int) -> str:
        """Of what keeps a release from being a candidate, the kind that fewest acts touch."""
        member = self.problem.members[self.problem.number(self.asked)]
        told = reasons(self.case, self.problem.catalogue, member, number)
        return min((r.kind for r in told), key=lambda kind: self._hardness(kind, number))

    def _hardness(self, kind: str, number: int) -> tuple[bool, int]:
        """What is to be changed first: the way of access last, as it is tried only for releases
        that nothing else keeps out; then what fewest acts touch.
        """
        return kind not in ("channel", "hold", "soak"), len(set(self.on(kind, number)))

    def core(self, what: _What, number: int) -> _Core:
        """The acts that touch it, and which releases are wanted for it."""
        if what not in self._cores:
            self.wanted = {}
            self._cores[what] = _Core.of(list(self.on(what, number)), self.wanted)
        return self._cores[what]

    def on(self, what: _What, number: int) -> Iterator[Act]:
        """The acts that touch it."""
        v = self.problem.number(self.asked)
        if isinstance(what, str):
            yield from self._exclusion(self.problem.members[v], number, what)
        else:
            options = could_be(self.problem, v, number, what)
            for fact in what:
                yield from self._fact(fact, options)

    def _exclusion(self, member: Member, number: int, kind: str) -> Iterator[Act]:
        product, release = member.product, member.line.releases[number - 1]
        match kind:
            case "channel":
                yield _act("channel", channel=release.channel)
            case "hold":
                yield _act("lift-hold", product=product)
                yield from self._holds_end(product)
            case "soak":
                over = soak_over(self.case, member, number)
                if over < date.max:
                    yield _act("wait", until=over)
            case "from":
                yield from self._limit(member, 1 << number)
            case _:
                yield from self._access(member, 1 << number)
                yield from self._themes(product, 1 << number)

    def _fact(self, fact: Fact, options: Mapping[str, int]) -> Iterator[Act]:
        if fact.fact in ("limit", "bundle"):
            assert fact.product is not None
            number = self.problem.numbers.get(fact.product, -1)
            if number >= 0:
                option = options.get(fact.product, 0)
                yield from self._limit(self.problem.members[number], option)
                yield from self._remove(fact.product)
            return
        for product in (fact.subject, fact.object):
            number = self.problem.numbers.get(product or "", -1)
            if product is None or number < 0:
                continue
            yield from self._remove(product)
            if not self.problem.members[number].active:
                yield _act("activate", product=product)

    def _remove(self, product: str) -> Iterator[Act]:
        number = self.problem.numbers[product]
        component = self.problem.members[number].component
        if component is not None and product.startswith("plugin/") and product != self.asked:
            yield _act("remove", product=product)

    def _limit(self, member: Member, options: int) -> Iterator[Act]:
        """The acts that change whether a member may become one of some options.

        Where one of them can't be gone to straight, all below it may be wanted on the way.
        """
        line, product = member.line, member.product
        if member.installed is not None and any(options >> k & 1 for k in line.stepped):
            options |= (1 << options.bit_length()) - 1
        above = line.above(member.installed) if member.installed else line.listed
        out = above & ~member.candidates & options
        for channel, mask in line.channels.items():
            if mask & out and channel not in self.case.policy.channels_for(product):
                yield _act("channel", channel=channel)
        if any(h.product == product and line.within(h.range) & out for h in self.case.policy.holds):
            yield _act("lift-hold", product=product)
            yield from self._holds_end(product)
        soak = self.case.policy.soak_of(product)
        longest = max(soak.major, soak.minor, soak.patch, soak.security)
        for number in bits(out & ~line.published_by(self.case.day.toordinal() - longest)):
            over = soak_over(self.case, member, number)
            if self.case.day < over < date.max:
                yield _act("wait", until=over)
        yield from self._access(member, out | member.bundle_only & options)
        yield from self._themes(product, options)

    def _holds_end(self, product: str) -> Iterator[Act]:
        for hold in self.case.policy.holds:
            if hold.product == product and hold.until and self.case.day <= hold.until < date.max:
                yield _act("wait", until=hold.until + timedelta(days=1))

    def _access(self, member: Member, wanted: int) -> Iterator[Act]:
        """The acts that give another way to have some releases."""
        product, line = member.line.product, member.line
        self.wanted[product.id] = self.wanted.get(product.id, 0) | wanted
        if product.access == "licensed" and wanted & ~member.ways.licensed:
            yield _act("licence", product=product.id)
            return
        ways = member.ways
        for number in bits(wanted & ~(ways.public | ways.licensed | ways.shelf | ways.host)):
            version = line.releases[number - 1].version
            kind: ActKind = "offer" if line.is_runtime else "shelf"
            yield _act(kind, product=product.id, version=version)

    def _themes(self, plugin: str, options: int) -> Iterator[Act]:
        """The acts that change whether themes carry a plugin in one of some versions."""
        for name in self.problem.catalogue.carriers.get(plugin, ()):
            number = self.problem.numbers.get(name)
            if number is None:
                continue
            theme = self.problem.members[number]
            rows = self.problem.catalogue.table("bundles", name, plugin)
            carrying = sum(own for own, carried, _ in rows if carried & options)
            if carrying and not theme.active:
                yield _act("activate", product=name)
            if carrying:
                yield from self._limit(theme, carrying)
