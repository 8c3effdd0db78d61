"""The live night book, and bookings by its timetable.

The book holds every site, what is booked, and the approved plans that are to be. What a person gave
a time for is pinned; what was booked before stays where it was, and only what must move moves.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from windbreak.core.scheduling.openings import GRID, on_grid
from windbreak.core.scheduling.timetable import timetable
from windbreak.core.values.bookings import Booking
from windbreak.core.values.nightbooks import (
    BookHost,
    BookSite,
    BookWindow,
    Freeze,
    HoursWindow,
    Job,
    NightBook,
    RuleWindow,
)
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.runs import lengths
from windbreak.operations.scheduling import freezes
from windbreak.wording.timetables import timetable_document

HORIZON = timedelta(days=28)
BACK = int(lengths.BACK.total_seconds() // 60)  # minutes


@dataclass(frozen=True)
class Arranged:
    """What a timetable says of one plan: its start and why then, or why it is left out."""

    start: datetime | None
    text: str


def minutes_of(plan: SitePlan) -> int:
    """How long a plan will take, without the way back."""
    return int(lengths.STEP.total_seconds() // 60) * len(plan.plan.steps)


def night_book(
    context: Context,
    new: Mapping[int, datetime | None] | None = None,
    but: Collection[int] = (),
) -> NightBook:
    """The book of the next four weeks: with plans that are to be booked, each with the instant
    before which it may not begin; ``but`` some bookings. Reads.
    """
    at = on_grid(context.clock().replace(second=0, microsecond=0))
    waiting = [b for b in context.store.bookings.all(state="waiting") if b.id not in but]
    plans = {b.plan: context.store.plans.get(b.plan) for b in waiting}
    jobs = [_booked(plans[b.plan], b) for b in waiting if b.starts_at >= at]
    by_hand = {b.site: b for b in waiting if b.pinned}
    for plan, earliest in (new or {}).items():
        known = context.store.plans.get(plan)
        jobs.append(_job(known).model_copy(update={"earliest": earliest}))
    return NightBook(
        format="windbreak-nightbook/1",
        at=at,
        horizon=at + HORIZON,
        hosts=tuple(BookHost(id=h.id, at_once=h.at_once) for h in context.store.hosts.all()),
        sites=tuple(
            _site(context, site, by_hand.get(site.id), plans) for site in context.store.sites.live()
        ),
        jobs=tuple(jobs),
    )


def arranged(
    context: Context, new: Mapping[int, datetime | None], but: Collection[int] = ()
) -> dict[int, Arranged]:
    """What a timetable says of some approved plans, what is booked staying as it is, ``but`` some
    bookings. Reads.
    """
    book = night_book(context, new, but)
    stays = tuple(j.model_copy(update={"pinned": j.was is not None}) for j in book.jobs)
    document = timetable_document(
        timetable(book.model_copy(update={"jobs": stays})), "", names(context, book)
    )
    told = {}
    for booking in document["bookings"]:
        start = datetime.fromisoformat(booking["start"])
        told[booking["job"]] = Arranged(start, booking["text"])
    for left in document["left_out"]:
        told[left["job"]] = Arranged(None, left["text"])
    return {plan: told[job_id(plan)] for plan in new}


def names(context: Context, book: NightBook) -> dict[str, str]:
    """What hosts and jobs of the live book are called: a job by its site."""
    labels = {site.id: site.label for site in context.store.sites.live()}
    hosts = {host.id: host.name for host in context.store.hosts.all()}
    return {**hosts, **{job.id: labels[job.site] for job in book.jobs}}


def job_id(plan: int) -> str:
    return f"plan-{plan}"


def _job(plan: SitePlan) -> Job:
    return Job(id=job_id(plan.id), site=plan.site, minutes=max(1, minutes_of(plan)), back=BACK)


def _booked(plan: SitePlan, booking: Booking) -> Job:
    on_its_grid = on_grid(booking.starts_at) == booking.starts_at
    pinned = booking.pinned and on_its_grid
    return _job(plan).model_copy(update={"was": booking.starts_at, "pinned": pinned})


def _site(
    context: Context, site: Site, by_hand: Booking | None, plans: Mapping[int, SitePlan]
) -> BookSite:
    windows: list[BookWindow] = [
        HoursWindow(days=w.days, start=w.start, end=w.end) for w in site.windows
    ]
    if by_hand is not None:
        # A time that a person gave opens the site, whatever its windows say.
        local = by_hand.starts_at.astimezone(ZoneInfo(site.timezone))
        needed = minutes_of(plans[by_hand.plan]) + BACK
        windows.append(
            RuleWindow(
                rrule="FREQ=DAILY;COUNT=1",
                from_=local.date(),
                start=f"{local:%H:%M}",
                minutes=needed + int(GRID.total_seconds() // 60),
            )
        )
    return BookSite(
        id=site.id,
        host=site.host,
        zone=site.timezone,
        windows=tuple(windows),
        freezes=tuple(
            Freeze(from_=freeze.from_, to=freeze.to, reason=freeze.reason)
            for freeze in freezes.of_site(context, site)
        ),
    )
