"""How the components of a site stand, told from what the reasoning said of its situation.

Sites in one situation share all of it: it is made once for them.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from windbreak.core.case.situation import Advisory, Case
from windbreak.core.values.basics import WORST_FIRST, State
from windbreak.core.values.findings import NextAct
from windbreak.core.values.reasons import SoakExclusion
from windbreak.core.values.roots import Root
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import Answer, Broken, Verdict
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import jump, parse_version
from windbreak.documents.products import Standing, Way
from windbreak.operations.reasoning.answers import Reasoned
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.reasoning.catalogue import KnownCatalogue
from windbreak.operations.views.roots import grouped
from windbreak.wording.looks import tended_text
from windbreak.wording.words import counted

KINDS = ("core", "theme", "plugin", "runtime")
MOVING = ("move", "part", "add")
_SEVERITIES = ("low", "medium", "high", "critical")


@dataclass(frozen=True)
class SituationView:
    """What is shown of a situation, whichever site is in it."""

    key: str
    state: State
    moves: dict[str, int]
    held: int
    text: str
    standings: tuple[Standing, ...]


@dataclass(frozen=True)
class Knowledge:
    """What the components of a site are told from beside the reasoning: what is known of products,
    of which of them nobody has told lately, and what a person looks after there.
    """

    catalogue: KnownCatalogue
    stale: Mapping[str, str]
    tended: Mapping[str, str]

    @classmethod
    def of(cls, ground: Ground, site: Site) -> Knowledge:
        tended = {
            component.product: tended_text(component, ground.today)
            for component in site.by_hand
            if ground.today <= component.until
        }
        return cls(ground.catalogue, ground.stale, tended)


def view_of(reasoned: Reasoned, knowledge: Knowledge) -> SituationView:
    """What is shown of a situation, whichever site is in it."""
    case, verdicts = reasoned.case, reasoned.answer.verdicts
    moves = Counter(dict.fromkeys(KINDS, 0))
    states = states_of(case, reasoned.answer, knowledge)
    broken = reasoned.answer.broken
    standings = tuple(
        [
            _standing(
                case,
                v,
                s,
                sentence(case, v, knowledge, s, pairs, active=True),
                pairs,
            )
            for v, s in zip(verdicts, states, strict=True)
            for pairs in (_pairs(broken, v.product),)
        ]
    )
    for verdict in verdicts:
        if verdict.outcome in MOVING:
            moves[verdict.product.partition("/")[0]] += 1
    state = worst(states)
    return SituationView(
        _key(standings),
        state,
        dict(moves),
        states.count("held"),
        _worst_reason(case, standings, state, sum(moves.values())),
        standings,
    )


def _key(standings: Iterable[Standing]) -> str:
    """What is equal for equal standings: they are kept under their content."""
    parts = [standing.model_dump_json(exclude={"site"}) for standing in standings]
    return hashlib.sha256("\n".join(parts).encode()).hexdigest()[:24]


def _pairs(broken: Iterable[Broken], product: str) -> tuple[Broken, ...]:
    return tuple(pair for pair in broken if product in (pair.a, pair.b))


def states_of(case: Case, answer: Answer, knowledge: Knowledge) -> list[State]:
    """The one word for each component: what becomes of it, or why it does not move."""
    every = {verdict.product: verdict for verdict in answer.verdicts}
    unmended = {p for broken in answer.broken if not broken.mended for p in (broken.a, broken.b)}
    return [
        "held"
        if state == "unknown" and verdict.product in knowledge.tended
        else "blocked"
        if state in ("clear", "waiting", "held") and verdict.product in unmended
        else "unknown"
        if state == "clear" and _is_stale(case, verdict, knowledge.stale)
        else state
        for verdict in every.values()
        for state in (_state_of(case, verdict, knowledge.catalogue, every),)
    ]


def _is_stale(case: Case, verdict: Verdict, stale: Mapping[str, str]) -> bool:
    """Whether "nothing newer" is only as old as what its feed told last."""
    product = case.product[verdict.product]
    return verdict.product in stale and product.access != "custom" and not product.closed


def _state_of(
    case: Case, verdict: Verdict, catalogue: KnownCatalogue, every: Mapping[str, Verdict]
) -> State:
    if exposures(case, verdict):
        return "exposed"
    if verdict.outcome in MOVING:
        return "ready"
    product = case.product[verdict.product]
    if product.access == "custom":
        return "clear"
    if product.closed or is_withdrawn(catalogue, verdict):
        return "blocked"
    if verdict.blocked is None:
        return "unknown" if _is_untold(case, verdict) else "clear"
    kinds = {reason.reason.kind for reason in verdict.blocked.reasons}
    if kinds and kinds <= {"licence", "bundle"}:
        theme = next(case.carriers(verdict.product), None)
        if theme is not None and theme in every:
            return _kept_back(every[theme], catalogue)  # as new as its theme lets it be
    return _kept_back(verdict, catalogue)


def _kept_back(verdict: Verdict, catalogue: KnownCatalogue) -> State:
    """The word for what keeps a component from its newest; "clear" where nothing does."""
    blocked = verdict.blocked
    kinds = {listed.reason.kind for listed in blocked.reasons} if blocked else set()
    if blocked is not None and "hold" in kinds:
        listed = catalogue.facts.get(verdict.product)
        waits = listed is not None and blocked.version in listed.undecided | listed.refused
        return "blocked" if waits else "held"
    if kinds == {"soak"}:
        return "waiting"
    return "blocked" if kinds and kinds != {"trade"} else "clear"


def is_withdrawn(catalogue: KnownCatalogue, verdict: Verdict) -> bool:
    """Whether the installed release was taken back by its maker."""
    listed = catalogue.facts.get(verdict.product)
    return listed is not None and verdict.from_ in listed.withdrawn


def _is_untold(case: Case, verdict: Verdict) -> bool:
    """Whether nobody tells of a component's releases."""
    runtime = verdict.product.startswith("runtime/")
    return not runtime and not case.releases_of[verdict.product]


