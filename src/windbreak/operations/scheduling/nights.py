"""The live night book: what is booked and what is to be, as the timetable takes it.

What a person gave a time for is pinned; what was booked before stays where it was, and only what
must move moves. Gates of rollouts stand in it while what they wait for is still to come; once that
has ended, they are the earliest start of what they keep back.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from windbreak.core.scheduling.openings import GRID, on_grid
from windbreak.core.values.bookings import Booking
from windbreak.core.values.errands import Brought
from windbreak.core.values.freezes import SiteFreeze
from windbreak.core.values.nightbooks import (
    BookHost,
    BookSite,
    BookWindow,
    Freeze,
    Gate,
    HoursWindow,
    Job,
    NightBook,
    RuleWindow,
)
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.rollouts import FailedMove
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedStep
from windbreak.operations.context import Context
from windbreak.operations.scheduling import (
    deadlines,
    estimates,
    failed_moves,
    freezes,
    gates,
    watching,
)
from windbreak.wording.words import listed

HORIZON = timedelta(days=28)


@dataclass(frozen=True)
class Reckoned:
    """What the timetable has to know of a plan."""

    minutes: int
    back: int
    due: datetime | None
    due_for: str
    weight: float
    watched: str


@dataclass(frozen=True)
class LiveBook:
    """The live night book with what its ids stand for. ``waits``: plans that are left out of it
    since they wait for a person's word, each with why.
    """

    book: NightBook
    names: Mapping[str, str]
    booked: Mapping[str, Booking]  # by job
    plans: Mapping[str, int]  # of what is to be booked, by job
    reckoned: Mapping[str, Reckoned]  # of what is to be booked, by job
    waits: Mapping[int, str]


@dataclass
class _Making:
    jobs: list[Job] = field(default_factory=list)
    booked: dict[str, Booking] = field(default_factory=dict)
    plans: dict[str, int] = field(default_factory=dict)
    reckoned: dict[str, Reckoned] = field(default_factory=dict)
    waits: dict[int, str] = field(default_factory=dict)
    due: set[str] = field(default_factory=set)  # jobs that have a time which is in no book
    names: dict[str, str] = field(default_factory=dict)


def job_id(plan: int) -> str:
    """The id of a plan's job; ids are in the order of plans, as equal places go to the lower."""
    return f"plan-{plan:08}"


def reckon(
    context: Context,
    site: Site,
    steps: Sequence[PlannedStep],
    brings: Sequence[Brought],
    sight: deadlines.Sight | None = None,
) -> Reckoned:
    """What the timetable has to know of some steps on a site; ``sight`` where many are reckoned.
    Reads.
    """
    sight = sight or deadlines.Sight(context)
    estimate = estimates.estimate(context, site, steps, brings)
    due = deadlines.deadline(sight, site, steps)
    watched = deadlines.watched(sight, site, steps, brings)
    return Reckoned(estimate.minutes, estimate.back_minutes, due.due, due.why, due.weight, watched)


def staying(book: NightBook, times: Mapping[str, tuple[datetime, str]]) -> NightBook:
    """A night book in which jobs stay at some times, by their ids, if that can be."""
    jobs = [
        job.model_copy(update={"was": times[job.id][0]}) if job.id in times else job
        for job in book.jobs
    ]
    return book.model_copy(update={"jobs": tuple(jobs)})


def reckon_plan(context: Context, plan: SitePlan) -> Reckoned:
    """What the timetable has to know of a plan. Reads."""
    site = context.store.sites.get(plan.site)
    return reckon(context, site, plan.plan.steps, plan.brings)


