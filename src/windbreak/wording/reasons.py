"""Sentences: every reason, act and fact as an engineer would say it to a colleague.

Source of the rules: docs/reasoning.md. Nothing is decided here; each sentence is made from data
found elsewhere, and nowhere else in the product. What console, command line and notices say of a
verdict is this text.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import get_args

from windbreak.core.case.candidates import Member, reasons
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import OUT_OF_SCOPE, Case
from windbreak.core.resolution.problem import Problem
from windbreak.core.resolution.resolve import Resolution
from windbreak.core.values.basics import Match
from windbreak.core.values.reasons import (
    AccessExclusion,
    Act,
    BundleExclusion,
    Carrier,
    ChannelExclusion,
    Conflict,
    Fact,
    FromExclusion,
    HoldExclusion,
    LicenceExclusion,
    Objective,
    OfferExclusion,
    Reason,
    SoakExclusion,
    Trade,
)
from windbreak.core.versions.version import Version, parse_version
from windbreak.wording.words import counted, day, first_up, in_words, joined, listed, match_in_words


def sentence(resolution: Resolution, v: int, version: Version, reasons: Sequence[str]) -> str:
    """The whole of a blocked component: where it stays or goes instead, and why."""
    member = resolution.problem.members[v]
    label = resolution.problem.catalogue.label(member.product)
    target = resolution.version(v)
    there = None if member.component is None else member.component.version
    stays = resolution.choice[v] == member.start
    text = head(label, str(version), there, there if stays else str(target))
    return f"{text} " + " ".join(reasons)


def head(label: str, version: str, there: str | None, to: str | None) -> str:
    """What becomes of a component that does not reach a version; ``there`` is what runs now."""
    if there is None:
        return f"{label} {version} is not taken."
    return f"{label} stays at {to}." if to == there else f"{label} goes to {to}, not {version}."


def tell(resolution: Resolution, member: Member, version: Version, reason: Reason) -> str:
    """The sentence of one reason why a member does not reach a version."""
    case, catalogue = resolution.case, resolution.problem.catalogue
    name = catalogue.label(member.product)
    match reason:
        case ChannelExclusion(channel=channel):
            return f"{version} is a {channel} release, and the policy does not take those."
        case HoldExclusion(reason=why) if why == OUT_OF_SCOPE:
            return f"{version} is no part of this plan."
        case HoldExclusion(until=until, reason=why):
            end = f" until {day(until, case.day)}" if until else ""
            return f"{version} is held{end}: {why.rstrip('.')}."
        case SoakExclusion(soak_class=soak, over=over):
            return f"{version} soaks until {day(over, case.day)}, as a {soak} release does here."
        case LicenceExclusion(state="none", carried_by=()) if _themes(resolution, member.product):
            themes = " or ".join(_themes(resolution, member.product))
            return (
                f"{themes} does not carry {name} {version} yet, and this site has no licence of "
                "its own for it."
            )
        case LicenceExclusion(state=state, carried_by=carried):
            texts = {
                "none": f"{name} needs a licence, and this site has none.",
                "expired": f"this site's licence for {name} has ended.",
                "not-covered": f"this site's licence for {name} does not cover {version}.",
            }[state]
            return first_up(texts) + (f" {_carried(catalogue, carried)}" if carried else "")
        case BundleExclusion(carried_by=carried):
            return f"{version} comes only inside a theme. {_carried(catalogue, carried)}"
        case OfferExclusion():
            return f"The host does not offer {name} {version}."
        case AccessExclusion():
            return f"There is no way to get {name} {version}: no feed or shelf has its package."
        case FromExclusion(needs=needs):
            return f"{version} can be reached only from {in_words(needs)}, and nothing in reach is."
        case Conflict(facts=facts):
            return _Facts(resolution, member.product, version).tell(facts)
        case Trade():
            return f"{version} would be possible, but {_dearer(resolution, reason)}."


def _dearer(resolution: Resolution, trade: Trade) -> str:
    """What the best choice with a version is worse in: the first place that differs."""
    names = listed([resolution.problem.catalogue.label(p) for p in trade.pay])
    now, then = resolution.objective, trade.instead
    places = Objective.model_fields
    place = next((p for p in places if getattr(then, p) != getattr(now, p)), None)
    if place is None:
        return f"only in place of {names}, which is no better and no worse"
    more = getattr(then, place) - getattr(now, place)
    match place:
        case "broken":
            whose = f" of {names}" if names else ""
            return f"{counted(more, 'thing')}{whose} that could be put right would stay broken"
        case "exposure":
            return f"known weaknesses would stay open in {names}"
        case "behind":
            return f"{names} would stay behind for it"
        case "lag":
            return f"{names} would stay further behind for it"
        case "untested":
            count = counted(more, "pair")
            return f"{count} more would stand together that no maker has tried"
    return f"{counted(more, 'move')} more would be needed, and nothing gained"


def tell_act(catalogue: Catalogue, today: date, act: Act) -> str:
    """What somebody would have to do, as a sentence without its full stop."""
    name = catalogue.label(act.product) if act.product else ""
    match act.act:
        case "wait":
            assert act.until is not None
            return f"Wait until {day(act.until, today)}"
        case "activate":
            return f"Switch {name} on"
        case "lift-hold":
            return f"Lift the hold on {name}"
        case "licence":
            return f"Get a licence for {name}"
        case "offer":
            return f"Ask the host for {name} {act.version}"
        case "remove":
            return f"Remove {name}"
        case "channel":
            return f"Take {act.channel} releases"
        case "shelf":
            return f"Put the package of {name} {act.version} on the shelf"


def tell_acts(catalogue: Catalogue, today: date, acts: Sequence[Act]) -> str:
    """A set of acts as one sentence without its full stop."""
    return joined([tell_act(catalogue, today, act) for act in acts])


class _Facts:
    """The facts that together forbid a version of one product, told."""

    def __init__(self, resolution: Resolution, product: str, version: Version) -> None:
        self.resolution = resolution
        self.case: Case = resolution.case
        self.problem: Problem = resolution.problem
        self.product = product
        self.version = version
        self.limited: set[str] = set()
        self.reach: dict[str, int] = {}  # what the facts told so far leave of a product

    def tell(self, facts: Sequence[Fact]) -> str:
        """The facts as one sentence, going out from the product asked about."""
        self.limited = {f.product or "" for f in facts if f.fact == "limit"}
        self.reach = {self.product: 1 << self._member(self.product).line.number(self.version)}
        sentences = [self._sentence_of(fact) for fact in self._outward(facts)]
        joint = ", and " if len(sentences) == 2 else "; "
        return first_up(joint.join(sentences)) + "."

    def _outward(self, facts: Sequence[Fact]) -> list[Fact]:
        """Each fact after one that it follows on; a product's limit after what asks for it."""
        waiting, outward, met = list(facts), [], {self.product}
        while waiting:
            near = [f for f in waiting if met & {f.subject, f.object, f.product}]
            near.sort(key=lambda f: (f.product is None, f.subject not in met))
            fact = near[0] if near else waiting[0]
            waiting.remove(fact)
            outward.append(fact)
            met |= {p for p in (fact.subject, fact.object, fact.product) if p}
        return outward

    def _member(self, product: str) -> Member:
        return self.problem.members[self.problem.number(product)]

    def _sentence_of(self, fact: Fact) -> str:
        a, b = (
            self.problem.catalogue.label(fact.subject or fact.product or ""),
            self.problem.catalogue.label(fact.object or ""),
        )
        match fact.fact:
            case "requires" | "conflicts":
                return self._condition(fact, a, b)
            case "clash":
                notes = [
                    c.note
                    for c in self.problem.catalogue.clashes
                    if {c.a.product, c.b.product} == {fact.subject, fact.object} and c.note
                ]
                why = f": {notes[0].rstrip('.')}" if notes else ""
                return f"{self._named(fact.subject)} and {self._named(fact.object)} clash{why}"
            case "lockstep":
                return f"{a} and {b} must {self._match(fact)}"
            case "limit":
                return self._limit(fact.product or "")
            case _:
                return f"{a} comes only inside a theme"

    def _match(self, fact: Fact) -> str:
        return must_match(self.problem.catalogue, fact.subject or "", fact.object or "")

    def _named(self, product: str | None) -> str:
        """A product, with the version where it is the one asked about."""
        label = self.problem.catalogue.label(product or "")
        return f"{label} {self.version}" if product == self.product else label

    def _condition(self, fact: Fact, a: str, b: str) -> str:
        """What one product's releases say of another: in a range, where all say the same."""
        assert fact.subject is not None and fact.object is not None
        member = self._member(fact.subject)
        field = member.line.requires if fact.fact == "requires" else member.line.conflicts
        condition = field[fact.object]
        reach = self.reach.get(fact.subject, -1)
        reach &= member.candidates if fact.subject in self.limited else member.universe
        ranges = {text for mask, text in condition if mask & reach}
        subject = self._named(fact.subject)
        if fact.subject in self.reach and fact.subject != self.product:
            subject = f"{subject} then"
        if fact.fact == "conflicts":
            if len(ranges) == 1:
                with_ = self._named(fact.object) if fact.object == self.product else b
                words = "" if fact.object == self.product else f" {in_words(*ranges)}"
                ending = f"{subject} does not go with {with_}{words}"
                return ending.removesuffix(" on the site")
            return f"no {a} within reach goes with {self._named(fact.object)}"
        lowest = _lowest(ranges)
        if lowest is None:
            return f"no {a} within reach goes with {self._named(fact.object)}"
        number = self.problem.numbers.get(fact.object)
        if number is not None:
            inside = self.problem.members[number].line.within(lowest)
            self.reach[fact.object] = self.reach.get(fact.object, -1) & inside
        return f"{subject} needs {b} {in_words(lowest)}"

    def _limit(self, product: str) -> str:
        label = self.problem.catalogue.label(product)
        number = self.problem.numbers.get(product)
        if number is None:
            return f"{label} is not to be had"
        member = self.problem.members[number]
        if member.line.is_runtime:
            offers = self.case.site.offers.get(product, ())
            had = f"{label} {listed(list(offers))}" if offers else f"no {label}"
            return f"the host offers {had}"
        top = member.version(member.candidates.bit_length() - 1)
        if top is None:
            return f"{label} is not to be had{self._beyond(member)}"
        return f"{label} can go no further than {top}{self._beyond(member)}"

    def _beyond(self, member: Member) -> str:
        """Why the next release above the candidates is out."""
        above = member.line.listed & -(1 << member.candidates.bit_length())
        if not above:
            return ""
        number = (above & -above).bit_length() - 1
        return beyond(self.case, self.problem.catalogue, member, number)


