"""Why not newer, what would change it, and why a step stands where it does.

Source of the rules: docs/reasoning.md, "Why not, and what would change it". Reasons are data
first; each kind's sentence is made here from that data and nowhere else.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from functools import cached_property
from itertools import combinations
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.acts import Act, applied, promising
from windbreak.core.candidates import (
    AccessExclusion,
    BundleExclusion,
    Carrier,
    ChannelExclusion,
    Exclusion,
    FromExclusion,
    HoldExclusion,
    LicenceExclusion,
    Member,
    OfferExclusion,
    SoakExclusion,
    Way,
    members,
)
from windbreak.core.case import Case, Frozen, Release
from windbreak.core.constraints import NOBODY, Constraint, Problem, compile_problem
from windbreak.core.order import Order, Step
from windbreak.core.resolve import (
    Objective,
    Outcome,
    Resolution,
    best,
    exposure,
    lag,
    outcome,
    weigh,
)
from windbreak.core.search import build_model, possible
from windbreak.core.versions import Version


class Fact(Frozen):
    """One of the things that together make a version impossible."""

    fact: Literal["requires", "conflicts", "clash", "lockstep", "limit", "bundle"]
    subject: str | None = None
    object: str | None = None
    product: str | None = None


class Conflict(Frozen):
    """The version is a candidate, and these facts together forbid it; none can be left out."""

    kind: Literal["conflict"] = "conflict"
    facts: tuple[Fact, ...]


class Trade(Frozen):
    """The version is possible, but the best choice with it, ``instead``, is worse."""

    kind: Literal["trade"] = "trade"
    instead: Objective
    pay: tuple[str, ...]


Reason = Exclusion | Conflict | Trade


class Told(Frozen):
    """A reason and its sentence."""

    reason: Reason
    text: str


class ActSet(Frozen):
    """Acts after which the version is part of an allowed choice."""

    acts: tuple[Act, ...]
    text: str


class Blocked(Frozen):
    """Why a component does not reach ``version``; ``text`` is the whole in one or two sentences."""

    version: str
    text: str
    reasons: tuple[Told, ...]
    unblock: tuple[ActSet, ...] = ()


class Verdict(Frozen):
    """What the reasoning says of one component or addition; None where it is absent."""

    product: str
    from_: Annotated[str | None, Field(alias="from")]
    to: str | None
    newest: str | None
    outcome: Outcome
    blocked: Blocked | None = None

    model_config = Release.model_config


class PlannedMove(Frozen):
    product: str
    from_: Annotated[str | None, Field(alias="from")]
    to: str
    by: Way | None

    model_config = Release.model_config


class PlannedStep(Frozen):
    """A step with what put it there. ``waypoint``: some move of it stops short of its target."""

    moves: tuple[PlannedMove, ...]
    why: str
    waypoint: bool = False


class Stuck(Frozen):
    product: str
    text: str


class Answer(Frozen):
    """The best choice for a case, told."""

    site: str
    objective: Objective
    verdicts: tuple[Verdict, ...]


class Plan(Frozen):
    """The ordered steps, told."""

    site: str
    combined: int
    steps: tuple[PlannedStep, ...]
    stuck: tuple[Stuck, ...] = ()


def answer(resolution: Resolution, *, acts: bool = True) -> Answer:
    """Tell a resolution: a verdict for every component and addition, by product id."""
    explainer = _Explainer(resolution)
    return Answer(
        site=resolution.case.site.id,
        objective=resolution.objective,
        verdicts=tuple(
            explainer.verdict(v, acts=acts) for v in range(len(resolution.problem.members))
        ),
    )


def plan(order: Order) -> Plan:
    """Tell an order: each step with a ``why`` that names the real cause."""
    case = order.resolution.case
    return Plan(
        site=case.site.id,
        combined=order.combined,
        steps=tuple(_planned(order, n) for n in range(len(order.steps))),
        stuck=tuple(_stuck(order, v) for v in order.stuck),
    )


class _Explainer:
    def __init__(self, resolution: Resolution) -> None:
        self.resolution = resolution
        self.case = resolution.case
        self.problem = resolution.problem

    @cached_property
    def universe(self) -> Problem:
        return compile_problem(self.case, self.problem.members, universe=True)

    def verdict(self, v: int, *, acts: bool) -> Verdict:
        member = self.problem.members[v]
        result = outcome(self.resolution, v)
        target = self.resolution.option(v).version
        behind = target != member.newest and result != "absent"
        blocked = None
        if behind and not member.product.startswith("runtime/") and member.newest is not None:
            blocked = self.blocked(v, member.newest, acts=acts)
        return Verdict(
            product=member.product,
            from_=member.component.version if member.component else None,
            to=str(target) if target else None,
            newest=str(member.newest) if member.newest else None,
            outcome=result,
            blocked=blocked,
        )

    def blocked(self, v: int, version: Version, *, acts: bool) -> Blocked:
        member = self.problem.members[v]
        reasons: list[Reason] = list(member.excluded.get(version, ()))
        instead = None
        if not reasons:
            i = next(i for i, o in enumerate(member.options) if o.version == version)
            instead = best(self.case, self.problem, {v: 1 << i})
            reasons = [self.conflict(v, version) if instead is None else self.trade(instead)]
        label = self.case.label(member.product)
        told = tuple(Told(reason=r, text=tell(self.case, member, version, r)) for r in reasons)
        unblock: tuple[ActSet, ...] = ()
        if acts and instead is None:
            unblock = tuple(self.unblock(member, version))
        return Blocked(
            version=str(version),
            text=_sentence(label, self.resolution, v, version, told),
            reasons=told,
            unblock=unblock,
        )

    def trade(self, instead: Sequence[int]) -> Trade:
        case, problem = self.case, self.problem
        broken = problem.violated(instead) - problem.violated(self.resolution.choice)
        pay = {problem.constraints[n].subject for n in broken}
        for v, member in enumerate(problem.members):
            count, now, then = len(member.options), self.resolution.choice[v], instead[v]
            worse_lag = lag(member, count, then) > lag(member, count, now)
            risk = [exposure(case, member.product, member.options[i].version) for i in (now, then)]
            if worse_lag or risk[1] > risk[0]:
                pay.add(member.product)
        return Trade(instead=weigh(case, problem, instead), pay=tuple(sorted(pay)))

    def conflict(self, v: int, version: Version) -> Conflict:
        """A minimal set of facts that makes a candidate impossible, by leaving out one by one."""
        problem = self.universe
        allowed = self._candidates(problem)
        target = next(i for i, o in enumerate(problem.options[v]) if o.version == version)
        binding = [n for n in range(len(problem.constraints)) if n not in problem.broken]
        facts: list[tuple[str, int]] = [("rule", n) for n in binding]
        facts += [("limit", w) for w in range(len(problem.members)) if w != v]
        facts += [("bundle", w) for w in sorted({rule.p for rule in problem.carried})]

        def open_(kept: Sequence[tuple[str, int]]) -> bool:
            limits = {w for kind, w in kept if kind == "limit"}
            bundled = {w for kind, w in kept if kind == "bundle"}
            model = build_model(
                problem,
                only=[n for kind, n in kept if kind == "rule"],
                carried=[n for n, rule in enumerate(problem.carried) if rule.p in bundled],
            )
            fixed = {w: allowed[w] for w in limits}
            fixed[v] = 1 << target
            return possible(model, fixed)

        kept = _minimal(facts, lambda some: not open_(some))
        return Conflict(facts=tuple(sorted(map(self._fact, kept), key=_fact_order)))

    def _candidates(self, problem: Problem) -> list[int]:
        """For each member the options of the wider problem that are candidates, as bits."""
        found = []
        for member, options in zip(problem.members, problem.options, strict=True):
            found.append(sum(1 << i for i, o in enumerate(options) if o in member.options))
        return found

    def _fact(self, item: tuple[str, int]) -> Fact:
        kind, n = item
        if kind == "rule":
            rule = self.universe.constraints[n]
            return Fact(fact=rule.kind, subject=rule.subject, object=rule.object)
        product = self.universe.members[n].product
        return Fact(fact="limit" if kind == "limit" else "bundle", product=product)

    def unblock(self, member: Member, version: Version) -> Iterator[ActSet]:
        """The smallest sets of acts that make a version possible: three at the most."""
        pool = promising(self.case, member.product, version)
        tried = 0
        for size in (1, 2, 3):
            found: list[tuple[Act, ...]] = []
            for acts in combinations(pool, size):
                if any(_later_wait(acts, earlier) for earlier in found):
                    continue
                tried += 1
                if tried > _MOST_TRIES:
                    return
                if _frees(applied(self.case, acts), member.product, version):
                    found.append(acts)
                    if len(found) == 3:
                        break
            if found:
                for acts in found:
                    first, *rest = (tell_act(self.case, act) for act in acts)
                    text = " and ".join([first, *(t[:1].lower() + t[1:] for t in rest)])
                    yield ActSet(acts=acts, text=text)
                return


_MOST_TRIES = 400  # a bound on the search for acts; larger sites get none beyond it


def _later_wait(acts: Sequence[Act], earlier: Sequence[Act]) -> bool:
    """Whether a set is another one but for a longer wait: the first day that serves is enough."""
    rest = [a for a in acts if a.act != "wait"]
    return len(rest) < len(acts) and rest == [a for a in earlier if a.act != "wait"]


def _frees(case: Case, product: str, version: Version) -> bool:
    """Whether some allowed choice of a case has a product at a version."""
    problem = compile_problem(case, members(case))
    for v, member in enumerate(problem.members):
        if member.product == product:
            for i, option in enumerate(problem.options[v]):
                if option.version == version:
                    return possible(build_model(problem), {v: 1 << i})
    return False


def _minimal(
    facts: list[tuple[str, int]], impossible: Callable[[list[tuple[str, int]]], bool]
) -> list[tuple[str, int]]:
    """Facts of which none can be left out, found by halves where whole halves can go."""
    kept = list(facts)
    size = len(kept) // 2
    while size:
        start = 0
        while start < len(kept):
            fewer = kept[:start] + kept[start + size :]
            if impossible(fewer):
                kept = fewer
            else:
                start += size
        size //= 2
    # A last round one by one: what could not go before may be able to go now.
    for fact in list(kept):
        fewer = [f for f in kept if f != fact]
        if impossible(fewer):
            kept = fewer
    return kept


def _fact_order(fact: Fact) -> tuple[bool, str, str, str]:
    return (
        fact.product is not None,
        fact.fact,
        fact.subject or fact.product or "",
        fact.object or "",
    )


# Sentences. One function for each kind of thing, all from data.


def _sentence(
    label: str, resolution: Resolution, v: int, version: Version, told: Sequence[Told]
) -> str:
    target = resolution.option(v).version
    member = resolution.problem.members[v]
    if member.component is None:
        head = f"{label} {version} is not taken"
    elif resolution.choice[v] == resolution.problem.start[v]:
        head = f"{label} stays at {target}"
    else:
        head = f"{label} goes to {target}, not {version}"
    return f"{head}. " + " ".join(one.text for one in told)


def day(when: date, now: date | None = None) -> str:
    """A day as people say it: "Thu 26 Nov", with the year where it is not that of ``now``."""
    year = "" if now is not None and when.year == now.year else f" {when.year}"
    return f"{when:%a} {when.day} {when:%b}{year}"


def tell(case: Case, member: Member, version: Version, reason: Reason) -> str:
    """The sentence of one reason."""
    name = case.label(member.product)
    match reason:
        case ChannelExclusion(channel=channel):
            return f"{version} is a {channel} release, and the policy does not take those."
        case HoldExclusion(until=until, reason=why):
            end = f" until {day(until, case.day)}" if until else ""
            return f"{version} is held{end}: {why.rstrip('.')}."
        case SoakExclusion(soak_class=soak, over=over):
            return f"{version} soaks until {day(over, case.day)}, as a {soak} release does here."
        case LicenceExclusion(state="none", carried_by=()) if _themes(case, member.product):
            themes = " or ".join(_themes(case, member.product))
            return (
                f"{themes} does not carry {name} {version} yet, and this site has no licence of "
                "its own for it."
            )
        case LicenceExclusion(state=state, carried_by=carried):
            said = {
                "none": f"{name} needs a licence, and this site has none.",
                "expired": f"this site's licence for {name} has ended.",
                "not-covered": f"this site's licence for {name} does not cover {version}.",
            }[state]
            return _first_up(said) + (f" {_carried(case, carried)}" if carried else "")
        case BundleExclusion(carried_by=carried):
            return f"{version} comes only inside a theme. {_carried(case, carried)}"
        case OfferExclusion():
            return f"The host does not offer {name} {version}."
        case AccessExclusion():
            return f"There is no way to get {name} {version}: no feed or shelf has its package."
        case FromExclusion(needs=needs):
            return f"{version} can be reached only from {needs}, and nothing in reach is."
        case Conflict(facts=facts):
            return _tell_facts(case, member.product, version, facts)
        case Trade(pay=pay):
            names = _listed([case.label(p) for p in pay])
            whom = f" {names} would pay for it." if pay else ""
            return f"{version} would be possible, but the whole would be worse.{whom}"


def tell_act(case: Case, act: Act) -> str:
    """What somebody would have to do, as a sentence without its full stop."""
    name = case.label(act.product) if act.product else ""
    match act.act:
        case "wait":
            assert act.until is not None
            return f"Wait until {day(act.until, case.day)}"
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


def _tell_facts(case: Case, product: str, version: Version, facts: Sequence[Fact]) -> str:
    said = []
    for fact in facts:
        a = case.label(fact.subject or fact.product or "")
        b = case.label(fact.object or "")
        match fact.fact:
            case "requires":
                said.append(_required_text(case, product, version, fact))
            case "conflicts":
                said.append(f"{a} does not go with every {b}")
            case "clash":
                said.append(f"{a} and {b} are known to clash")
            case "lockstep":
                said.append(f"{a} and {b} must match")
            case "limit":
                said.append(_limit_text(case, fact.product or ""))
            case "bundle":
                said.append(f"{a} comes only inside a theme")
    return _first_up("; ".join(said)) + "."


def _required_text(case: Case, product: str, version: Version, fact: Fact) -> str:
    a, b = case.label(fact.subject or ""), case.label(fact.object or "")
    if fact.subject == product:
        for release in case.releases_of[product]:
            if release.parsed == version and fact.object in release.requires:
                return f"{a} {version} needs {b} {in_words(release.requires[fact.object])}"
    return f"{a} asks for certain versions of {b}"


def _limit_text(case: Case, product: str) -> str:
    label = case.label(product)
    component = next((c for c in case.site.components if c.product == product), None)
    if product.startswith("runtime/") and component is not None:
        offers = sorted(set(case.site.offers.get(product, ())) | {component.version})
        return f"the host has {label} {_listed(offers)}"
    found = next((m for m in members(case) if m.product == product), None)
    top = found.options[-1].version if found else None
    return f"{label} can go no further than {top}" if top else f"{label} is not to be had"


def in_words(text: str) -> str:
    """A range as people say it: ">=8.1" is "8.1 or newer"."""
    bare = text.strip()
    if bare.startswith(">=") and "," not in bare and "|" not in bare:
        return f"{bare[2:].strip()} or newer"
    if bare.startswith("<") and not bare.startswith("<=") and "," not in bare and "|" not in bare:
        return f"below {bare[1:].strip()}"
    parts = [part.strip() for part in bare.split(",")]
    if len(parts) == 2 and parts[0].startswith(">=") and parts[1].startswith("<"):
        above = parts[1].lstrip("<=").strip()
        end = "up to" if parts[1].startswith("<=") else "to below"
        return f"from {parts[0][2:].strip()} {end} {above}"
    return "on the site" if bare == "*" else bare


def _carried(case: Case, carried: Sequence[Carrier]) -> str:
    names = [f"{case.label(c.product)} {c.version}" for c in carried]
    return f"{_listed(names)} {'carries' if len(names) == 1 else 'carry'} it."


def _listed(names: Sequence[str]) -> str:
    if len(names) < 2:
        return "".join(names)
    return f"{', '.join(names[:-1])} and {names[-1]}"


def step_title(step: PlannedStep, names: Mapping[str, str]) -> str:
    """A step in words: "Millrace 6.3.6 → 6.4.3"."""
    return " with ".join(
        f"{names.get(m.product, m.product)} {m.from_ or 'absent'} → {m.to}" for m in step.moves
    )


def _themes(case: Case, plugin: str) -> list[str]:
    """The themes in use on the site that carry a plugin in some release, by name."""
    return [
        case.label(c.product)
        for c in case.site.components
        if c.product.startswith("theme/")
        and c.active
        and any(plugin in r.bundles for r in case.releases_of[c.product])
    ]


def counted(count: int, one: str) -> str:
    """A number with its noun: "1 step", "2 steps"."""
    return f"{count} {one}" if count == 1 else f"{count} {one}s"


def _first_up(text: str) -> str:
    """The text with a capital first, unless it begins with a product id."""
    bare = text.split(" ", 1)[0].rstrip("'s")
    return text if "/" in bare else text[:1].upper() + text[1:]


# Why a step stands where it does.


def _planned(order: Order, n: int) -> PlannedStep:
    step = order.steps[n]
    choice = order.resolution.choice
    waypoint = any(step.after[m.v] != choice[m.v] for m in step.moves)
    return PlannedStep(
        moves=tuple(
            PlannedMove(
                product=m.product,
                from_=str(m.start) if m.start else None,
                to=str(m.end),
                by=m.by,
            )
            for m in step.moves
        ),
        why=_why(order, n, step, waypoint=waypoint),
        waypoint=waypoint,
    )


def _why(order: Order, n: int, step: Step, *, waypoint: bool) -> str:
    if len(step.moves) > 1:
        return _why_together(order, step)
    move = step.moves[0]
    problem, case = order.resolution.problem, order.resolution.case
    start, end = step.before[move.v], step.after[move.v]
    for later in order.steps[n + 1 :]:
        for other in later.moves:
            if other.v == move.v:
                continue
            held = _kept_apart(problem, (move.v, start), (other.v, later.after[other.v]))
            if held is not None:
                name = f"{case.label(other.product)} {other.end}"
                told = _broken_text(case, held, (move.v, move.start), (other.v, other.end))
                head = f"A stop on the way, so that {name} can follow" if waypoint else None
                return f"{head or f'Before {name}'}: {told}."
    for earlier in reversed(order.steps[:n]):
        for other in earlier.moves:
            if other.v == move.v:
                continue
            held = _kept_apart(problem, (move.v, end), (other.v, earlier.before[other.v]))
            if held is not None:
                name = f"{case.label(other.product)} {other.end}"
                told = _broken_text(case, held, (move.v, move.end), (other.v, other.start))
                return f"After {name}: {told}."
    if move.by == "bundle":
        return _carried_why(order, n, move.v)
    if waypoint:
        target = problem.options[move.v][order.resolution.choice[move.v]].version
        return f"A waypoint: {target} can't be reached straight from {move.start}."
    if any(m.v == move.v for s in order.steps[:n] for m in s.moves):
        return f"The rest of the way, now that {move.start} is in place."
    if move.start is None:
        return "It joins the site because something here asks for it."
    return "Nothing ties it; its place is the house's habit."


def _kept_apart(problem: Problem, a: tuple[int, int], b: tuple[int, int]) -> Constraint | None:
    """The constraint that two options of two members do not meet together, if any."""
    for number, c in enumerate(problem.constraints):
        if number in problem.broken or c.q == NOBODY:
            continue
        for (p, i), (q, j) in ((a, b), (b, a)):
            if c.p == p and c.q == q and not c.fits[i] >> j & 1:
                return c
    return None


def _broken_text(
    case: Case, c: Constraint, a: tuple[int, Version | None], b: tuple[int, Version | None]
) -> str:
    versions = dict([a, b])

    def named(v: int, product: str) -> str:
        version = versions[v]
        return f"{case.label(product)} {version}" if version else f"no {case.label(product)}"

    subject, other = named(c.p, c.subject), named(c.q, c.object)
    match c.kind:
        case "requires":
            wanted = ""
            for release in case.releases_of[c.subject]:
                if release.parsed == versions[c.p]:
                    wanted = release.requires.get(c.object, "")
            asked = f"{case.label(c.object)} {in_words(wanted)}" if wanted else other
            return f"{subject} needs {asked}"
        case "conflicts":
            return f"{subject} does not go with {other}"
        case "clash":
            return f"{subject} and {other} are known to clash"
        case "lockstep":
            return f"{subject} and {other} must match"


def _carried_why(order: Order, n: int, v: int) -> str:
    problem, case = order.resolution.problem, order.resolution.case
    step = order.steps[n]
    for rule in problem.carried:
        if rule.p == v and rule.i == step.after[v]:
            for theme, mask in rule.themes:
                if mask >> step.after[theme] & 1:
                    version = problem.options[theme][step.after[theme]].version
                    name = case.label(problem.members[theme].product)
                    moved = any(m.v == theme for s in order.steps[:n] for m in s.moves)
                    if moved:
                        return f"After {name} {version}, which carries it."
                    return f"{name} {version} carries it; no later step may take that away."
    return "Carried by the theme."


def _why_together(order: Order, step: Step) -> str:
    problem, case = order.resolution.problem, order.resolution.case
    told = []
    for a, b in combinations(step.moves, 2):
        for one, other in ((a, b), (b, a)):
            held = _kept_apart(problem, (one.v, step.after[one.v]), (other.v, step.before[other.v]))
            if held is not None:
                told.append(_broken_text(case, held, (one.v, one.end), (other.v, other.start)))
    for move in step.moves:
        if move.by == "bundle":
            told.append(f"{case.label(move.product)} {move.end} comes only inside the theme")
    names = list(dict.fromkeys(told))
    return f"Together, behind a maintenance page: {'; '.join(names)}."


def _stuck(order: Order, v: int) -> Stuck:
    case, problem = order.resolution.case, order.resolution.problem
    product = problem.members[v].product
    wanted = problem.options[v][order.wanted[v]].version
    reached = order.resolution.option(v).version
    label = case.label(product)
    return Stuck(
        product=product,
        text=f"{label} could be {wanted or 'left out'} but ends at {reached or 'absent'}: "
        "no order of steps was found that leads there without breaking something on the way.",
    )