def live_book(
    context: Context,
    *,
    free: Iterable[int] = (),
    new: Iterable[Job] = (),
    new_gates: Iterable[Gate] = (),
    pin: bool = False,
    whole: bool = False,
) -> LiveBook:
    """The book of the next four weeks. ``free``: bookings that need not stay where they are;
    ``new``: jobs beside what is approved, with their gates; ``pin``: all that is booked stays;
    ``whole``: with sites that have no job. Reads.
    """
    at = on_grid(context.clock().replace(second=0, microsecond=0))
    making, let = _Making(), frozenset(free)
    failed, frozen = failed_moves.waiting(context), freezes.listed(context)
    waiting = context.store.bookings.all(state="waiting")
    plans = context.store.plans.standing(b.plan for b in waiting)
    for booking in waiting:
        targets = plans[booking.plan].targets
        why = failed_moves.against(context, failed, booking.site, targets)
        if why:
            making.waits[booking.plan] = why
        elif booking.starts_at > at + HORIZON or (
            booking.pinned and booking.id not in let and _off_grid(context, booking)
        ):
            making.due.add(job_id(booking.plan))  # it stays, though the book has no such start
        elif booking.starts_at >= at or booking.id in let:
            _add_booked(context, making, booking, kept=booking.id not in let)
        else:
            making.due.add(job_id(booking.plan))
    for number in context.store.plans.to_book():
        _add_new(context, making, context.store.plans.get(number), failed)
    making.jobs += new
    standing = list(gates.every(context))
    _shut(context, standing, making)
    earliest = _earliest(context, standing, making)
    _after_what_is_under_way(context, waiting, making, earliest)
    jobs = [
        job.model_copy(update={"earliest": earliest[job.id]}) if job.id in earliest else job
        for job in making.jobs
    ]
    sites = _sites(context, {job.site for job in jobs}, whole=whole)
    labels = {site.id: site.label for site in sites}
    hosts = context.store.hosts.all()
    making.names.update({host.id: host.name for host in hosts})
    making.names.update({job.id: labels[job.site] for job in jobs})
    by_hand = {b.site: b for b in making.booked.values() if b.pinned and b.id not in let}
    making.names.update({gate_id(s.gate): gates.in_short(s.gate) for s in standing})
    book = NightBook(
        format="windbreak-nightbook/1",
        at=at,
        horizon=at + HORIZON,
        hosts=tuple(BookHost(id=h.id, at_once=h.at_once) for h in hosts),
        sites=tuple(_site(site, frozen, by_hand.get(site.id)) for site in sites),
        watch=watching.stretches(context, at, at + HORIZON),
        jobs=tuple(_as_free_as_they_are(_pinned(jobs) if pin else jobs, sites, frozen)),
        gates=(*_gates(standing, jobs), *new_gates),
    )
    return LiveBook(book, making.names, making.booked, making.plans, making.reckoned, making.waits)


def _off_grid(context: Context, booking: Booking) -> bool:
    """Whether a booking is at a time that no timetable gives, and no freeze meets it there."""
    if on_grid(booking.starts_at) == booking.starts_at:
        return False
    ends = booking.starts_at + timedelta(minutes=booking.minutes + booking.back)
    site = context.store.sites.get(booking.site)
    return freezes.between(context, site, booking.starts_at, ends) is None


def _add_booked(context: Context, making: _Making, booking: Booking, *, kept: bool) -> None:
    id_, on_its_grid = job_id(booking.plan), on_grid(booking.starts_at) == booking.starts_at
    if not booking.minutes:  # from before bookings knew how long they take
        reckoned = reckon_plan(context, context.store.plans.get(booking.plan))
        booking = booking.model_copy(update=vars(reckoned))
    making.booked[id_] = booking
    making.jobs.append(
        Job(
            id=id_,
            site=booking.site,
            minutes=booking.minutes,
            back=booking.back,
            due=booking.due,
            weight=booking.weight,
            watched=bool(booking.watched) and not booking.pinned,
            was=booking.starts_at if kept else None,
            pinned=kept and booking.pinned and on_its_grid,
        )
    )


