"""Much at once, little of one place: work spread over threads with a limit for each host.

A thing whose place is full waits without holding a thread, so that a host that hangs keeps back
nothing but itself.
"""

from __future__ import annotations

import threading
import time
from collections import defaultdict, deque
from collections.abc import Callable, Iterator, Sequence
from queue import Empty, SimpleQueue
from typing import TypeVar, cast

T = TypeVar("T")
R = TypeVar("R")


def at_once(
    things: Sequence[T],
    do: Callable[[T], R],
    *,
    place: Callable[[T], str],
    most: int,
    per_place: int,
    finish: Callable[[], None] = lambda: None,
    gather: float = 0,
) -> Iterator[list[R]]:
    """What ``do`` makes of each thing, in the order they are ready, those together that are ready
    within ``gather`` seconds of the first; raises what it raises, after what was ready before.

    At any time at most ``most`` are under way, and at most ``per_place`` of one place. Each thread
    calls ``finish`` when it ends, to let go of what it holds open.
    """
    waiting: dict[str, deque[T]] = defaultdict(deque)
    for thing in things:
        waiting[place(thing)].append(thing)
    busy: dict[str, int] = defaultdict(int)
    tasks: SimpleQueue[tuple[str, T] | None] = SimpleQueue()
    results: SimpleQueue[tuple[str, R | None, BaseException | None]] = SimpleQueue()

    def work() -> None:
        try:
            while (task := tasks.get()) is not None:
                where, thing = task
                try:
                    results.put((where, do(thing), None))
                except BaseException as error:
                    results.put((where, None, error))
        finally:
            finish()

    pool = [
        threading.Thread(target=work, name=f"at-once-{n}", daemon=True)
        for n in range(min(most, len(things)))
    ]
    for thread in pool:
        thread.start()
    under_way = 0

    def begin(where: str) -> None:
        nonlocal under_way
        while waiting[where] and busy[where] < per_place and under_way < most:
            tasks.put((where, waiting[where].popleft()))
            busy[where] += 1
            under_way += 1
        if not waiting[where]:
            del waiting[where]

    try:
        for where in list(waiting):
            begin(where)
        while under_way:
            batch: list[R] = []
            until: float | None = None
            error: BaseException | None = None
            while under_way:
                left = None if until is None else max(0.0, until - time.monotonic())
                try:
                    where, result, error = results.get(timeout=left)
                except Empty:
                    break
                until = until or time.monotonic() + gather
                under_way -= 1
                busy[where] -= 1
                # The place that has room now comes first, then those that waited for a thread.
                for other in [where, *list(waiting)] if under_way + 1 >= most else [where]:
                    if other in waiting:
                        begin(other)
                if error is not None:
                    break
                batch.append(cast(R, result))
            if batch:
                yield batch
            if error is not None:
                raise error
    finally:
        for _ in pool:
            tasks.put(None)
        for thread in pool:
            thread.join()
