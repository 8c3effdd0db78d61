"""The ledger as it is read: narrowed, each line with the name of what it is about."""

from __future__ import annotations

from collections.abc import Sequence
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
        theirs = context.store.sites.ids_of_client(client)
        subjects = theirs if subjects is None else subjects & theirs
    names = _every_name(context) if words else {}
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
    entries = context.store.ledger.asked(wanted, after=after, limit=limit)
    names = _names(context, sorted({entry.subject for entry in entries}))
    return [_line(entry, *names.get(entry.subject, (entry.subject, "other"))) for entry in entries]


def _line(entry: LedgerEntry, label: str, about: LedgerAbout) -> LedgerLine:
    return LedgerLine.model_construct(**entry.__dict__, label=label, about=about)


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


_Names = dict[str, tuple[str, LedgerAbout]]


def _names(context: Context, subjects: Sequence[str]) -> _Names:
    """What some lines are about, by id: its name and its kind. Reads."""
    store = context.store
    names: _Names = {}
    names |= {feed.id: (feed.label, "feed") for feed in store.feeds.all(id=subjects)}
    names |= {x.id: (x.label, "licence") for x in store.licences.all(id=subjects)}
    names |= {x.id: (x.name, "product") for x in store.products.all(id=subjects)}
    names |= {id: (label, "site") for id, label in store.sites.labels(subjects).items()}
    return names


def _every_name(context: Context) -> _Names:
    """The same of all that lines may be about. Reads."""
    store = context.store
    subjects = [feed.id for feed in store.feeds.all()] + [x.id for x in store.licences.all()]
    subjects += [product.id for product in store.products.all()] + list(store.sites.notes())
    return _names(context, subjects)
