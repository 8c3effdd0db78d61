"""Where heavy work is done: timetables, many sites, archives. In processes of this machine, on a
cluster, or (where neither is set up) in the thread that asks.

While a thread of the service works at such a thing, every request waits for its turns; a process of
its own keeps nobody waiting. A process that dies is started again, and what it had in hand is done
once more.
"""

from __future__ import annotations

import logging
import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import CancelledError, Executor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import connection
from typing import Any, TypeVar

from windbreak.operations.errors import Refused

T = TypeVar("T")
log = logging.getLogger("windbreak.workers")

_TRIES = 2  # of a task whose worker dies
_MEND_EVERY = 5.0  # seconds between two looks whether workers are there
_NICE = 5  # how far a worker stands back behind what answers requests


def executor(workers: int, cluster: str = "") -> Executor | None:
    """So many processes, or the Dask cluster at an address; None for neither.

    Raises Refused where the cluster can't be reached or ``windbreak[cluster]`` is not installed.
    """
    if cluster:
        return _cluster(cluster)
    return Workers(workers) if workers else None


def carried_out(executor: Executor | None, work: Callable[..., T], *given: Any) -> T:
    """What some heavy work comes to, wherever it is done. Raises what the work raises."""
    if executor is None:
        return work(*given)
    return executor.submit(work, *given).result()


def on_this_machine(executor: Executor | None, work: Callable[..., T], *given: Any) -> T:
    """The same for what is too large to be sent to a cluster: it is done here instead."""
    return carried_out(executor if isinstance(executor, Workers) else None, work, *given)


class Workers(Executor):
    """Processes of this machine, started at once. One that dies is started again, with what it had
    in hand; a task at which workers die twice fails with BrokenProcessPool.
    """

    def __init__(self, count: int) -> None:
        self.count = count
        self._guard = threading.Lock()
        self._ended = False
        self._mended = -_MEND_EVERY
        self._aside: Workers | None = None
        self._pool = self._started()

    @property
    def aside(self) -> Workers:
        """One more process, for long reads of the whole fleet: what a person waits for does not
        stand in line behind them. Started when it is first needed.
        """
        with self._guard:
            if self._ended:
                raise RuntimeError("no more work is taken: the service ends")
            if self._aside is None:
                self._aside = Workers(1)
            return self._aside

    def _started(self) -> ProcessPoolExecutor:
        # Spawned, not forked: the service has threads, and a fork of them would hang.
        pool = ProcessPoolExecutor(
            self.count, mp_context=multiprocessing.get_context("spawn"), initializer=_begin
        )
        for _ in range(self.count):
            pool.submit(os.getpid)
        return pool

    def submit(self, fn: Callable[..., T], /, *args: Any, **kwargs: Any) -> Future[T]:
        promised: Future[T] = Future()
        self._give(promised, lambda pool: pool.submit(fn, *args, **kwargs), _TRIES)
        return promised

    def _give(
        self,
        promised: Future[T],
        give: Callable[[ProcessPoolExecutor], Future[T]],
        tries: int,
    ) -> None:
        pool = self._pool
        try:
            task = give(pool)
        except BrokenProcessPool as error:
            again = self._instead_of(pool)
            if again is pool or tries == 0:
                promised.set_exception(error)
            else:
                self._give(promised, give, tries - 1)
            return
        except RuntimeError as error:  # it ends
            promised.set_exception(error)
            return

        def done(task: Future[T]) -> None:
            if task.cancelled():
                promised.set_exception(CancelledError())  # who waits for it hears so
                return
            error = task.exception()
            if isinstance(error, BrokenProcessPool) and tries > 1 and not self._ended:
                self._instead_of(pool)
                self._give(promised, give, tries - 1)
            elif error is not None:
                promised.set_exception(error)
            else:
                promised.set_result(task.result())

        task.add_done_callback(done)

    def _instead_of(self, broken: ProcessPoolExecutor) -> ProcessPoolExecutor:
        """Other processes in the place of some of which one died."""
        with self._guard:
            if self._pool is broken and not self._ended:
                log.warning("a worker died; it is started again, and its work is done once more")
                broken.shutdown(wait=False)
                self._pool = self._started()
            return self._pool

    def mend(self) -> None:
        """Start again what died while there was nothing to do, now and then."""
        pool, now = self._pool, time.monotonic()
        if now < self._mended + _MEND_EVERY:
            return
        self._mended = now
        try:
            pool.submit(os.getpid)
        except BrokenProcessPool:
            self._instead_of(pool)
        if self._aside is not None:
            self._aside.mend()

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        with self._guard:
            self._ended = True
        for pool in (self._pool, self._aside):
            if pool is not None:
                pool.shutdown(wait=wait, cancel_futures=cancel_futures)


def _begin() -> None:
    """What a worker does first: stand back behind the service, leave Ctrl-C to it, end with it."""
    os.nice(_NICE)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    parent = multiprocessing.parent_process()
    assert parent is not None  # a worker is never the first process

    def follow() -> None:
        connection.wait([parent.sentinel])
        os._exit(0)

    threading.Thread(target=follow, name="follow", daemon=True).start()


def _cluster(address: str) -> Executor:
    try:
        from distributed import Client
    except ImportError:
        raise Refused(
            "no-cluster", "the setting cluster needs more: pip install 'windbreak[cluster]'"
        ) from None
    try:
        client = Client(address, timeout="10s", set_as_default=False)
    except (OSError, ValueError) as error:
        raise Refused("no-cluster", f"the cluster at {address} can't be reached: {error}") from None
    return _OnCluster(client)


class _OnCluster(Executor):
    """A cluster's client as an executor; it is closed with it."""

    def __init__(self, client: Any) -> None:
        self._client = client
        self._inner = client.get_executor(pure=True)

    def submit(self, fn: Callable[..., T], /, *args: Any, **kwargs: Any) -> Future[T]:
        future: Future[T] = self._inner.submit(fn, *args, **kwargs)
        return future

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self._inner.shutdown(wait=wait)
        self._client.close()
