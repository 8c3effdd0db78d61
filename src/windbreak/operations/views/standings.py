"""How the components of a site stand, told from what the reasoning said of its situation.

Sites in one situation share all of it: it is made once for them.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from windbreak.core.case.situation import Advisory, Case
from windbreak.core.values.basics import WORST_FIRST, State
from windbreak.core.values.reasons import (
    Conflict,
    HoldExclusion,
    LicenceExclusion,
    Reason,
    SoakExclusion,
    Trade,
)
from windbreak.core.values.verdicts import Verdict
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import jump, parse_version
from windbreak.documents.products import Standing
from windbreak.operations.reasoning.answers import Reasoned
from windbreak.operations.reasoning.catalogue import KnownCatalogue
from windbreak.wording.words import counted

KINDS = ("core", "theme", "plugin", "runtime")
MOVING = ("move", "part", "add")
_SEVERITIES = ("low", "medium", "high", "critical")
Undecided = Callable[[str, str], bool]  # whether a product's version waits for a person's word


@dataclass(frozen=True)
class SituationView:
    """What is shown of a situation, whichever site is in it."""

    key: str
    state: State
    moves: dict[str, int]
    held: int
    text: str
    standings: tuple[Standing, ...]


def undecided_in(known: KnownCatalogue) -> Undecided:
    """Which versions wait for a person's word, by a catalogue."""

    def waits(product: str, version: str) -> bool:
        told = known.told.get(product)
        return told is not None and version in told.undecided

    return waits


def view_of(reasoned: Reasoned, undecided: Undecided) -> SituationView:
    """What is shown of a situation."""
    case, verdicts = reasoned.case, reasoned.answer.verdicts
    moves = Counter(dict.fromkeys(KINDS, 0))
    states = [state_of(case, verdict, undecided) for verdict in verdicts]
    standings = tuple([_standing(case, v, s) for v, s in zip(verdicts, states, strict=True)])
    for verdict in verdicts:
        if verdict.outcome in MOVING:
            moves[verdict.product.partition("/")[0]] += 1
    state = worst(states)
    return SituationView(
        _key(standings),
        state,
        dict(moves),
        states.count("held"),
        _worst_reason(case, verdicts, states, state),
        standings,
    )


def _root(reasons: Iterable[Reason]) -> str:
    """What is equal where the same things keep components back, whatever the versions are."""
    parts = []
    for reason in reasons:
        match reason:
            case Conflict(facts=facts):
                parts += [f"{f.fact} {f.subject or f.product} {f.object or ''}" for f in facts]
            case Trade(pay=pay):
                parts.append(f"trade {' '.join(pay)}")
            case LicenceExclusion(state=state):
                parts.append(f"licence {state}")
            case HoldExclusion(reason=why):
                parts.append(f"hold {why}")
            case _:
                parts.append(reason.kind)
    return "; ".join(parts)


def _key(standings: Iterable[Standing]) -> str:
    """What is equal for equal standings: they are kept under their content."""
    parts = [one.model_dump_json(exclude={"site"}) for one in standings]
    return hashlib.sha256("\n".join(parts).encode()).hexdigest()[:24]


def state_of(case: Case, verdict: Verdict, undecided: Undecided) -> State:
    """The one word for a component: what becomes of it, or why it does not move."""
    if exposures(case, verdict):
        return "exposed"
    if verdict.outcome in MOVING:
        return "ready"
    blocked = verdict.blocked
    kinds = {told.reason.kind for told in blocked.reasons} if blocked else set()
    if blocked is not None and "hold" in kinds:
        return "blocked" if undecided(verdict.product, blocked.version) else "held"
    if kinds == {"soak"}:
        return "waiting"
    if kinds and kinds <= {"licence", "bundle"} and carried_here(case, verdict.product):
        return "clear"  # as new as its theme lets it be
    return "blocked" if kinds and kinds != {"trade"} else "clear"


