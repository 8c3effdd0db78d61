"""What every operation is given: the store, the clock, the way out, and where things lie."""

from __future__ import annotations

import secrets
import threading
from collections.abc import Callable, Hashable, Iterable
from concurrent.futures import Executor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import TypeVar, cast

import httpx

from windbreak.core.values.ledger import Event, LedgerEntry
from windbreak.core.values.runs import RunState
from windbreak.operations import executors
from windbreak.outside import way_out
from windbreak.packages.examine import look_into
from windbreak.packages.shelf import Shelf
from windbreak.store.sealing import Sealer
from windbreak.store.store import Store

T = TypeVar("T")
Noted = tuple[str, str, str]  # an event: its kind, subject and text


class Cache:
    """What was made of kept things, until they are others: one value for each name.

    Keys hold committed generations, so what is served is never older than what can be read.
    """

    def __init__(self) -> None:
        self._values: dict[str, tuple[Hashable, object]] = {}
        self._making: dict[str, threading.RLock] = {}
        self._guard = threading.Lock()

    def kept(self, name: str, key: Hashable, make: Callable[[T | None], T]) -> T:
        """The value of a name; made anew where its key is another, from the one before it."""
        value = self._values.get(name)
        if value is not None and value[0] == key:
            return cast(T, value[1])
        with self._guard:
            making = self._making.setdefault(name, threading.RLock())
        with making:
            value = self._values.get(name)
            if value is None or value[0] != key:
                before = cast("T | None", value[1]) if value is not None else None
                value = self._values[name] = (key, make(before))
            return cast(T, value[1])


@dataclass
class Context:
    """One service's workshop. ``clock`` gives aware instants in UTC.

    ``http`` asks sites, which may be anywhere but at this service's ``own_ports``; ``out`` asks
    makers and tells web hooks, and goes to private networks only where the settings allow them.
    ``per_host`` is how many feeds of one
    host are asked at once. ``executor`` is where heavy work is done; None: here.
    ``kept_days`` is how long snapshots of runs that ended well stay on the sites, ``prove_days``
    how old the proof of a backup may be (0: none is asked for), and
    ``patience_minutes`` how long a site may be silent in mid-run before a person is told;
    ``browser`` takes pictures of pages, none where it is empty.
    ``cache`` is this service's own: two services in one process know nothing of each other.
    """

    data: Path
    store: Store
    sealer: Sealer
    shelf: Shelf
    http: httpx.Client
    out: httpx.Client
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    allowed: tuple[way_out.Network, ...] = ()
    own_ports: set[int] = field(default_factory=set)
    soak: dict[str, int] = field(default_factory=dict)
    per_host: int = 2
    executor: Executor | None = None
    kept_days: int = 14
    prove_days: int = 30
    patience_minutes: int = 30
    browser: str = ""
    wrong_tries: dict[str, tuple[int, datetime]] = field(default_factory=dict)
    news: threading.Condition = field(default_factory=threading.Condition)
    cache: Cache = field(default_factory=Cache)
    name: str = field(default_factory=lambda: secrets.token_hex(8))  # of this one, for claims

    def tell(self, kind: str, subject: str, text: str) -> None:
        """Note an event, and wake whoever waits for one. Writes."""
        self.note(kind, subject, text)
        self.wake()

    def note(self, kind: str, subject: str, text: str) -> None:
        """Note an event within a transaction; whoever does wakes who waits, after it. Writes."""
        self.note_all([(kind, subject, text)])

    def note_all(self, events: Iterable[Noted]) -> None:
        """Note events at once. Writes."""
        at = self.clock()
        self.store.events.add_all(
            [Event(id=0, at=at, kind=kind, subject=of, text=text) for kind, of, text in events]
        )

    def wake(self) -> None:
        """Wake whoever waits for something to happen."""
        with self.news:
            self.news.notify_all()

    def record(
        self,
        who: str,
        what: str,
        subject: str,
        *,
        why: str = "",
        result: str = "",
        run: int | None = None,
        came: RunState | None = None,
    ) -> None:
        """Write a line of the ledger; ``came``: what the run that it tells of came to. Writes."""
        entry = LedgerEntry(
            id=0,
            at=self.clock(),
            who=who,
            what=what,
            subject=subject,
            why=why,
            result=result,
            run=run,
            came=came,
        )
        self.store.ledger.add(entry)


def open_context(
    data: Path,
    *,
    soak: dict[str, int] | None = None,
    private_networks: str = "",
    per_host: int = 2,
    executor: Executor | None = None,
    kept_days: int = 14,
    prove_days: int = 30,
    patience_minutes: int = 30,
    browser: str = "",
) -> Context:
    """Open a data directory, making it where it is missing.

    Raises NewerDatabase, and ValueError for ``private_networks`` that can't be read.
    """
    allowed = way_out.networks(private_networks)
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    store = Store(data / "windbreak.db")
    own_ports: set[int] = set()
    return Context(
        data=data,
        store=store,
        sealer=Sealer(data / "seal.key"),
        shelf=Shelf(data / "shelf", store, partial(executors.on_this_machine, executor, look_into)),
        http=way_out.client(way_out.only_sites(own_ports)),
        out=way_out.client(way_out.only_makers(allowed)),
        own_ports=own_ports,
        allowed=allowed,
        soak=soak or {},
        per_host=per_host,
        executor=executor,
        kept_days=kept_days,
        prove_days=prove_days,
        patience_minutes=patience_minutes,
        browser=browser,
    )


def close(context: Context) -> None:
    """Let go of what a context holds open."""
    context.store.close()
    context.http.close()
    context.out.close()
    if context.executor is not None:
        context.executor.shutdown(cancel_futures=True)


def aside(context: Context, read: Callable[..., T], *given: object) -> T:
    """What a long read comes to: a worker of this machine makes it of the same database, as of now;
    where there is none it is made here. ``read`` and what it is given can be sent. Reads.
    """
    if not isinstance(context.executor, executors.Workers):
        return read(context, *given)
    there = (context.data, context.soak, context.clock())
    made: T = executors.carried_out(context.executor.aside, _read_in_worker, *there, read, given)
    return made


_of_worker: dict[Path, Context] = {}  # a worker's own, with what it has made ready before


def _read_in_worker(
    data: Path,
    soak: dict[str, int],
    now: datetime,
    read: Callable[..., T],
    given: tuple[object, ...],
) -> T:
    context = _of_worker.get(data) or _of_worker.setdefault(data, open_context(data, soak=soak))
    context.clock = lambda: now
    with context.store.database.snapshot():
        return read(context, *given)