def beyond(case: Case, catalogue: Catalogue, member: Member, number: int) -> str:
    """Why a release is out, in few words: ", as 6.5 soaks until Wed 25 Nov"; "" for a candidate."""
    subject, note = out(case, catalogue, member, number)
    return f", as {f'{subject} ' if subject else ''}{note}" if note else ""


def out(case: Case, catalogue: Catalogue, member: Member, number: int) -> tuple[str, str]:
    """The same in two parts: "6.5" and "soaks until Wed 25 Nov". The first may be empty."""
    version = member.line.versions[number - 1]
    for reason in reasons(case, catalogue, member, number):
        match reason:
            case ChannelExclusion(channel=channel):
                note = f"is a {channel} release"
            case HoldExclusion(reason=why):
                note = "is no part of this plan" if why == OUT_OF_SCOPE else "is held"
            case SoakExclusion(over=over):
                note = f"soaks until {day(over, case.day)}"
            case LicenceExclusion():
                return "", f"no licence gives {version}"
            case FromExclusion(needs=needs):
                note = f"can be reached only from {in_words(needs)}"
            case _:
                note = "is not to be had here"
        return str(version), note
    return "", ""


def must_match(catalogue: Catalogue, a: str, b: str) -> str:
    """What the nearest lockstep of two products asks of them: "be exactly equal"."""
    levels = {g.match for g in catalogue.lockstep if a in g.products and b in g.products}
    return match_in_words(next(m for m in get_args(Match) if m in levels))


def _carried(catalogue: Catalogue, carried: Sequence[Carrier]) -> str:
    names = [f"{catalogue.label(c.product)} {c.version}" for c in carried]
    return f"{listed(names)} {'carries' if len(names) == 1 else 'carry'} it."


def _lowest(ranges: set[str]) -> str | None:
    """The range that is in all of some: the only one, or the lowest of "this or newer"."""
    if len(ranges) == 1:
        return next(iter(ranges))
    bare = [r.strip() for r in ranges]
    if not bare or not all(r.startswith(">=") and "," not in r and "|" not in r for r in bare):
        return None
    return min(bare, key=lambda r: parse_version(r[2:]).key)


def _themes(resolution: Resolution, plugin: str) -> list[str]:
    """The themes in use on the site that carry a plugin in some release, by name."""
    problem = resolution.problem
    return [
        resolution.problem.catalogue.label(name)
        for name in problem.catalogue.carriers.get(plugin, ())
        if (number := problem.numbers.get(name)) is not None and problem.members[number].active
    ]
