"""Much at once, little of one place: work spread over threads with a limit for each host.

A thing whose place is full waits without holding a thread, so that a host that hangs keeps back
nothing but itself.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")


def at_once(
    things: Sequence[T],
    do: Callable[[T], R],
    *,
    place: Callable[[T], str],
    most: int,
    per_place: int,
) -> Iterator[R]:
    """What ``do`` makes of each thing, in the order they are ready; raises what it raises.

    At any time at most ``most`` are under way, and at most ``per_place`` of one place.
    """
    waiting: dict[str, deque[T]] = defaultdict(deque)
    for thing in things:
        waiting[place(thing)].append(thing)
    under_way: dict[Future[R], str] = {}
    busy: dict[str, int] = defaultdict(int)
    with ThreadPoolExecutor(max_workers=most, thread_name_prefix="at-once") as pool:
        while waiting or under_way:
            for where in list(waiting):
                while waiting[where] and busy[where] < per_place and len(under_way) < most:
                    under_way[pool.submit(do, waiting[where].popleft())] = where
                    busy[where] += 1
                if not waiting[where]:
                    del waiting[where]
            done, _ = wait(under_way, return_when=FIRST_COMPLETED)
            for future in done:
                busy[under_way.pop(future)] -= 1
                yield future.result()
