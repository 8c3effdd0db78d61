"""The calendar: nights with what is booked and run, what could be, and what is not, and why."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Sequence
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from windbreak.core.scheduling.openings import joined, openings, within
from windbreak.core.values.bookings import Booking
from windbreak.core.values.rollouts import Member
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.documents.calendar import (
    BookedState,
    Calendar,
    Frozen,
    LeftOutSites,
    NightBooking,
    NightGate,
    NightHost,
    Opened,
)
from windbreak.documents.rollouts import DraftMember
from windbreak.operations.context import Context
from windbreak.operations.scheduling import drafts, estimates, freezes, gates, timetables
from windbreak.operations.views.rollouts import label_of
from windbreak.wording.words import counted

MOST_DAYS = 42


def calendar(
    context: Context, first: date | None, days: int, zone: str, *, proposed: bool = True
) -> Calendar:
    """The nights from a day on, each from noon to noon in a zone. Reads."""
    now, tz = context.clock(), ZoneInfo(zone)
    day = first or (now.astimezone(tz) - timedelta(hours=12)).date()
    start = datetime.combine(day, time(12), tzinfo=tz)
    end = datetime.combine(day + timedelta(days=days), time(12), tzinfo=tz)
    with context.store.database.remembered():
        return _Making(context, now, start, end).made(proposed=proposed)


class _Making:
    def __init__(self, context: Context, now: datetime, start: datetime, end: datetime) -> None:
        self.context, self.now, self.start, self.end = context, now, start, end
        self.sites = {site.id: site for site in context.store.sites.live()}
        self.members = self._members()
        self.wanting = gates.wanting(context)

    def made(self, *, proposed: bool) -> Calendar:
        proposes = proposed and drafts.is_kept(self.context)
        kept = drafts.fleet(self.context) if proposes else None
        draft, final = kept or (None, not proposes)
        waiting = self.context.store.bookings.all(state="waiting")
        bookings = [
            *self._ran(),
            *(self._booked(b) for b in waiting if b.site in self.sites),
            *self._all_proposed(draft.members if draft else (), {b.site for b in waiting}),
        ]
        shown = [b for b in bookings if b.starts_at < self.end and b.ends_at > self.start]
        booked = {b.site for b in bookings if b.ends_at > self.now or b.run is not None}
        left_out, stays_out = tuple(self._left_out()), draft.stays_out if draft else ()
        without = self.sites.keys() - booked
        if draft is not None:
            lists = [job.sites for job in left_out] + [job.sites for job in stays_out]
            without &= {site for sites in lists for site in sites}
        return Calendar(
            at=self.now,
            start=self.start,
            end=self.end,
            hosts=tuple(self._hosts(shown)),
            bookings=tuple(sorted(shown, key=lambda b: (b.starts_at, b.label))),
            opened=tuple(self._opened()),
            frozen=tuple(self._frozen()),
            gates=tuple(self._gates()),
            left_out=left_out,
            stays_out=stays_out,
            clear=draft.nothing if draft else 0,
            booked=len({b.site for b in shown}),
            unbooked=len(without),
            proposed=draft is not None,
            proposed_at=draft.made_at if draft else None,
            final=final,
        )

    def _left_out(self) -> Iterator[LeftOutSites]:
        """What is approved and has no night, by reason, the most sites first."""
        by_text: dict[str, list[tuple[int, str]]] = defaultdict(list)
        for job in timetables.left_out(self.context):
            if job["site"] in self.sites:
                by_text[job["text"]].append((job["plan"], job["site"]))
        for text, left in sorted(by_text.items(), key=lambda job: (-len(job[1]), job[0])):
            yield LeftOutSites(
                plans=tuple(plan for plan, _ in left),
                sites=tuple(site for _, site in left),
                labels=tuple(self.sites[site].label for _, site in left),
                text=text,
            )

    def _members(self) -> dict[int, tuple[int, Member]]:
        """The rollout and the member of each plan that is a part of one under way."""
        return {
            member.plan: (rollout.id, member)
            for rollout in gates.under_way(self.context)
            for member in rollout.going
            if member.plan is not None
        }

    # Bookings.

    def _ran(self) -> Iterator[NightBooking]:
        for run in self._runs():
            site = self.sites.get(run.site)
            if site is None:
                continue
            ended = run.ended_at or max(self.now, run.started_at)
            state: BookedState = "done"
            if run.ended_at is None:
                state = "running"
            elif run.state != "done":
                state = "failed"
            rollout, member = self.members.get(run.plan, (None, None))
            yield NightBooking(
                site=site.id,
                label=site.label,
                host=site.host,
                twin=site.twin_of is not None,
                state=state,
                starts_at=run.started_at,
                ends_at=ended,
                back_until=ended,
                moves=run.steps,
                why=run.text,
                reckoned="",
                plan=run.plan,
                run=run.id,
                rollout=rollout,
                wave=member.wave if member else None,
            )

    def _runs(self) -> Iterator[Run]:
        """The runs that reach into these days, newest first."""
        after: int | None = None
        while page := self.context.store.runs.page(after=after, limit=200, newest_first=True):
            for run in page:
                if run.ended_at is None or run.ended_at > self.start:
                    yield run
            after = page[-1].id
            if all(run.ended_at is not None and run.ended_at <= self.start for run in page):
                return

    def _booked(self, booking: Booking) -> NightBooking:
        site = self.sites[booking.site]
        rollout, member = self.members.get(booking.plan, (booking.rollout, None))
        plan = self.context.store.plans.standing([booking.plan])[booking.plan]
        ends = booking.starts_at + timedelta(minutes=booking.minutes)
        return NightBooking(
            site=site.id,
            label=site.label,
            host=site.host,
            twin=site.twin_of is not None,
            state="approved",
            starts_at=booking.starts_at,
            ends_at=ends,
            back_until=ends + timedelta(minutes=booking.back),
            moves=len(plan.targets),
            why=self.wanting.get(site.id, booking.why),
            reckoned=self._reckoned(site, booking.starts_at, booking.minutes, booking.back),
            plan=booking.plan,
            booking=booking.id,
            rollout=rollout,
            wave=member.wave if member else None,
            pinned=booking.pinned,
            due=booking.due,
            due_for=booking.due_for,
            watched=booking.watched,
        )

    def _all_proposed(
        self, members: Sequence[DraftMember], booked: Collection[str]
    ) -> Iterator[NightBooking]:
        """What could be booked of what is not yet, and has not passed since that was worked out."""
        for member in members:
            there = member.site in self.sites and member.site not in booked
            minute = self.now.replace(second=0, microsecond=0)
            if there and member.starts_at and member.starts_at >= minute:
                yield self._proposed(member)

    def _proposed(self, member: DraftMember) -> NightBooking:
        assert member.starts_at is not None  # made looked
        site = self.sites[member.site]
        ends = member.starts_at + timedelta(minutes=member.minutes)
        return NightBooking(
            site=member.site,
            label=member.label,
            host=member.host,
            twin=member.twin_of is not None,
            state="not yet",
            starts_at=member.starts_at,
            ends_at=ends,
            back_until=ends + timedelta(minutes=member.back),
            moves=sum(member.moves.values()),
            why=member.why,
            reckoned=self._reckoned(site, member.starts_at, member.minutes, member.back),
            wave=member.wave,
            due=member.due,
            due_for=member.due_for,
            watched=member.watched,
        )

    def _reckoned(self, site: Site, starts: datetime, minutes: int, back: int) -> str:
        """How long it takes, what that is drawn from, and what is left of its window."""
        runs = estimates.seen_runs(self.context)
        drawn = f"from {counted(runs, 'run')}" if runs else "as is usual: nothing has run yet"
        ends = starts + timedelta(minutes=minutes)
        spans = openings(site.windows, site.timezone, starts, ends)
        left = [closes - ends for opens, closes in spans if opens <= starts and closes >= ends]
        room = f"; {_long(left[0])} are left in the window to go back in" if left else ""
        return f"Reckoned at {minutes} min, {drawn}; {back} min to go back{room}."

    # Hosts, windows, freezes, gates.

    def _hosts(self, shown: Sequence[NightBooking]) -> Iterator[NightHost]:
        """The hosts as lanes; what lies elsewhere is one only where anything is done there."""
        count: dict[str | None, int] = defaultdict(int)
        for site in self.sites.values():
            count[site.host] += 1
        for host in self.context.store.hosts.all():
            yield NightHost(id=host.id, name=host.name, at_once=host.at_once, sites=count[host.id])
        if any(b.host is None for b in shown):
            yield NightHost(id=None, name="elsewhere", at_once=None, sites=count[None])

    def _opened(self) -> Iterator[Opened]:
        by_host: dict[str | None, set[tuple[object, str]]] = defaultdict(set)
        for site in self.sites.values():
            by_host[site.host].add((site.windows, site.timezone))
        for host, kinds in by_host.items():
            spans = [
                span
                for windows, zone in kinds
                for span in openings(windows, zone, self.start, self.end)  # type: ignore[arg-type]
            ]
            for opens, closes in within(joined(spans), self.start, self.end):
                yield Opened(host=host, start=opens, end=closes)

    def _frozen(self) -> Iterator[Frozen]:
        for freeze in freezes.listed(self.context):
            if freeze.from_ >= self.end or freeze.to <= self.start:
                continue
            held = [site for site in self.sites.values() if freezes.holds(freeze, site)]
            yield Frozen(
                freeze=freeze.id,
                start=freeze.from_,
                end=freeze.to,
                where=self._where(freeze.site, freeze.where),
                site=freeze.site,
                host=freeze.host,
                client=freeze.client,
                hosts=tuple(dict.fromkeys(site.host for site in held)),
                reason=freeze.reason,
            )

    def _where(self, site: str | None, where: str) -> str:
        return self.sites[site].label if site in self.sites else where

    def _gates(self) -> Iterator[NightGate]:
        """The gates that are not open yet and have something booked behind them."""
        starts = {b.plan: b for b in self.context.store.bookings.all(state="waiting")}
        for standing in gates.every(self.context):
            opens = standing.opens
            if opens is not None and opens <= self.now:
                continue
            before = [starts[m.plan] for m in standing.gate.before if m.plan in starts]
            after = [starts[m.plan] for m in standing.gate.after if m.plan in starts]
            ends = [b.starts_at + timedelta(minutes=b.minutes) for b in after]
            ends += [run.ended_at for run in (*standing.well, *standing.badly) if run.ended_at]
            if not before or not ends:
                continue
            yield NightGate(
                rollout=standing.gate.rollout.id,
                label=label_of(self.context, standing.gate),
                start=max(ends),
                end=opens or max(ends) + standing.gate.quiet,
                waits=standing.wants_a_word,
                text="wants a word" if standing.wants_a_word else _gate_text(standing, after),
            )


def _gate_text(standing: gates.Standing, after: Sequence[Booking]) -> str:
    hours = standing.gate.quiet.total_seconds() / 3600
    waits = f"{counted(len(after), 'run')} as before, " if after else ""
    return f"{waits}{hours:g} h passed"


def _long(left: timedelta) -> str:
    """A length as "3 h 12 min"."""
    minutes = int(left.total_seconds() // 60)
    return f"{minutes // 60} h {minutes % 60} min" if minutes >= 60 else f"{minutes} min"