def _add_new(
    context: Context, making: _Making, plan: SitePlan, failed: Iterable[FailedMove]
) -> None:
    why = failed_moves.against(context, failed, plan.site, plan.targets)
    if why:
        making.waits[plan.id] = why
        return
    id_, reckoned = job_id(plan.id), reckon_plan(context, plan)
    making.plans[id_], making.reckoned[id_] = plan.id, reckoned
    making.jobs.append(job_of(id_, plan.site, reckoned))


def job_of(id_: str, site: str, reckoned: Reckoned) -> Job:
    """A job that has no booking yet."""
    return Job(
        id=id_,
        site=site,
        minutes=reckoned.minutes,
        back=reckoned.back,
        due=reckoned.due,
        weight=reckoned.weight,
        watched=bool(reckoned.watched),
    )


def _pinned(jobs: Iterable[Job]) -> Iterator[Job]:
    for job in jobs:
        fixed = job.was is not None and on_grid(job.was) == job.was
        yield job.model_copy(update={"pinned": fixed})


def _as_free_as_they_are(
    jobs: Iterable[Job], sites: Iterable[Site], frozen: Sequence[SiteFreeze]
) -> Iterator[Job]:
    """Jobs, of which one that a freeze meets is pinned no more: what a person gave is no exception
    to it.
    """
    by_id = {site.id: site for site in sites}
    for job in jobs:
        if job.pinned and job.was is not None:
            ends = job.was + timedelta(minutes=job.minutes + job.back)
            holding = (f for f in frozen if freezes.holds(f, by_id[job.site]))
            if freezes.meeting(holding, job.was, ends) is not None:
                job = job.model_copy(update={"pinned": False})
        yield job


# Gates.


def _shut(context: Context, standing: Sequence[gates.Standing], making: _Making) -> None:
    """Leave out what waits for a site that has no night of its own: a job is booked only if all are
    that its gate waits for.
    """
    while True:
        there = {job.id for job in making.jobs}
        behind: dict[str, str] = {}
        for gate_standing in standing:
            missing = [
                m for m in gate_standing.to_go if job_id(m.plan or 0) not in there | making.due
            ]
            if missing:
                labels = [context.store.sites.get(member.site).label for member in missing]
                gate = gate_standing.gate
                why = f"{gates.in_short(gate)} waits for {listed(labels)}, without a night"
                for member in gate.before:
                    behind.setdefault(job_id(member.plan or 0), why)
        behind = {id_: why for id_, why in behind.items() if id_ in there}
        if not behind:
            return
        for id_, why in behind.items():
            plan = making.plans.pop(id_, None) or making.booked.pop(id_).plan
            making.waits[plan] = why
        making.jobs = [job for job in making.jobs if job.id not in behind]


def _earliest(
    context: Context, standing: Iterable[gates.Standing], making: _Making
) -> dict[str, datetime]:
    """From when on jobs may begin by gates of which all that they wait for has begun or ended."""
    now, earliest = context.clock(), dict[str, datetime]()
    # What a person gave a time for stands there; its gate is looked at when it is to begin.
    there = {job.id for job in making.jobs if not job.pinned}
    for gate in standing:
        opens = gate.opens
        if opens is None and not gate.to_go and gate.under_way:
            opens = now + gate.gate.quiet + _left(context, gate)
        for member in gate.gate.before:
            id_ = job_id(member.plan or 0)
            if opens is None or opens <= now or id_ not in there:
                continue
            if opens > earliest.get(id_, now):
                earliest[id_] = opens
                making.names[f"earliest {id_}"] = f"{gates.in_short(gate.gate)} opens"
    return earliest


