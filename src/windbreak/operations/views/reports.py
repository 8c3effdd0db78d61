"""What a client is told of a month, from the record: what was done, what comes, what is left."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, date, datetime, timedelta
from difflib import get_close_matches
from zoneinfo import ZoneInfo

from windbreak.core.values import journal as acts
from windbreak.core.values.journal import ActKind, JournalEntry
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedMove, PlannedStep
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import jump, parse_version
from windbreak.documents.ledger import ClientReport, ReportLine, SiteReport
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.runs.course import course
from windbreak.operations.sites import clients
from windbreak.operations.views.runs import lost_in
from windbreak.wording import reports
from windbreak.wording.words import day, listed


def report(context: Context, client: str, month: str, *, looks: bool = False) -> ClientReport:
    """A client's month. Reads. Raises Refused for a client that has no site, and for a month that
    is none, or has not begun.
    """
    served = clients.names(context)
    if client not in served:
        of_site = [s.client for s in context.store.sites.named(client) if s.client]
        near = of_site or get_close_matches(client, served, 3, 0.4)
        hint = f"; it may be {listed([repr(name) for name in near])}" if near else ""
        raise Refused("no-client", f"no site is of a client {client!r}{hint}")
    first, last = _month(context, month)
    sites = [
        site
        for site in context.store.sites.all()
        if site.client == client and site.environment == "production"
    ]
    others = _others(context, client)
    of_sites = tuple(_of_site(context, site, first, last, others, looks=looks) for site in sites)
    return ClientReport(
        client=client,
        month=month,
        first=first,
        last=last,
        sites=of_sites,
        text=reports.markdown(
            client,
            first,
            last,
            (
                (
                    part.label,
                    part.head,
                    ((line.day, line.text) for line in (*part.done, *part.seen)),
                    (
                        (title, list(texts))
                        for title, texts in (
                            ("Still to come", part.to_come),
                            ("Left alone on purpose", part.left),
                            ("Asked of you", part.asked),
                        )
                        if texts
                    ),
                )
                for part in of_sites
            ),
        ),
    )


def _month(context: Context, text: str) -> tuple[date, date]:
    """The first day of a month, and its last, or today where it is not over."""
    try:
        first = datetime.strptime(f"{text}-01", "%Y-%m-%d").replace(tzinfo=UTC).date()
    except ValueError:
        raise Refused("no-month", f"{text!r} is no month; write it as 2026-11") from None
    today = context.clock().date()
    if first > today:
        raise Refused("no-month", f"{text} has not begun; the record ends today, {day(today)}")
    following = (first + timedelta(days=32)).replace(day=1)
    return first, min(following - timedelta(days=1), today)


def _others(context: Context, client: str) -> tuple[str, ...]:
    """What names somebody else: the other clients, the labels of their sites, and accounts."""
    notes = context.store.sites.notes().values()
    named = {note.client for note in notes} | {note.label for note in notes}
    own = {client} | {note.label for note in notes if note.client == client}
    people = {account.name for account in context.store.accounts.all()}
    return tuple(sorted(name.lower() for name in (named | people) - own if name))


def _without_others(text: str, others: Iterable[str]) -> str:
    """A text of staff, where it names nobody else; else nothing."""
    low = text.lower()
    return "" if any(name in low for name in others) else text


def _of_site(
    context: Context,
    site: Site,
    first: date,
    last: date,
    others: Sequence[str],
    *,
    looks: bool,
) -> SiteReport:
    zone = ZoneInfo(site.timezone)
    updates = back = restored = alarms = lost = 0
    notice = 0.0
    by_day: dict[date, list[reports.Moved]] = {}
    seen: list[ReportLine] = []
    nights: set[date] = set()
    for run in context.store.runs.all(site=site.id):
        if run.ended_at is None:
            continue
        when = run.ended_at.astimezone(zone).date()
        if not first <= when <= last:
            continue
        journal = context.store.journal.all(run=run.id)
        for number, step in _done(context, run, journal):
            moves = [_moved(context, move) for move in step.moves]
            by_day.setdefault(when, []).extend(moves)
            updates += len(moves)
            nights.add(run.started_at.astimezone(zone).date())
            if looks:
                names = ", ".join(m.title if m.end else m.name for m in moves)
                text = _seen(journal, number)
                seen += [ReportLine(day=when, text=f"{names}: {text}")] if text else []
        back += run.state == "put back"
        alarms += run.state == "alarm"
        restored += _restored(run, journal)
        lost += len(lost_in(journal))
        notice += sum(_behind_the_page(context, run, journal))
    return SiteReport(
        site=site.id,
        label=site.label,
        head=reports.head(
            updates,
            len(nights),
            back=back,
            restored=restored,
            alarms=alarms,
            lost=lost,
            notice_seconds=notice,
        ),
        done=tuple(
            ReportLine(day=when, text=text)
            for when in sorted(by_day)
            for text in reports.done(by_day[when])
        ),
        seen=tuple(seen),
        to_come=tuple(_to_come(context, site, zone)),
        left=tuple(_left(context, site, others)),
        asked=tuple(note.text for note in site.notes if note.audience == "client"),
    )


def _done(
    context: Context, run: Run, journal: Sequence[JournalEntry]
) -> Iterator[tuple[int, PlannedStep]]:
    """The steps of a run that were done and stayed so, each with its number. Where its journal is
    forgotten, those before the one at which it ended.
    """
    plan = context.store.plans.find(run.plan)
    if plan is None:
        return
    written = {(entry.act, entry.state) for entry in journal}
    if _restored(run, journal):
        return
    for number, step in enumerate(course(plan, journal).steps, start=1):
        act = acts.step(number)
        kept = (act, "done") in written if journal else run.state == "done" or number < run.step
        if kept and (act, "put back") not in written:
            yield number, step


def _seen(journal: Sequence[JournalEntry], number: int) -> str:
    """What was seen after a step; empty where it did not come to its end."""
    ends = [e for e in journal if (e.act, e.state) == (acts.step(number), "done")]
    return ends[0].text if ends else ""


def _restored(run: Run, journal: Sequence[JournalEntry]) -> bool:
    """Whether a run's snapshot was brought back, by itself or by a person's word."""
    back = any((e.kind, e.state) == (ActKind.RESTORE, "done") for e in journal)
    return run.state == "restored" or back


def _behind_the_page(
    context: Context, run: Run, journal: Sequence[JournalEntry]
) -> Iterator[float]:
    """How long the pages were behind a notice, each time, in seconds."""
    up: datetime | None = None
    for entry in journal:
        if entry.state != "done":
            continue
        if entry.kind == ActKind.PAGE_UP:
            up = up or entry.at
        elif up is not None and entry.kind == ActKind.PAGE_DOWN:
            yield (entry.at - up).total_seconds()
            up = None
    if up is not None and run.ended_at is not None:
        page = [d for d in context.store.debts.all(site=run.site) if d.key == ("page", "")]
        down = [d.paid_at or context.clock() for d in page if d.run == run.id]
        yield (max([run.ended_at, *down]) - up).total_seconds()


def _moved(context: Context, move: PlannedMove) -> reports.Moved:
    product = context.store.products.find(move.product)
    name = product.name if product else move.product
    if move.from_ is None or move.to is None:
        return reports.Moved(name, move.from_, move.to)
    start, end = parse_version(move.from_), parse_version(move.to)
    closes = tuple(
        advisory.summary
        for advisory in context.store.advisories.all(product=move.product)
        if not advisory.withdrawn
        and start in (affected := parse_range(advisory.affected))
        and end not in affected
    )
    far = jump(start, end, product.major_place if product else 1)
    return reports.Moved(name, move.from_, move.to, far == "major", closes)


def _to_come(context: Context, site: Site, zone: ZoneInfo) -> Iterator[str]:
    for booking in context.store.bookings.all(site=site.id, state="waiting"):
        plan = context.store.plans.find(booking.plan)
        if plan is None or not plan.targets:
            continue
        at = booking.starts_at.astimezone(zone)
        names = []
        for product_id, version in plan.targets.items():
            product = context.store.products.find(product_id)
            names.append(f"{product.name if product else product_id} {version}")
        twin = any(other.twin_of == site.id for other in context.store.sites.live())
        on_copy = twin and booking.rollout is not None
        yield reports.coming(f"{day(at.date())}, {at:%H:%M}", names, booking.minutes, on_copy)


def _left(context: Context, site: Site, others: Sequence[str]) -> Iterator[str]:
    inventory = context.store.inventories.find(site.id)
    today = context.clock().date()
    for hold in context.store.holds.all():
        version = inventory.version_of(hold.product) if inventory else None
        if hold.site not in (None, site.id) or version is None:
            continue
        if hold.until is not None and hold.until < today:
            continue
        product = context.store.products.find(hold.product)
        name = product.name if product else hold.product
        yield reports.left(name, version, _without_others(hold.reason, others))
