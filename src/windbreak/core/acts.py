"""Acts: what somebody could do to change a case, and the case after it was done.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". An act changes
what is true of the site, its host or the policy; whether it helps is found by reasoning again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import cached_property
from typing import Literal, get_args

from windbreak.core.blockers import Fact, conflict
from windbreak.core.candidates import Member, reasons, soak_over
from windbreak.core.case import Case, Channel, Frozen, Licence, ShelfItem
from windbreak.core.catalogue import bits
from windbreak.core.constraints import Problem, compile_problem, with_candidates
from windbreak.core.search import build_model, possible
from windbreak.core.versions import parse_version

ActKind = Literal["wait", "activate", "lift-hold", "licence", "offer", "remove", "channel", "shelf"]


class Act(Frozen):
    """One act; the fields its kind does not use are None."""

    act: ActKind
    product: str | None = None
    version: str | None = None
    channel: Channel | None = None
    until: date | None = None


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
            policy = policy.model_copy(update={"channels": (*policy.channels, act.channel)})
    return case.model_copy(update={"site": site, "policy": policy})


MOST_ACTS = 3  # in a set, and sets that are told
MOST_TRIES = 600  # changed cases looked at for one version; beyond it nothing is known


class SearchTooLong(Exception):
    """More changed cases were looked at than allowed."""


def smallest(case: Case, problem: Problem, product: str, number: int) -> list[tuple[Act, ...]]:
    """The smallest sets of acts after which a release is part of an allowed choice.

    Up to MOST_ACTS sets of equal size, of up to MOST_ACTS acts, those first that are preferred;
    none where there is none. Raises SearchTooLong.

    (1) What makes the release impossible now is its *core*: one exclusion, or a minimal set of
        facts. While no act touches it, it stands: so every set that helps has an act that does.
    (2) Each act that touches the core is tried. Where that does not help, the changed case has a
        core of its own, and an act that touches that one joins; one act more in each round. A
        longer wait takes the place of a shorter one and is no act more.
    """
    search = _Search(product, number)
    round_ = [_Changed(case, problem, frozenset(), None, search)]
    for _ in range(MOST_ACTS):
        round_ = search.longer([new for changed in round_ for new in changed.one_more()])
        found = [changed.acts for changed in round_ if changed.frees]
        if found:
            return sorted(found, key=lambda acts: [_rank(a) for a in acts])[:MOST_ACTS]
    return []


class _Search:
    """What is sought, and which changes were looked at already."""

    def __init__(self, product: str, number: int) -> None:
        self.product = product
        self.number = number
        self.seen: set[tuple[frozenset[Act], date | None]] = set()

    def new(self, acts: frozenset[Act], until: date | None) -> bool:
        """Whether a change was not looked at before. Raises SearchTooLong."""
        if (acts, until) in self.seen:
            return False
        if len(self.seen) >= MOST_TRIES:
            raise SearchTooLong
        self.seen.add((acts, until))
        return True

    def longer(self, round_: list[_Changed]) -> list[_Changed]:
        """A round with the longer waits that its own lead to; the first day that serves only."""
        served: dict[frozenset[Act], date] = {}
        found: dict[tuple[frozenset[Act], date | None], _Changed] = {}
        waiting = list(round_)
        while waiting:
            changed = waiting.pop()
            found[changed.others, changed.until] = changed
            if changed.until is None:
                continue
            first = served.get(changed.others, date.max)
            if changed.frees:
                served[changed.others] = min(first, changed.until)
            elif changed.until < first:
                waiting += changed.later()
        return [
            c
            for c in found.values()
            if c.until is None or c.until <= served.get(c.others, date.max)
        ]


@dataclass(frozen=True)
class _Changed:
    """A case after some acts. ``others`` are all but the wait, which lasts ``until`` a day."""

    case: Case
    problem: Problem
    others: frozenset[Act]
    until: date | None
    search: _Search

    @property
    def acts(self) -> tuple[Act, ...]:
        wait = () if self.until is None else (Act(act="wait", until=self.until),)
        return tuple(sorted((*wait, *self.others), key=_rank))

    @cached_property
    def frees(self) -> bool:
        """Whether some allowed choice has the release."""
        v = self.problem.numbers.get(self.search.product)
        if v is None or not self.problem.domains[v] >> self.search.number & 1:
            return False
        model = build_model(self.problem, self.problem.domains)
        return possible(model, {v: 1 << self.search.number})

    @cached_property
    def touching(self) -> tuple[Act, ...]:
        """The acts that touch what makes the release impossible here."""
        v = self.problem.numbers.get(self.search.product)
        if v is None:
            return ()
        touching = _Touching(self.case, self.problem, v)
        return tuple(sorted(set(touching.core_of(self.search.number)), key=_rank))

    def one_more(self) -> Iterator[_Changed]:
        """This change with each act more that may help."""
        for act in self.touching:
            if act.act != "wait":
                if act not in self.others and self.search.new(self.others | {act}, self.until):
                    yield self._after(act, self.others | {act}, self.until)
            elif self.until is None and self.search.new(self.others, act.until):
                yield self._after(act, self.others, act.until)

    def later(self) -> Iterator[_Changed]:
        """This change with a longer wait that may help."""
        for act in self.touching:
            longer = act.until is not None and self.until is not None and act.until > self.until
            if longer and self.search.new(self.others, act.until):
                yield self._after(act, self.others, act.until)

    def _after(self, act: Act, others: frozenset[Act], until: date | None) -> _Changed:
        case = _apply(self.case, act)
        if act.act in ("wait", "activate", "remove", "channel"):
            problem = compile_problem(case, self.problem.catalogue)
        else:
            problem = with_candidates(self.problem, case, act.product or "")
        return _Changed(case, problem, others, until, self.search)


_ORDER = {kind: place for place, kind in enumerate(get_args(ActKind))}


def _rank(act: Act) -> tuple[object, ...]:
    """The place of an act among equals: by kind, then by product, day and version."""
    version = parse_version(act.version).key if act.version else ()
    return (_ORDER[act.act], act.until or date.min, act.product or "", version, act.channel or "")


class _Touching:
    """The acts that change anything about why one member does not reach a release."""

    def __init__(self, case: Case, problem: Problem, v: int) -> None:
        self.case = case
        self.problem = problem
        self.v = v
        self.asked = problem.members[v].product

    def core_of(self, number: int) -> Iterator[Act]:
        """The acts on the core: the exclusion that fewest acts touch, or the facts."""
        member = self.problem.members[self.v]
        if not member.candidates >> number & 1:
            told = reasons(self.case, self.problem.catalogue, member, number)
            sets = [list(self._exclusion(member, number, one.kind)) for one in told]
            yield from min(sets, key=len)
            return
        for fact in conflict(self.problem, self.v, number):
            yield from self._fact(fact)

    def _exclusion(self, member: Member, number: int, kind: str) -> Iterator[Act]:
        product, release = member.product, member.line.releases[number - 1]
        match kind:
            case "channel":
                yield Act(act="channel", channel=release.channel)
            case "hold":
                yield Act(act="lift-hold", product=product)
                yield from self._holds_end(product)
            case "soak":
                yield Act(act="wait", until=soak_over(self.case, member, number))
            case "from":
                yield from self._limit(member)
            case _:
                yield from self._access(member, 1 << number)
                yield from self._themes(product)

    def _fact(self, fact: Fact) -> Iterator[Act]:
        if fact.fact in ("limit", "bundle"):
            assert fact.product is not None
            number = self.problem.numbers[fact.product]
            yield from self._limit(self.problem.members[number])
            yield from self._remove(fact.product)
            return
        for product in (fact.subject, fact.object):
            number = self.problem.numbers.get(product or "", -1)
            if product is None or number < 0:
                continue
            yield from self._remove(product)
            if not self.problem.members[number].active:
                yield Act(act="activate", product=product)

    def _remove(self, product: str) -> Iterator[Act]:
        number = self.problem.numbers[product]
        component = self.problem.members[number].component
        if component is not None and product.startswith("plugin/") and product != self.asked:
            yield Act(act="remove", product=product)

    def _limit(self, member: Member) -> Iterator[Act]:
        """The acts that change what a member may become."""
        line, product = member.line, member.product
        above = line.above(member.installed) if member.installed else line.listed
        out = above & ~member.candidates
        for channel, mask in line.channels.items():
            if mask & out and channel not in self.case.policy.channels:
                yield Act(act="channel", channel=channel)
        if any(h.product == product for h in self.case.policy.holds):
            yield Act(act="lift-hold", product=product)
            yield from self._holds_end(product)
        for number in bits(out):
            over = soak_over(self.case, member, number)
            if over > self.case.day:
                yield Act(act="wait", until=over)
        yield from self._access(member, out | member.bundle_only)
        yield from self._themes(product)

    def _holds_end(self, product: str) -> Iterator[Act]:
        for hold in self.case.policy.holds:
            if hold.product == product and hold.until and self.case.day <= hold.until < date.max:
                yield Act(act="wait", until=hold.until + timedelta(days=1))

    def _access(self, member: Member, wanted: int) -> Iterator[Act]:
        """The acts that give another way to have some releases."""
        product, line = member.line.product, member.line
        if product.access == "licensed" and wanted & ~member.ways.licensed:
            yield Act(act="licence", product=product.id)
        ways = member.ways
        for number in bits(wanted & ~(ways.public | ways.licensed | ways.shelf | ways.host)):
            version = line.releases[number - 1].version
            kind: ActKind = "offer" if line.is_runtime else "shelf"
            yield Act(act=kind, product=product.id, version=version)

    def _themes(self, plugin: str) -> Iterator[Act]:
        """The acts that change which themes carry a plugin."""
        for name in self.problem.catalogue.carriers.get(plugin, ()):
            number = self.problem.numbers.get(name)
            if number is None:
                continue
            theme = self.problem.members[number]
            if not theme.active:
                yield Act(act="activate", product=name)
            yield from self._limit(theme)
