"""Where many sites are reasoned about: here, on processes of this machine, or on a cluster."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from typing import Any, TypeVar

from windbreak.operations.errors import Refused

T = TypeVar("T")


def executor(workers: int, cluster: str = "") -> Executor | None:
    """So many processes, or the Dask cluster at an address; None for neither.

    Raises Refused where the cluster can't be reached or ``windbreak[cluster]`` is not installed.
    """
    if cluster:
        return _cluster(cluster)
    if workers == 0:
        return None
    # Spawned, not forked: the service has threads, and a fork of them would hang.
    return ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("spawn"))


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
