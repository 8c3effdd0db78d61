"""What every operation is given: the store, the clock, the way out, and where things lie."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import httpx

from windbreak.core.values.ledger import Event, LedgerEntry
from windbreak.feeds import way_out
from windbreak.packages.shelf import Shelf
from windbreak.store.sealing import Sealer
from windbreak.store.store import Store

# Events that change one site's row, and those that may change every site's. Whoever tells of
# releases and holds says himself which sites they can touch (see reasoning.touch).
_OF_A_SITE = ("site", "plan", "booking", "licence", "rollout")
_OF_ALL = ("product", "host", "day", "policy")
TIMEOUT = httpx.Timeout(10, read=60)


@dataclass
class Context:
    """One service's workshop. ``clock`` gives aware instants in UTC.

    ``http`` asks sites, which may be anywhere; ``out`` asks makers and tells web hooks, and goes
    to private networks only where the settings allow them. ``per_host`` is how many feeds of one
    host are asked at once. ``executor`` is where many sites are reasoned about; None: here.
    """

    data: Path
    store: Store
    sealer: Sealer
    shelf: Shelf
    http: httpx.Client
    out: httpx.Client
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    allowed: tuple[way_out.Network, ...] = ()
    soak: dict[str, int] = field(default_factory=dict)
    per_host: int = 2
    executor: Executor | None = None
    wrong_tries: dict[str, tuple[int, datetime]] = field(default_factory=dict)
    news: threading.Condition = field(default_factory=threading.Condition)

    def tell(self, kind: str, subject: str, text: str) -> None:
        """Note an event, and wake whoever waits for one. Writes."""
        with self.store.transaction():
            event = Event(id=0, at=self.clock(), kind=kind, subject=subject, text=text)
            self.store.events.add(event)
            self._touch(kind, subject)
        with self.news:
            self.news.notify_all()

    def _touch(self, kind: str, subject: str) -> None:
        """Mark the rows of the sites that an event can change. Writes."""
        if kind in _OF_A_SITE:
            self.store.rows.touch(subject)
        elif kind == "run" and subject.isdigit():
            run = self.store.runs.find(int(subject))
            self.store.rows.touch(run.site if run else None)
        elif kind in _OF_ALL:
            self.store.rows.touch()

    def record(self, who: str, what: str, subject: str, *, why: str = "", result: str = "") -> None:
        """Write a line of the ledger. Writes."""
        entry = LedgerEntry(
            id=0, at=self.clock(), who=who, what=what, subject=subject, why=why, result=result
        )
        self.store.ledger.add(entry)


def open_context(
    data: Path,
    *,
    soak: dict[str, int] | None = None,
    private_networks: str = "",
    per_host: int = 2,
    executor: Executor | None = None,
) -> Context:
    """Open a data directory, making it where it is missing.

    Raises NewerDatabase, and ValueError for ``private_networks`` that can't be read.
    """
    allowed = way_out.networks(private_networks)
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    store = Store(data / "windbreak.db")
    return Context(
        data=data,
        store=store,
        sealer=Sealer(data / "seal.key"),
        shelf=Shelf(data / "shelf", store),
        http=httpx.Client(timeout=TIMEOUT, trust_env=False),
        out=way_out.client(allowed),
        allowed=allowed,
        soak=soak or {},
        per_host=per_host,
        executor=executor,
    )


def close(context: Context) -> None:
    """Let go of what a context holds open."""
    context.store.close()
    context.http.close()
    context.out.close()
    if context.executor is not None:
        context.executor.shutdown(cancel_futures=True)
