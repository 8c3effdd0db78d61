"""Rollouts drafted: who would go, in which wave, and the night book that says when; who stays out
and why. Only reads. ``drafts`` gives each its times.

What is taken is worked out once for each situation, however many sites are in it.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from windbreak.core.scheduling.canaries import canaries
from windbreak.core.values.basics import SEVERITY, State
from windbreak.core.values.errands import Brought
from windbreak.core.values.nightbooks import Gate, NightBook
from windbreak.core.values.rollouts import NewRollout, StaysOut, Wave
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedStep, Verdict
from windbreak.documents.rollouts import Bringing, DraftMember, RolloutDraft
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.findings.causes.made import act
from windbreak.operations.planning import brought, planning
from windbreak.operations.reasoning import answers
from windbreak.operations.reasoning.answers import Reasoned
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.reasoning.explaining import explained
from windbreak.operations.runs import own_files
from windbreak.operations.scheduling import deadlines, failed_moves, gates, nights
from windbreak.operations.scheduling.nights import Reckoned
from windbreak.operations.sites import clients
from windbreak.operations.views.standings import MOVING

URGENT = SEVERITY["high"]  # what closes an advisory from this on does not wait for the canaries
# What a case hangs on beside its site and what is on it.
_GROUND = (
    *("everything", "product", "tie", "entitlement", "hold", "rule", "host", "package", "right"),
    *("seat", "licence", "feed", "feeds", "outcome"),
)
SHOP_STAKE, MIGRATE_STAKE, TWIN_STAKE = 100, 20, 10


@dataclass(frozen=True)
class _Taken:
    """What is taken in one situation."""

    reasoned: Reasoned
    scope: frozenset[str] | None
    targets: Mapping[str, str]
    held: int
    kinds: frozenset[str]

    @property
    def steps(self) -> tuple[PlannedStep, ...]:
        return self.reasoned.plan.steps


@dataclass(frozen=True)
class _Going:
    """A site that would go."""

    site: Site
    taken: _Taken
    brings: tuple[Brought, ...]
    reckoned: Reckoned
    urgent: bool


@dataclass
class _Waves:
    """The wave of each site, and the ``turn`` of those of the rest that wait; the kinds that sites
    share, which of them canaries cover, and whether no fewer canaries cover as many.
    """

    kinds: frozenset[str]
    proven: bool
    wave: dict[str, Wave] = field(default_factory=dict)
    turn: dict[str, int] = field(default_factory=dict)
    covers: dict[str, tuple[str, ...]] = field(default_factory=dict)
    covered: set[str] = field(default_factory=set)


@dataclass
class _Out:
    """Sites that stay out, by reason."""

    by_reason: dict[tuple[State, str], list[Site]] = field(
        default_factory=lambda: defaultdict(list)
    )
    acts: dict[tuple[State, str], str] = field(default_factory=dict)

    def add(self, site: Site, state: State, text: str, act: str = "see-site") -> None:
        self.by_reason[state, text].append(site)
        self.acts[state, text] = act

    def rows(self) -> tuple[StaysOut, ...]:
        every = sorted(
            self.by_reason.items(), key=lambda member: (-len(member[1]), member[1][0].label)
        )
        return tuple(
            StaysOut(
                sites=tuple(site.id for site in sites),
                labels=tuple(site.label for site in sites),
                state=state,
                text=text,
                act=act("See it", self.acts[state, text], site=sites[0].id),
            )
            for (state, text), sites in every
        )


@dataclass(frozen=True)
class Drafted:
    """A rollout before it has times, the night book in which it gets them, and what the ids of that
    book are called.
    """

    draft: RolloutDraft
    book: NightBook
    names: Mapping[str, str]

    def with_times(self, document: Mapping[str, Any]) -> RolloutDraft:
        """The same with the times and reasons of a timetable of its book, as a document."""
        places: dict[str, tuple[datetime | None, str]] = {}
        for row in document["bookings"]:
            places[row["job"]] = datetime.fromisoformat(row["start"]), row["text"]
        for row in document["left_out"]:
            places[row["job"]] = None, row["text"]
        members = []
        for member in self.draft.members:
            starts_at, why = places[job_of(member.site)]
            members.append(member.model_copy(update={"starts_at": starts_at, "why": why}))
        members.sort(key=_place)
        improved = document.get("improved", 1.0)
        return self.draft.model_copy(update={"members": tuple(members), "improved": improved})


_ORDER: Mapping[Wave, int] = {"twin": 0, "canary": 1, "rest": 2}


def _place(member: DraftMember) -> tuple[object, ...]:
    when = (member.starts_at is None, member.starts_at or 0)
    return (_ORDER[member.wave], member.turn, *when, member.label)


def job_of(site: str) -> str:
    """The id of a site's job in the book of a draft."""
    return f"site-{site}"


