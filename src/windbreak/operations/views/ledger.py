"""The ledger as it is read: narrowed, each line with the name of what it is about."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.ledger import LedgerAsked, LedgerEntry, LedgerPart
from windbreak.documents.ledger import LedgerAbout, LedgerLine, LedgerSummary
from windbreak.operations.context import Context
from windbreak.operations.sites import clients


def asked(
    context: Context,
    *,
    subject: str | None = None,
    client: str | None = None,
    who: str | None = None,
    part: LedgerPart | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    words: str = "",
    wrong: bool = False,
) -> LedgerAsked:
    """What is wanted, with names made into subjects. Reads."""
    subjects: set[str] | None = {subject} if subject else None
    if client is not None:
        theirs = {note.id for note in context.store.sites.notes().values() if note.client == client}
        subjects = theirs if subjects is None else subjects & theirs
    names = _names(context) if words else {}
    return LedgerAsked(
        subjects=None if subjects is None else tuple(sorted(subjects)),
        who=who,
        part=part,
        since=since,
        until=until,
        words=tuple(
            (word, tuple(sorted(id for id, (name, _) in names.items() if word in name.lower())))
            for word in words.lower().split()
        ),
        wrong=wrong,
    )


def lines(
    context: Context, wanted: LedgerAsked, *, after: int | None = None, limit: int = 100
) -> list[LedgerLine]:
    """So many of the lines that are wanted, newest first. Reads."""
    names = _names(context)
    entries = context.store.ledger.asked(wanted, after=after, limit=limit)
    return [_line(entry, *names.get(entry.subject, (entry.subject, "other"))) for entry in entries]


def _line(entry: LedgerEntry, label: str, about: LedgerAbout) -> LedgerLine:
    return LedgerLine(**dict(entry), label=label, about=about)


def summary(context: Context, wanted: LedgerAsked) -> LedgerSummary:
    """How much of it is wanted, and what it can be narrowed by. Reads."""
    ledger = context.store.ledger
    first = ledger.all(limit=1)
    return LedgerSummary(
        lines=ledger.count(),
        wanted=ledger.how_many(wanted),
        wrong=ledger.how_many(wanted.model_copy(update={"wrong": True})),
        people=tuple(ledger.people()),
        clients=tuple(clients.names(context)),
        since=first[0].at if first else None,
    )


def _names(context: Context) -> dict[str, tuple[str, LedgerAbout]]:
    """What lines may be about, by id: its name and its kind."""
    store = context.store
    names: dict[str, tuple[str, LedgerAbout]] = {}
    names |= {feed.id: (feed.label, "feed") for feed in store.feeds.all()}
    names |= {licence.id: (licence.label, "licence") for licence in store.licences.all()}
    names |= {product.id: (product.name, "product") for product in store.products.all()}
    names |= {id: (note.label, "site") for id, note in store.sites.notes().items()}
    return names