def carried_here(case: Case, product: str) -> str | None:
    """The site's theme that carries a plugin in some release, or None."""
    for component in case.site.components:
        if not component.product.startswith("theme/") or not component.active:
            continue
        if any(product in r.bundles for r in case.releases_of[component.product]):
            return component.product
    return None


def exposures(case: Case, verdict: Verdict) -> list[Advisory]:
    """The advisories that reach a component as it is installed now, the gravest first."""
    if verdict.from_ is None:
        return []
    now = parse_version(verdict.from_)
    found = [
        a
        for a in case.advisories
        if a.product == verdict.product and now in parse_range(a.affected)
    ]
    return sorted(found, key=lambda a: -_SEVERITIES.index(a.severity))


def worst(states: Iterable[State]) -> State:
    """The worst of some states; a site with nothing but held items is clear."""
    found = [s for s in states if s != "held"]
    return min(found, key=WORST_FIRST.index, default="clear")


def _worst_reason(
    case: Case, verdicts: Iterable[Verdict], states: list[State], state: State
) -> str:
    for verdict, own in zip(verdicts, states, strict=True):
        if own != state:
            continue
        if state == "exposed":
            return exposed_text(case, verdict)
        if verdict.blocked is not None and state != "ready":
            return verdict.blocked.text
    moving = sum(v.outcome in MOVING for v in verdicts)
    if moving:
        return f"{counted(moving, 'move')} ready; nothing stands in the way."
    if "held" in states:
        return "Only held items are left."
    return "As new as it may be."


def _standing(case: Case, verdict: Verdict, state: State) -> Standing:
    blocked = verdict.blocked
    reasons = [told.reason for told in blocked.reasons] if blocked else []
    soak = next((r for r in reasons if isinstance(r, SoakExclusion)), None)
    return Standing(
        site=case.site.id,
        product=verdict.product,
        version=verdict.from_,
        target=verdict.to if verdict.to != verdict.from_ else None,
        newest=verdict.newest,
        state=state,
        reason=reasons[0].kind if reasons else "",
        text=sentence(case, verdict, active=True),
        blocked=blocked.version if blocked else None,
        until=soak.over if soak else None,
        soak=soak.soak_class if soak else None,
        root=_root(reasons),
        helps="; or: ".join(act.text for act in blocked.unblock) if blocked else "",
    )


def exposed_text(case: Case, verdict: Verdict) -> str:
    """The sentence of a component that an advisory reaches, and what closes it."""
    advisory = exposures(case, verdict)[0]
    name = case.label(verdict.product)
    text = f"Advisory {advisory.id} ({advisory.severity}) reaches {name} {verdict.from_}."
    closed = parse_range(advisory.affected)
    if verdict.to and parse_version(verdict.to) not in closed:
        return f"{text} {verdict.to} closes it, and nothing stands in the way."
    if verdict.blocked is not None:
        return f"{text} {verdict.blocked.text}"
    return f"{text} No release that could be taken closes it."


def sentence(case: Case, verdict: Verdict, *, active: bool) -> str:
    if exposures(case, verdict):
        return exposed_text(case, verdict)
    if verdict.blocked is not None:
        return verdict.blocked.text
    if verdict.outcome == "add":
        return "It joins the site: something here asks for it."
    if verdict.outcome == "move":
        product = case.product[verdict.product]
        assert verdict.from_ is not None and verdict.to is not None  # a move has both
        start, end = parse_version(verdict.from_), parse_version(verdict.to)
        if product.kind == "runtime":
            return "Something here needs it, and the host has it."
        return f"A {jump(start, end, product.major_place)} move; nothing stands in the way."
    if verdict.product.startswith("runtime/"):
        return "Nothing here gains by a newer one."
    known = case.product[verdict.product]
    if known.access == "custom":
        return "Made for this site; what is offered under its folder's name is not it."
    if known.closed:
        return "Its maker has withdrawn it; nothing newer will come."
    if not case.releases_of[verdict.product]:
        return "No feed tells of its releases."
    return "Newest." if active else "Newest. It is switched off."