def drafted(context: Context, new: NewRollout, but: int | None = None) -> Drafted:
    """What a rollout would do if it were approved now, without times; ``but`` one that is under
    way, which does not count. Reads. Raises NotFound, and Refused where nobody has what is asked
    for.
    """
    with context.store.database.remembered():
        return _Drafting(context, new, but).drafted()


class _Drafting:
    def __init__(self, context: Context, new: NewRollout, but: int | None) -> None:
        self.context, self.new, self.but = context, new, but
        self.ground = Ground.read(context)
        self.sight = deadlines.Sight(context)
        self.failed = failed_moves.waiting(context)
        self.sites, self.beside = self._scope(), frozenset(new.beside)
        self.out = _Out()
        self.before: list[str] = []
        self.nothing = 0
        self.signatures = context.store.inventories.signatures([s.id for s in self.sites])
        generation = context.store.database.generation(*_GROUND)
        self._wholes: dict[Hashable, Reasoned] = context.cache.kept(
            "wholes of drafts", (generation, self.sight.now.date()), lambda _: {}
        )
        self._taken: dict[Hashable, _Taken | str | None] = {}
        self._crossed: brought.Crossed = {}
        self._brings: dict[Hashable, tuple[Brought, ...]] = {}

    def drafted(self) -> Drafted:
        going = list(self._going())
        waves = self._waves(going)
        return Drafted(self._draft(going, waves), *self._book(going, waves))

    def _draft(self, going: Sequence[_Going], waves: _Waves) -> RolloutDraft:
        members = [self._member(entry, waves) for entry in going]
        moves = Counter(dict.fromkeys(("core", "theme", "plugin", "runtime"), 0))
        for member in members:
            moves.update(member.moves)
        return RolloutDraft(
            asked=self.new,
            made_at=self.sight.now,
            what=self._what(),
            where=self.new.where,
            members=tuple(sorted(members, key=_place)),
            stays_out=self.out.rows(),
            before=tuple(self.before),
            nothing=self.nothing,
            moves=dict(moves),
            held=sum(entry.taken.held for entry in going),
            kinds=len(waves.kinds),
            covered=len(waves.covered),
            proven=waves.proven,
            brings=tuple(_bringing(going)),
        )

    def _what(self) -> str:
        """What is taken, by its name: "Millrace 6.4.3"."""
        product = self.sight.product(self.new.product) if self.new.product else None
        return f"{product.name} {self.new.version}" if product else self.new.what

    # Who goes.

    def _scope(self) -> list[Site]:
        """The sites that are asked for, their twins, and those that stay out beside them."""
        store, new = self.context.store, self.new
        for id_ in (*new.sites, *new.but, *new.beside, *(new.canaries or ())):
            store.sites.get(id_)
        clients.check(self.context, new.client)
        live = store.sites.live()
        named = {
            site.id
            for site in live
            if (not new.sites or site.id in new.sites)
            and (new.client is None or site.client == new.client)
            and (new.tag is None or new.tag in site.tags)
        }
        with_twins = named | {site.id for site in live if site.twin_of in named}
        if not named:
            raise Refused("no-site", f"there is no site of {new.where}")
        looked_at = with_twins.difference(new.but) | set(new.beside)
        return [site for site in live if site.id in looked_at]

    def _going(self) -> Iterator[_Going]:
        store = self.context.store
        matters = {m.site: m for m in store.matters.all(open=True)}
        running = {run.site: run for run in store.runs.all(state=("running", "waiting"))}
        booked = {b.site for b in store.bookings.all(state="waiting")} | self._in_rollouts()
        for site in self.sites:
            if site.id not in self.signatures or site.link.state != "linked":
                state: State = "failed" if site.link.state == "down" else "unknown"
                self.out.add(site, state, f"It can’t be worked on: {site.link.reason}")
            elif site.id in matters:
                text = "Its last run ended badly: decide about that first."
                self.out.add(site, "failed", text, "see-site")
            elif site.id in running:
                self.out.add(site, "running", "A run is under way.")
            elif site.id in booked:
                self.before.append(site.id)
            elif site.id not in self.beside:
                yield from self._if_it_moves(site)
            else:
                for _ in self._if_it_moves(site):
                    self.out.add(site, "ready", "It was not ready yet when this was approved.")

    def _in_rollouts(self) -> set[str]:
        """The sites that a rollout under way has still to come to."""
        return {
            member.site
            for rollout in gates.under_way(self.context)
            if rollout.id != self.but
            for member in rollout.going
            if gates.run_of(self.context, member) is None
        }

    def _if_it_moves(self, site: Site) -> Iterator[_Going]:
        key = self.ground.fingerprint(site, self.signatures[site.id])
        if key not in self._taken:
            try:
                self._taken[key] = self._take(site)
            except (OperationError, ValueError) as error:
                self._taken[key] = str(error)
        taken = self._taken[key]
        if taken is None:
            self.nothing += 1
        elif isinstance(taken, str):
            self.out.add(site, "blocked", taken, "see-plan")
        elif by_hand := list(own_files.seen_by_hand(self.context, site.id, taken.steps)):
            why = f"Changed by hand, and nobody has said what becomes of it: {'; '.join(by_hand)}."
            self.out.add(site, "blocked", why, "see-plan")
        elif failed := self._failed_elsewhere(site, taken):
            self.out.add(site, "failed", f"{failed}.", "see-plan")
        else:
            brings = self._brought(key, site, taken)
            reckoned = nights.reckon(self.context, site, taken.steps, brings, self.sight)
            yield _Going(site, taken, brings, reckoned, self._is_urgent(taken))

    def _failed_elsewhere(self, site: Site, taken: _Taken) -> str:
        """Why a site waits for a word: a move that it would make failed somewhere."""
        moves = [move for step in taken.steps for move in step.moves]
        targets = {move.product: move.to for move in moves if move.to is not None}
        return failed_moves.against(self.context, self.failed, site.id, targets)

    def _take(self, site: Site) -> _Taken | str | None:
        """What is taken in the situation of a site; why nothing can be; None: nothing is to be."""
        whole = self._whole(site)
        case = whole.case
        if self.new.product is None and not self.new.security:
            return self._candidate(whole, None) if whole.plan.steps else None
        wanted = self._wanted(whole)
        if not wanted:
            return self._why_not(site, whole)
        inventory = self.context.store.inventories.get(site.id)
        for scope in planning.scopes(case, wanted):
            reasoned = (
                whole
                if scope is None
                else answers.reason(self.context, self.ground.case(site, inventory, only=scope))
            )
            reached = {v.product: v.to for v in reasoned.answer.verdicts if v.outcome in MOVING}
            if all(reached.get(product) == to for product, to in wanted.items()):
                return self._candidate(reasoned, scope)
        return self._why_not(site, whole)

    def _whole(self, site: Site) -> Reasoned:
        """All that can be moved in the situation of a site: kept beside the answers themselves, as
        telling which situation a site is in costs more than looking it up.
        """
        key = self.ground.fingerprint(site, self.signatures[site.id])
        whole = self._wholes.get(key)
        if whole is None:
            inventory = self.context.store.inventories.get(site.id)
            whole = answers.reason(self.context, self.ground.case(site, inventory))
            self._wholes[key] = whole
        return whole

    def _wanted(self, whole: Reasoned) -> dict[str, str]:
        """The products that are to reach a version, by what is asked for."""
        moving = {v.product: v for v in whole.answer.verdicts if v.outcome in MOVING and v.to}
        if self.new.security:
            spans = {p: (v.from_, v.to or "") for p, v in moving.items()}
            closes = {due.product for due in deadlines.closed(self.sight, spans)}
            return {p: v.to or "" for p, v in moving.items() if p in closes}
        product, version = self.new.product or "", self.new.version or ""
        installed = any(v.product == product and v.from_ for v in whole.answer.verdicts)
        there = {c.product: c.version for c in whole.case.site.components}
        if not installed or there.get(product) == version:
            return {}
        return {product: version}

    def _why_not(self, site: Site, whole: Reasoned) -> str | None:
        """Why a release can't be taken, None where there is nothing to take."""
        product, version = self.new.product, self.new.version
        for verdict in explained(self.ground, site, whole).answer.verdicts:
            if verdict.product != product or verdict.from_ in (None, version):
                continue
            if verdict.blocked is not None:
                return verdict.blocked.text
            name = whole.case.label(product)
            return f"{name} goes to {verdict.to or verdict.from_} here, not to {version}"
        return None

    def _candidate(self, reasoned: Reasoned, scope: frozenset[str] | None) -> _Taken | None:
        if not reasoned.plan.steps:
            return None
        moved = deadlines.spans(reasoned.plan.steps)
        kinds = frozenset(_kinds(reasoned, {p: to for p, (_, to) in moved.items()}))
        held = sum(v.outcome == "held" for v in reasoned.answer.verdicts) if scope is None else 0
        return _Taken(reasoned, scope, {p: to for p, (_, to) in moved.items()}, held, kinds)

    def _is_urgent(self, taken: _Taken) -> bool:
        """Whether it closes what can't wait for the canaries."""
        spans = deadlines.spans(taken.steps)
        return any(SEVERITY[a.severity] >= URGENT for a in deadlines.closed(self.sight, spans))

    def _brought(self, key: Hashable, site: Site, taken: _Taken) -> tuple[Brought, ...]:
        """What the steps bring; the same on all sites of one situation, but where each site has a
        code of its own.
        """
        shared = (key, site.link.agent_can, site.host is None)
        kept = self._brings.get(shared)
        if kept is None or any(bring.kind in ("register", "runtime") for bring in kept):
            kept = brought.of_steps(self.context, site.id, taken.steps, self._crossed)
            self._brings[shared] = kept
        return kept

    # In which wave, and when.

    def _waves(self, going: Sequence[_Going]) -> _Waves:
        """The wave of each site: canaries as they are named, else the fewest that cover all."""
        live = [member for member in going if member.site.twin_of is None]
        with_twin = {member.site.twin_of or "" for member in going}
        patient = [
            member for member in live if not member.urgent
        ]  # what is urgent waits for no canary
        cover = canaries(
            {member.site.id: member.taken.kinds for member in patient},
            {member.site.id: _stake(member, with_twin) for member in patient},
        )
        chosen = list(cover.chosen)
        if self.new.canaries is not None:
            named = set(self.new.canaries)
            chosen = [id_ for id_ in chosen if id_ in named] + sorted(named - set(chosen))
        elif len(chosen) == len(patient):
            chosen = []  # nobody would be left to go after them
        kinds_of = {member.site.id: member.taken.kinds & cover.kinds for member in live}
        plan_of_waves = _Waves(cover.kinds, cover.proven)
        for member in going:
            plan_of_waves.wave[member.site.id] = "rest" if member.site.twin_of is None else "twin"
        for id_ in chosen:
            if id_ in kinds_of:
                plan_of_waves.wave[id_] = "canary"
                plan_of_waves.covers[id_] = tuple(sorted(kinds_of[id_] - plan_of_waves.covered))
                plan_of_waves.covered |= kinds_of[id_]
        rest = [x for x in going if plan_of_waves.wave[x.site.id] == "rest" and not x.urgent]
        rest.sort(key=lambda x: (_stake(x, with_twin), x.site.id))
        plan_of_waves.turn = {
            x.site.id: turn for x, turn in zip(rest, turns(len(rest), self.new.waves), strict=True)
        }
        return plan_of_waves

    def _book(self, every: Sequence[_Going], waves: _Waves) -> tuple[NightBook, dict[str, str]]:
        """The night book in which each site gets its time, all that is booked stays, and names."""
        jobs = [nights.job_of(job_of(x.site.id), x.site.id, x.reckoned) for x in every]
        live = nights.live_book(
            self.context, new=jobs, new_gates=self._gates(every, waves.wave, waves.turn), pin=True
        )
        names = {**live.names, gates.CANARIES: gates.OF_CANARIES}
        names |= {f"twin {x.site.id}": gates.OF_ITS_TWIN for x in every}
        names |= {gates.wave_id(n): gates.of_wave(n) for n in range(2, self.new.waves + 1)}
        return live.book, names

    def _gates(
        self, every: Sequence[_Going], waves: Mapping[str, Wave], turns: Mapping[str, int]
    ) -> list[Gate]:
        quiet = min(int(self.new.quiet_minutes), 60 * 24 * 28)
        ids = {member.site.id for member in every}
        made = [
            Gate(
                id=f"twin {x.site.id}",
                after=(job_of(x.site.id),),
                quiet=quiet,
                before=(job_of(x.site.twin_of),),
            )
            for x in every
            if x.site.twin_of in ids and x.site.twin_of is not None
        ]
        first = tuple(job_of(site) for site, wave in waves.items() if wave == "canary")
        rest = tuple(
            job_of(member.site.id)
            for member in every
            if waves[member.site.id] == "rest" and not member.urgent
        )
        if first and rest:
            made.append(Gate(id=gates.CANARIES, after=first, quiet=quiet, before=rest))
        for turn in range(2, max(turns.values(), default=1) + 1):
            after, before = (
                tuple(job_of(site) for site, its in turns.items() if its == of)
                for of in (turn - 1, turn)
            )
            made.append(Gate(id=gates.wave_id(turn), after=after, quiet=quiet, before=before))
        return made

    def _member(self, going: _Going, waves: _Waves) -> DraftMember:
        return DraftMember(
            site=going.site.id,
            label=going.site.label,
            host=going.site.host,
            twin_of=going.site.twin_of,
            wave=waves.wave[going.site.id],
            state="exposed" if going.urgent else "ready",
            targets=dict(going.taken.targets),
            moves=dict(Counter(p.partition("/")[0] for p in going.taken.targets)),
            steps=len(going.taken.steps),
            urgent=going.urgent,
            turn=waves.turn.get(going.site.id, 1),
            migrates=any(bring.kind == "migrate" for bring in going.brings),
            covers=waves.covers.get(going.site.id, ()),
            scope=None if going.taken.scope is None else tuple(sorted(going.taken.scope)),
            **vars(going.reckoned),
        )


