"""A plan as a sheet."""

from __future__ import annotations

from datetime import datetime, timedelta

from windbreak.core.scheduling.openings import openings
from windbreak.core.values.bookings import Booking
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedStep
from windbreak.documents.sheets import PlanSheet, SheetErrand, SheetMove, SheetStep
from windbreak.operations.context import Context
from windbreak.operations.runs import own_files
from windbreak.operations.scheduling import estimates, gates
from windbreak.operations.views.sites import window_text


def sheet(context: Context, id_: int) -> PlanSheet:
    """A plan as a sheet, as it stands now. Reads. Raises NotFound."""
    plan = context.store.plans.get(id_)
    site = context.store.sites.get(plan.site)
    host = context.store.hosts.find(site.host) if site.host else None
    inventory = context.store.inventories.find(site.id)
    estimate = estimates.estimate(context, site, plan.plan.steps, plan.brings)
    bookings = context.store.bookings.all(plan=id_, state="waiting")
    booking = bookings[0] if bookings else None
    steps = list(zip(plan.plan.steps, estimate.steps, strict=True))
    products = context.store.products
    names = {
        move.product: (listed.name if (listed := products.find(move.product)) else move.product)
        for step in plan.plan.steps
        for move in step.moves
    }
    return PlanSheet(
        plan=plan.id,
        site=site.id,
        label=site.label,
        address=site.address,
        client=site.client,
        host=host.name if host else "",
        state=plan.state,
        reckoned_at=plan.made_at,
        approved_by=plan.approval.by if plan.approval else None,
        approved_at=plan.approval.at if plan.approval else None,
        why=plan.approval.why if plan.approval else "",
        zone=site.timezone,
        starts_at=booking.starts_at if booking else None,
        ends_at=booking.starts_at + timedelta(minutes=estimate.minutes) if booking else None,
        last_step_at=_last_step(site, booking),
        window=window_text(site),
        minutes=estimate.minutes,
        before_minutes=_minutes(estimate.before + estimate.snapshot),
        after_minutes=_minutes(estimate.after),
        back_minutes=estimate.back_minutes,
        page_minutes=sum(_minutes(s) for step, s in steps if len(step.moves) > 1),
        runs=estimate.runs,
        steps=tuple(_step(n, s, t, names) for n, (s, t) in enumerate(steps, start=1)),
        usual=plan.plan.usual,
        by_hand=tuple(own_files.seen_by_hand(context, plan.site, plan.plan.steps)),
        automatic_updates=inventory.automatic_updates if inventory else None,
        caches=tuple(
            listed.name if (listed := products.find(cache)) else cache
            for cache in (inventory.caches if inventory else ())
        ),
        own=tuple(names.get(product, product) for product in site.own),
        errands=tuple(
            SheetErrand(text=b.text, due_days=b.due_days, blocking=b.blocking)
            for b in plan.brings
            if b.by == "person"
        ),
        gate=gates.shut(context, booking) if booking else "",
        looks=len(site.pages) + 1 + (len(inventory.members) if inventory else 0),
    )


def _minutes(seconds: float) -> int:
    return max(1, round(seconds / 60))


def _step(number: int, step: PlannedStep, seconds: float, names: dict[str, str]) -> SheetStep:
    return SheetStep(
        number=number,
        moves=tuple(
            SheetMove(product=m.product, name=names[m.product], start=m.from_, end=m.to)
            for m in step.moves
        ),
        why=step.why,
        minutes=_minutes(seconds),
        waypoint=step.waypoint,
        tied=step.tied,
    )


def _last_step(site: Site, booking: Booking | None) -> datetime | None:
    """After when no step is begun, so that there is time to go back in the window."""
    if booking is None:
        return None
    start = booking.starts_at
    spans = openings(site.windows, site.timezone, start, start + timedelta(minutes=1))
    closes = [end for begin, end in spans if begin <= start < end]
    return closes[0] - timedelta(minutes=booking.back) if closes else None
