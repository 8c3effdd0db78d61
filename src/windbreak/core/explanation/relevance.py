"""The acts that change anything about why a release can't be reached.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". Nothing is tried here:
of an exclusion, or of facts, it is read off which acts could make them others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from windbreak.core.bits import bits
from windbreak.core.case.candidates import Member, reasons, soak_over
from windbreak.core.case.situation import Case
from windbreak.core.explanation.conflicts import reachable
from windbreak.core.resolution.problem import Problem
from windbreak.core.values.reasons import Act, ActKind, Fact, act_of, rank

What = str | tuple[Fact, ...]  # an exclusion's kind, or facts


@dataclass(frozen=True, slots=True)
class Core:
    """What touches one thing that makes the release impossible: acts, and a wait until a day.

    ``wanted`` are the releases of a product, as bits, of which one more to be had would touch it.
    """

    acts: tuple[Act, ...]
    others: frozenset[Act]
    first_wait: date
    wanted: Mapping[str, int]

    @classmethod
    def of(cls, acts: Iterable[Act], wanted: Mapping[str, int]) -> Core:
        ordered = tuple(sorted(set(acts), key=rank))
        waits = [a.until for a in ordered if a.until is not None]
        others = frozenset(a for a in ordered if a.until is None)
        return cls(ordered, others, min(waits, default=date.max), wanted)

    def touched_by(self, others: frozenset[Act], until: date | None) -> bool:
        """Whether some acts, or a wait until a day, may make it another."""
        if until is not None and until >= self.first_wait:
            return True
        # A package on the shelf touches what a licence for its product does.
        return any(a in self.others or _as_licence(a) in self.others for a in others)

    def apart(self, other: Core) -> bool:
        """Whether no one act touches both."""
        never = date.max in (self.first_wait, other.first_wait)
        return never and self.others.isdisjoint(other.others)


def _as_licence(act: Act) -> Act | None:
    return act_of("licence", product=act.product) if act.act == "shelf" else None


class Touching:
    """The acts that change anything about why one product does not reach a release."""

    def __init__(self, case: Case, problem: Problem, asked: str) -> None:
        self.case = case
        self.problem = problem
        self.asked = asked
        self.wanted: dict[str, int] = {}
        self._known: dict[What, Core] = {}

    def exclusion(self, number: int) -> str:
        """Of what keeps a release from being a candidate, the kind that fewest acts touch."""
        member = self.problem.members[self.problem.number(self.asked)]
        exclusions = reasons(self.case, self.problem.catalogue, member, number)
        return min((r.kind for r in exclusions), key=lambda kind: self._hardness(kind, number))

    def _hardness(self, kind: str, number: int) -> tuple[bool, int]:
        """What is to be changed first: the way of access last, as it is tried only for releases
        that nothing else keeps out; then what fewest acts touch.
        """
        return kind not in ("channel", "hold", "soak"), len(set(self.on(kind, number)))

    def core(self, what: What, number: int) -> Core:
        """The acts that touch it, and which releases are wanted for it."""
        if what not in self._known:
            self.wanted = {}
            self._known[what] = Core.of(list(self.on(what, number)), self.wanted)
        return self._known[what]

    def on(self, what: What, number: int) -> Iterator[Act]:
        """The acts that touch it."""
        v = self.problem.number(self.asked)
        if isinstance(what, str):
            yield from self._exclusion(self.problem.members[v], number, what)
        else:
            options = reachable(self.problem, v, number, what)
            for fact in what:
                yield from self._fact(fact, options)

    def _exclusion(self, member: Member, number: int, kind: str) -> Iterator[Act]:
        product, release = member.product, member.line.releases[number - 1]
        match kind:
            case "channel":
                yield act_of("channel", channel=release.channel)
            case "hold":
                yield act_of("lift-hold", product=product)
                yield from self._holds_end(product)
            case "soak":
                over = soak_over(self.case, member, number)
                if over < date.max:
                    yield act_of("wait", until=over)
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
                yield act_of("activate", product=product)

    def _remove(self, product: str) -> Iterator[Act]:
        number = self.problem.numbers[product]
        component = self.problem.members[number].component
        if component is not None and product.startswith("plugin/") and product != self.asked:
            yield act_of("remove", product=product)

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
                yield act_of("channel", channel=channel)
        if any(h.product == product and line.within(h.range) & out for h in self.case.policy.holds):
            yield act_of("lift-hold", product=product)
            yield from self._holds_end(product)
        soak = self.case.policy.soak_of(product)
        longest = max(soak.major, soak.minor, soak.patch, soak.security)
        for number in bits(out & ~line.published_by(self.case.day.toordinal() - longest)):
            over = soak_over(self.case, member, number)
            if self.case.day < over < date.max:
                yield act_of("wait", until=over)
        yield from self._access(member, out | member.bundle_only & options)
        yield from self._themes(product, options)

    def _holds_end(self, product: str) -> Iterator[Act]:
        for hold in self.case.policy.holds:
            if hold.product == product and hold.until and self.case.day <= hold.until < date.max:
                yield act_of("wait", until=hold.until + timedelta(days=1))

    def _access(self, member: Member, wanted: int) -> Iterator[Act]:
        """The acts that give another way to have some releases."""
        product, line = member.line.product, member.line
        self.wanted[product.id] = self.wanted.get(product.id, 0) | wanted
        if product.access == "licensed" and wanted & ~member.ways.licensed:
            yield act_of("licence", product=product.id)
            return
        ways = member.ways
        for number in bits(wanted & ~(ways.public | ways.licensed | ways.shelf | ways.host)):
            version = line.releases[number - 1].version
            kind: ActKind = "offer" if line.is_runtime else "shelf"
            yield act_of(kind, product=product.id, version=version)

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
                yield act_of("activate", product=name)
            if carrying:
                yield from self._limit(theme, carrying)