def exposures(case: Case, verdict: Verdict) -> list[Advisory]:
    """The advisories that reach a component as it is installed now, the gravest first."""
    if verdict.from_ is None:
        return []
    now = parse_version(verdict.from_)
    open_advisories = [
        a
        for a in case.advisories
        if a.product == verdict.product and now in parse_range(a.affected)
    ]
    return sorted(open_advisories, key=lambda a: -_SEVERITIES.index(a.severity))


def worst(states: Iterable[State]) -> State:
    """The worst of some states; a site with nothing but held items is clear."""
    present = [s for s in states if s != "held"]
    return min(present, key=WORST_FIRST.index, default="clear")


def _worst_reason(case: Case, standings: Iterable[Standing], state: State, moves: int) -> str:
    """Why a site is what it is: what keeps most of it back, else the first component that is so."""
    every = list(standings)
    if state == "blocked" and not any(
        not reason.mended for standing in every for reason in standing.broken
    ):
        names = {reason.product: case.label(reason.product) for reason in every}
        roots = grouped(((s.product, s.state, s.roots) for s in every), names, case.site.id)
        if roots and len(roots[0].keeps) > 1:
            return f"{roots[0].text} {roots[0].keeps_text}"
    if state not in ("ready", "clear"):
        return next(reason.text for reason in every if reason.state == state)
    if moves:
        return f"{counted(moves, 'move')} ready; nothing stands in the way."
    if any(reason.state == "held" for reason in every):
        return "Only held items are left."
    return "As new as it may be."


def _standing(
    case: Case,
    verdict: Verdict,
    state: State,
    text: str,
    broken: tuple[Broken, ...],
) -> Standing:
    blocked = verdict.blocked
    reasons = [reason.reason for reason in blocked.reasons] if blocked else []
    soak = next((r for r in reasons if isinstance(r, SoakExclusion)), None)
    return Standing(
        site=case.site.id,
        product=verdict.product,
        version=verdict.from_,
        target=verdict.to if verdict.to != verdict.from_ else None,
        newest=verdict.newest,
        state=state,
        reason=reasons[0].kind if reasons else "",
        text=text,
        blocked=blocked.version if blocked else None,
        until=soak.over if soak else None,
        soak=soak.soak_class if soak else None,
        broken=tuple(pair for pair in broken if pair.a == verdict.product),
        roots=tuple(_anywhere_root(root) for root in blocked.roots) if blocked else (),
        ways=tuple(
            Way(text=a.text, acts=tuple(_anywhere(way) for way in a.ways))
            for a in (blocked.unblock if blocked else ())
        ),
    )


def _anywhere(way: NextAct) -> NextAct:
    """An act as it is kept for all sites of a situation: whoever tells it of one adds that."""
    return way.model_copy(update={"on": {k: v for k, v in way.on.items() if k != "site"}})


def _anywhere_root(root: Root) -> Root:
    return root.model_copy(update={"ways": tuple(_anywhere(way) for way in root.ways)})


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


def sentence(
    case: Case,
    verdict: Verdict,
    knowledge: Knowledge,
    state: State,
    broken: Sequence[Broken],
    *,
    active: bool,
) -> str:
    """Why a component stands as it does; ``broken`` are those pairs of the site that it is in."""
    if state == "held" and verdict.product in knowledge.tended:
        return knowledge.tended[verdict.product]
    silent = knowledge.stale.get(verdict.product, "")
    text = _sentence(case, verdict, knowledge.catalogue, silent, active=active)
    unmended = [pair for pair in broken if not pair.mended]
    if not unmended:
        return text
    texts = " ".join(pair.text for pair in unmended)
    return texts if verdict.blocked is None else f"{texts} {text}"


def _sentence(
    case: Case, verdict: Verdict, catalogue: KnownCatalogue, silent: str, *, active: bool
) -> str:
    if exposures(case, verdict):
        return exposed_text(case, verdict)
    if is_withdrawn(catalogue, verdict):
        text = f"{case.label(verdict.product)} {verdict.from_} was withdrawn by its maker."
        return f"{text} {verdict.blocked.text}" if verdict.blocked is not None else text
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
    component = case.product[verdict.product]
    if component.access == "custom":
        return "Made for this site; what is offered under its folder's name is not it."
    if component.closed:
        return f"{component.name} was withdrawn by its maker; nothing newer will come."
    if _is_untold(case, verdict):
        return f"No feed tells of {component.name}; whether there is a newer one is not known."
    if silent:
        return f"{silent}; whether there is a newer one is not known."
    return "Newest." if active else "Newest. It is switched off."