def _after_what_is_under_way(
    context: Context,
    waiting: Iterable[Booking],
    making: _Making,
    earliest: dict[str, datetime],
) -> None:
    """Let jobs on a host that bears no more begin after what is done there now, or is to begin at
    once.
    """
    ends = _ends_by_host(context, waiting, making)
    hosts = {host.id: host for host in context.store.hosts.all() if host.id in ends}
    if not hosts:
        return
    sites = {s.id: s for s in context.store.sites.all(id={job.site for job in making.jobs})}
    for job in making.jobs:
        host = hosts.get(sites[job.site].host or "")
        if host is None or job.pinned or len(ends[host.id]) < host.at_once:
            continue
        free_at, label = sorted(ends[host.id])[-host.at_once]
        if free_at > earliest.get(job.id, context.clock()):
            earliest[job.id] = free_at
            what = f"{host.name} bears {host.at_once} at once, and {label} is done"
            making.names[f"earliest {job.id}"] = what


def _ends_by_host(
    context: Context, waiting: Iterable[Booking], making: _Making
) -> dict[str, list[tuple[datetime, str]]]:
    """When what is under way on each host should be done, and on which site that is."""
    now, by_host = context.clock(), dict[str, datetime]()
    for run in context.store.runs.all(state="running"):
        minutes = reckon_plan(context, context.store.plans.get(run.plan)).minutes
        by_host[run.site] = run.started_at + timedelta(minutes=minutes)
    for booking in waiting:
        if booking.starts_at <= now and job_id(booking.plan) in making.due:
            by_host.setdefault(booking.site, booking.starts_at + timedelta(minutes=booking.minutes))
    ends: dict[str, list[tuple[datetime, str]]] = {}
    for site in context.store.sites.all(id=set(by_host)) if by_host else ():
        if site.host is not None and by_host[site.id] > now:
            ends.setdefault(site.host, []).append((by_host[site.id], site.label))
    return ends


def _left(context: Context, gate: gates.Standing) -> timedelta:
    """How long the runs that a gate waits for may still take."""
    left = timedelta()
    for run in gate.under_way:
        plan = context.store.plans.get(run.plan)
        ends = run.started_at + timedelta(minutes=reckon_plan(context, plan).minutes)
        left = max(left, ends - context.clock())
    return left


def gate_id(gate: gates.Gate) -> str:
    return f"rollout {gate.rollout.id}, {gate.id}"


def _gates(standing: Iterable[gates.Standing], jobs: Iterable[Job]) -> Iterable[Gate]:
    """The gates that wait for jobs of the book, and keep back what is not pinned."""
    pinned = {job.id: job.pinned for job in jobs}
    for gate_standing in standing:
        gate = gate_standing.gate
        after = tuple(id_ for m in gate_standing.to_go if (id_ := job_id(m.plan or 0)) in pinned)
        before = tuple(
            id_ for m in gate.before if (id_ := job_id(m.plan or 0)) in pinned and not pinned[id_]
        )
        if after and before:
            yield Gate(
                id=gate_id(gate),
                after=after,
                before=before,
                quiet=min(int(gate.rollout.quiet_minutes), 60 * 24 * 28),
                text=gate.id,
            )


# Sites.


def _sites(context: Context, wanted: set[str], *, whole: bool) -> list[Site]:
    if whole:
        return context.store.sites.live()
    return context.store.sites.all(id=wanted) if wanted else []


def _site(site: Site, frozen: Iterable[SiteFreeze], by_hand: Booking | None) -> BookSite:
    windows: list[BookWindow] = [
        HoursWindow(days=w.days, start=w.start, end=w.end) for w in site.windows
    ]
    if by_hand is not None:
        # A time that a person gave opens the site, whatever its windows say.
        local = by_hand.starts_at.astimezone(ZoneInfo(site.timezone))
        windows.append(
            RuleWindow(
                rrule="FREQ=DAILY;COUNT=1",
                from_=local.date(),
                start=f"{local:%H:%M}",
                minutes=by_hand.minutes + by_hand.back + int(GRID.total_seconds() // 60),
            )
        )
    return BookSite(
        id=site.id,
        host=site.host,
        zone=site.timezone,
        windows=tuple(windows),
        freezes=tuple(
            Freeze(from_=freeze.from_, to=freeze.to, reason=freeze.reason)
            for freeze in frozen
            if freezes.holds(freeze, site)
        ),
    )
