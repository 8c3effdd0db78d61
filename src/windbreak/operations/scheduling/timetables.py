"""The kept timetable: made anew when something changes, and only what must move moves.

What is booked, and what is approved and to be booked, gets its place by one timetable. A booking
dies with its plan, and says so; what has no place is left out, with why not and what would help,
and gets a place as soon as there is one.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from windbreak.core.scheduling.timetable import by_rules
from windbreak.core.values.bookings import Booking, Kept
from windbreak.core.values.plans import differing_products
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.executors import carried_out
from windbreak.operations.scheduling import approving, deadlines, nights
from windbreak.operations.scheduling.nights import LiveBook
from windbreak.store.plans import PlanStanding
from windbreak.wording.timetables import improved_document, instant, timetable_document
from windbreak.wording.words import first_up

# What a timetable hangs on: the kinds of change after which it is made anew.
HANGS_ON = (
    *("booking", "plan", "run", "rollout", "failed-move", "freeze", "watch"),
    *("night", "host", "fleet", "day", "hour"),
)
_TRIES = 3  # how often it is improved beside writers, before plain rules have to do
_PATIENCE = 20.0  # seconds in which a timetable is improved
BY_ITSELF = "Windbreak"

_Check = Callable[[LiveBook, dict[str, Any]], None]


def keep(
    context: Context,
    by: str = BY_ITSELF,
    cause: str = "",
    free: Iterable[int] = (),
    *,
    change: Callable[[], object] = lambda: None,
    check: _Check = lambda live, document: None,
) -> Kept:
    """Make the timetable again and book by it: what moved, what lost its place, what got one.

    ``cause`` stands in the ledger; ``free``: bookings that need not stay where they are.
    ``change`` writes what a person decided, and is written with the timetable or not at all; the
    timetable is made as if it were written, and ``check`` may refuse what comes of it. Writes, not
    within a transaction: while the timetable is improved, nobody is kept waiting.
    """
    let = tuple(free)
    for _ in range(_TRIES):
        generation = context.store.database.generation(*HANGS_ON)
        bury(context)
        reckon_anew(context)
        live = _as_if(context, change, let)
        document = carried_out(
            context.executor, improved_document, live.book, dict(live.names), _PATIENCE
        )
        with context.store.transaction():
            if context.store.database.generation(*HANGS_ON) == generation:
                check(live, document)
                change()
                return _write(context, live, document, by, cause)
    with context.store.transaction():  # somebody writes all the time: by plain rules, then
        change()
        live = nights.live_book(context, free=let)
        document = timetable_document(by_rules(live.book), "", live.names)
        check(live, document)
        return _write(context, live, document, by, cause)


def take(
    context: Context,
    times: Mapping[int, tuple[datetime, str]],
    by: str,
    cause: str,
    change: Callable[[], object],
) -> Kept:
    """Book plans at the times at which they were shown, with the reason that was shown: all that is
    booked stays. ``change`` is written with it. One whose time was taken meanwhile gets the first
    that is free, and says so. Writes.
    """
    with context.store.transaction():
        change()
        live = nights.live_book(context)
        starts = {nights.job_id(plan): when_and_why for plan, when_and_why in times.items()}
        document = timetable_document(by_rules(nights.staying(live.book, starts)), "", live.names)
        for row in document["bookings"]:
            start, why = starts.get(row["job"], (None, ""))
            if start == datetime.fromisoformat(row["start"]):
                row["text"] = why
        return _write(context, live, document, by, cause)


class _Undone(Exception):
    """What was only tried is undone."""


def _as_if(context: Context, change: Callable[[], object], let: tuple[int, ...]) -> LiveBook:
    """The live book as it would be after a change. Writes nothing: the change is undone."""
    try:
        with context.store.transaction():
            change()
            live = nights.live_book(context, free=let)
            raise _Undone
    except _Undone:
        return live


def bury(context: Context) -> None:
    """Withdraw bookings whose plan is approved no more, and plan anew what can't start as it was
    planned. Writes.
    """
    waiting = context.store.bookings.all(state="waiting")
    plans = context.store.plans.standing(b.plan for b in waiting)
    changes = _changes(context, plans)
    busy = {run.site for run in context.store.runs.all(state=("running", "waiting"))}
    for booking in waiting:
        state = plans[booking.plan].state
        if state != "approved":
            _withdraw(context, booking, f"its plan is {state}")
            continue
        changed = changes(booking.plan) if booking.site not in busy else ()
        if changed:
            anew = approving.plan_anew(context, booking.plan, changed)
            if anew is None:
                why = f"the site changed since it was planned: {', '.join(changed)}"
                _withdraw(context, booking, f"{why}. Approve it anew")
            else:
                context.store.bookings.change(booking.id, plan=anew.id)


def reckon_anew(context: Context) -> None:
    """Reckon what is booked anew once more runs have told how long they take. Writes."""
    newest = context.store.took.all(newest_first=True, limit=1)
    number = newest[0].id if newest else 0
    seen: dict[str, int] = context.cache.kept("reckoned", "", lambda _: {})
    if seen.get("took") == number:
        return
    sight = deadlines.Sight(context)
    for booking in context.store.bookings.all(state="waiting"):
        plan = context.store.plans.get(booking.plan)
        site = context.store.sites.get(booking.site)
        fields = vars(nights.reckon(context, site, plan.plan.steps, plan.brings, sight))
        if any(getattr(booking, name) != value for name, value in fields.items()):
            context.store.bookings.change(booking.id, **fields)
    seen["took"] = number


def _changes(context: Context, plans: Mapping[int, PlanStanding]) -> Callable[[int], Sequence[str]]:
    """Which products of a plan's site are no longer where it starts from; looked at again only
    when the site's inventory is another.
    """
    seen: dict[tuple[int, str], Sequence[str]] = context.cache.kept("starts", "", lambda _: {})
    signatures = context.store.inventories.signatures(sorted({p.site for p in plans.values()}))

    def changed(plan: int) -> Sequence[str]:
        standing = plans[plan]
        key = plan, signatures.get(standing.site, "")
        if key not in seen:
            inventory = context.store.inventories.get(standing.site)
            seen[key] = differing_products(standing.start, inventory)
        return seen[key]

    return changed


def _withdraw(context: Context, booking: Booking, why: str) -> None:
    with context.store.transaction():
        context.store.bookings.change(booking.id, state="withdrawn", why=why)
        what = f"booking {booking.id} withdrawn"
        context.record(BY_ITSELF, what, booking.site, why=why)
    context.tell("booking", booking.site, f"withdrawn: {why}")


def _write(context: Context, live: LiveBook, document: dict[str, Any], by: str, cause: str) -> Kept:
    """Book as a timetable says. Writes, within a transaction."""
    moved, out, placed = [], [], []
    left = {row["job"]: row for row in document["left_out"]}
    for row in document["bookings"]:
        start, id_ = datetime.fromisoformat(row["start"]), row["job"]
        booking = live.booked.get(id_)
        if booking is None:
            placed.append(_place(context, live, id_, start, row["text"], by, cause))
        elif booking.starts_at != start:
            moved.append(_move(context, booking, start, row["text"], by, cause))
    for id_, booking in live.booked.items():
        if id_ in left:
            out.append(_lose(context, booking, left[id_]["text"], by, cause))
    for booking in context.store.bookings.all(state="waiting"):
        if booking.plan in live.waits:
            out.append(_lose(context, booking, live.waits[booking.plan], by, cause))
    context.store.views.put_timetable(json.dumps(_kept(context, live, document)))
    return Kept(moved=tuple(moved), out=tuple(out), placed=tuple(placed))


def _kept(context: Context, live: LiveBook, document: dict[str, Any]) -> dict[str, Any]:
    """What is kept of a timetable for its readers."""
    sites = {job.id: job.site for job in live.book.jobs}
    waits = context.store.plans.standing(live.waits)
    left = [
        {
            "plan": live.plans.get(row["job"]) or live.booked[row["job"]].plan,
            "site": sites[row["job"]],
            "text": row["text"],
            "would_help": row["would_help"],
            "waits": False,
        }
        for row in document["left_out"]
    ]
    left += [
        {
            "plan": plan,
            "site": waits[plan].site,
            "text": f"{first_up(why)}.",
            "would_help": [],
            "waits": True,  # for a person, or for one that does
        }
        for plan, why in live.waits.items()
    ]
    return {
        "made_at": instant(context.clock()),
        "objective": document["objective"],
        "proven": document["proven"],
        "bound": document["bound"],
        "left_out": left,
    }


def _place(
    context: Context, live: LiveBook, id_: str, start: datetime, text: str, by: str, cause: str
) -> str:
    plan = context.store.plans.get(live.plans[id_])
    reckoned = live.reckoned[id_]
    by = by if by != BY_ITSELF or plan.approval is None else plan.approval.by
    booking = write(
        context,
        Booking(
            id=0,
            plan=plan.id,
            site=plan.site,
            starts_at=start,
            why=text,
            rollout=plan.rollout,
            made_by=by,
            **vars(reckoned),
        ),
        by,
        cause,
    )
    return f"{_label(context, booking)}: {when(context, booking)}"


def write(context: Context, booking: Booking, by: str, cause: str = "") -> Booking:
    """Keep a new booking, and write it into the ledger. Writes."""
    site = context.store.sites.get(booking.site)
    with context.store.transaction():
        kept = context.store.bookings.add(booking)
        what = f"plan {kept.plan} for {site.label} booked"
        why = f"{cause}. {kept.why}" if cause else kept.why
        context.record(by, what, kept.site, why=why, result=when(context, kept))
    context.tell("booking", kept.site, what)
    return kept


def _move(
    context: Context, booking: Booking, start: datetime, text: str, by: str, cause: str
) -> str:
    was = when(context, booking)
    why = f"{text} It was {was}{f', {cause}' if cause else ''}."
    changed = context.store.bookings.change(
        booking.id, starts_at=start, why=why, pinned=False, **vars_of(booking)
    )
    what = f"booking {booking.id} moved"
    context.record(by, what, booking.site, why=why, result=when(context, changed))
    context.tell("booking", booking.site, what)
    return f"{_label(context, booking)}: {was} to {when(context, changed)}"


def vars_of(booking: Booking) -> dict[str, Any]:
    """How long a booking is reckoned to take, as it stands in the book."""
    return {"minutes": booking.minutes, "back": booking.back}


def _lose(context: Context, booking: Booking, text: str, by: str, cause: str) -> str:
    context.store.bookings.change(booking.id, state="withdrawn")
    if not context.store.plans.get(booking.plan).to_book:
        context.store.plans.change(booking.plan, to_book=True)  # it comes back where it finds room
    what = f"booking {booking.id} withdrawn"
    why = cause or "the timetable has no place for it"
    context.record(by, what, booking.site, why=why, result=text)
    context.tell("booking", booking.site, what)
    return f"{_label(context, booking)}: {text}"


def _label(context: Context, booking: Booking) -> str:
    return context.store.sites.get(booking.site).label


def when(context: Context, booking: Booking) -> str:
    """When a booking begins, in the zone of its site: "Tue 24 Nov, 01:10"."""
    site: Site = context.store.sites.get(booking.site)
    return f"{booking.starts_at.astimezone(ZoneInfo(site.timezone)):%a %d %b, %H:%M}"


def left_out(context: Context) -> list[dict[str, Any]]:
    """What the kept timetable leaves out, with why not and what would help. Reads."""
    body = context.store.views.timetable()
    return list(json.loads(body)["left_out"]) if body else []