def turns(count: int, waves: int) -> list[int]:
    """In which wave each of so many sites goes, in their order: each wave is twice as large as the
    one before, and none is empty.
    """
    some = min(waves, count)
    whole = 2**some - 1
    ends = [max(n, round(count * (2**n - 1) / whole)) for n in range(1, some + 1)]
    return [next(n for n, end in enumerate(ends, 1) if place < end) for place in range(count)]


def _kinds(reasoned: Reasoned, targets: Mapping[str, str]) -> Iterator[str]:
    """What a site has in common with others once it has gone: core, theme, runtime, and what the
    theme carries, each in its version.
    """
    case = reasoned.case
    verdicts: dict[str, Verdict] = {v.product: v for v in reasoned.answer.verdicts}
    for component in case.site.components:
        product, kind = component.product, component.product.partition("/")[0]
        verdict = verdicts.get(product)
        version = targets.get(product) or (verdict.from_ if verdict else None)
        name = f"{case.label(product)} {version or component.version}"
        if kind in ("core", "runtime") or (kind == "theme" and component.active):
            yield name
        elif kind == "plugin" and (theme := next(case.carriers(product), None)):
            yield f"{name} with {case.label(theme)}"


def _stake(going: _Going, with_twin: Collection[str]) -> float:
    """What is at stake on a site: a shop, a migration, that everybody would wait for its twin as
    well, then how much is moved.
    """
    shop = SHOP_STAKE if deadlines.SHOP in going.site.tags else 0
    twin = TWIN_STAKE if going.site.id in with_twin else 0
    migrates = MIGRATE_STAKE if any(b.kind == "migrate" for b in going.brings) else 0
    return shop + migrates + twin + len(going.taken.targets)


def _bringing(going: Iterable[_Going]) -> Iterator[Bringing]:
    """The work for people that it brings, what is asked on most sites first."""
    labels: dict[tuple[str, int | None], list[str]] = defaultdict(list)
    for member in going:
        for bring in member.brings:
            if bring.by == "person":
                labels[bring.text, bring.due_days].append(member.site.label)
    for (text, days), where in sorted(labels.items(), key=lambda x: (-len(x[1]), x[0][0])):
        yield Bringing(text=text, labels=tuple(dict.fromkeys(where)), due_days=days)
