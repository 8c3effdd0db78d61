"""What every operation is given: the store, the clock, the way out, and where things lie."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import httpx

from windbreak.core.work import Event, LedgerEntry
from windbreak.packages.shelf import Shelf
from windbreak.store.sealing import Sealer
from windbreak.store.store import Store

TIMEOUT = httpx.Timeout(10, read=60)


@dataclass
class Context:
    """One service's workshop. ``clock`` gives aware instants in UTC."""

    data: Path
    store: Store
    sealer: Sealer
    shelf: Shelf
    http: httpx.Client
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    soak: dict[str, int] = field(default_factory=dict)
    wrong_tries: dict[str, tuple[int, datetime]] = field(default_factory=dict)
    news: threading.Condition = field(default_factory=threading.Condition)

    def tell(self, kind: str, subject: str, text: str) -> None:
        """Note an event, and wake whoever waits for one. Writes."""
        self.store.events.add(Event(id=0, at=self.clock(), kind=kind, subject=subject, text=text))
        with self.news:
            self.news.notify_all()

    def record(self, who: str, what: str, subject: str, *, why: str = "", result: str = "") -> None:
        """Write a line of the ledger. Writes."""
        entry = LedgerEntry(
            id=0, at=self.clock(), who=who, what=what, subject=subject, why=why, result=result
        )
        self.store.ledger.add(entry)


def open_context(data: Path, *, soak: dict[str, int] | None = None) -> Context:
    """Open a data directory, making it where it is missing. Raises NewerDatabase."""
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    store = Store(data / "windbreak.db")
    return Context(
        data=data,
        store=store,
        sealer=Sealer(data / "seal.key"),
        shelf=Shelf(data / "shelf", store),
        http=httpx.Client(timeout=TIMEOUT, trust_env=False),
        soak=soak or {},
    )
