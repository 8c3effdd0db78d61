"""Many sites reasoned about at once: equal situations once, on whatever executor is given.

Source of the rules: docs/reasoning.md, "Many sites". Two sites whose situation is equal get the
same answer; so an answer is kept under the *key* of its situation, and holds until the day on
which something in it changes by itself.
"""

from __future__ import annotations

import gc
import hashlib
import pickle
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from datetime import date, timedelta
from typing import Generic, TypeVar

from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case, CaseSite, Soak

_PER_TASK = 16  # situations that go to a worker together
_FIRST = 4  # tasks that bring the catalogue along, so that no worker has to ask for it
_TURN = 0.0005  # seconds that a thread may keep others waiting


def situation_of(case: Case) -> tuple[object, ...]:
    """What is the same for two cases exactly when their sites are in the same situation.

    Left out are the site's name, the day, and the order in which things are listed.
    Of the catalogue only what the case itself holds is looked into: situations of cases that share
    different catalogues can't be compared.
    """
    return _of_site(case.site) + _of_all(case)


def _of_site(site: CaseSite) -> tuple[object, ...]:
    """What a site itself brings into its situation."""
    return (
        tuple(sorted([(c.product, c.version, c.active) for c in site.components])),
        tuple(sorted([(p, *sorted(set(versions))) for p, versions in site.offers.items()])),
        tuple(
            sorted(
                [(x.product, x.range, _day(x.covers_until), _day(x.expires)) for x in site.licences]
            )
        ),
        tuple(sorted([(item.product, item.version) for item in site.shelf])),
    )


def _of_all(case: Case) -> tuple[object, ...]:
    """What holds for many sites alike."""
    policy = case.policy
    return (
        tuple([(h.product, h.range, _day(h.until), h.reason) for h in policy.holds]),
        _days(policy.soak),
        tuple(sorted([(p, _days(soak)) for p, soak in policy.soaks.items()])),
        tuple(sorted(set(policy.channels))),
        tuple(sorted([(p, *sorted(set(some))) for p, some in policy.channels_of.items()])),
        policy.install_required,
        policy.order,
        tuple(sorted([(p.id, p.access, p.name or "", p.major_place) for p in case.products])),
        tuple(sorted([r.model_dump_json() for r in case.releases])),
        tuple(sorted([a.model_dump_json() for a in case.advisories])),
        tuple([x.model_dump_json() for x in (*case.lockstep, *case.clashes)]),
    )


def situation_key(case: Case) -> str:
    """A short text that is the same for two cases exactly when their situations are."""
    return hashlib.sha256(repr(situation_of(case)).encode()).hexdigest()[:24]


def _days(soak: Soak) -> tuple[int, int, int, int]:
    return soak.major, soak.minor, soak.patch, soak.security


def _day(when: date | None) -> str:
    return when.isoformat() if when else ""


def changes_on(case: Case) -> date:
    """The first day after the case's own on which its answer can be another by itself.

    That is, for a case with its releases in it, when a soak, a hold or a licence ends, or a new
    year begins.
    """
    today = case.day
    # With a new year, days of the old one are written with it.
    new_year = date(today.year + 1, 1, 1) if today.year < date.max.year else date.max
    every = (case.policy.soak, *case.policy.soaks.values())
    soaks = {days for soak in every for days in dict(soak).values()}
    ends = [hold.until for hold in case.policy.holds] + [x.expires for x in case.site.licences]
    days = [end + timedelta(days=1) for end in ends if end is not None and end < date.max]
    most = date.max.toordinal()
    for release in case.releases:
        first = release.published.toordinal()
        days += [date.fromordinal(min(first + n, most)) for n in soaks if n]
    return min([new_year, *(d for d in days if d > today)])


T = TypeVar("T")


def spread(
    catalogue: Catalogue,
    cases: Mapping[str, Case],
    work: Callable[[Case, Catalogue], T],
    executor: Executor | None = None,
) -> dict[str, T]:
    """What some work makes of each case, by its key.

    The catalogue is shared: a case needs releases only where it knows other ones (see
    ``Catalogue.beside``). Without an ``executor`` everything is done here; any executor of
    ``concurrent.futures`` will do, as long as ``work`` can be sent to it.

    A worker keeps the compiled catalogue: only situations travel. One that has not met this
    catalogue yet says so, and is given it with its task.
    """
    batches = _Batches(catalogue, work, executor)
    with undisturbed(), _attentive():
        for key, case in cases.items():
            batches.add(key, case)
        return batches.done()


class _Batches(Generic[T]):
    """Cases on their way to be worked on: here at once, or on an executor, so many together."""

    def __init__(
        self,
        catalogue: Catalogue,
        work: Callable[[Case, Catalogue], T],
        executor: Executor | None,
    ) -> None:
        self.catalogue, self.work, self.executor = catalogue, work, executor
        self._results: dict[str, T] = {}
        self._waiting: dict[str, Case] = {}
        self._sent: list[tuple[tuple[str, ...], bytes, Future[bytes | None]]] = []

    def add(self, key: str, case: Case) -> None:
        if self.executor is None:
            self._results[key] = self.work(case, self.catalogue)
            return
        self._waiting[key] = case
        if len(self._waiting) == _PER_TASK:
            self._send(self.executor)

    def done(self) -> dict[str, T]:
        """What the work made of every case, when all are done."""
        if self.executor is not None:
            if self._waiting:
                self._send(self.executor)
            for keys, cases, task in self._sent:
                packed = task.result()
                if packed is None:
                    packed = self._submit(self.executor, cases, brought=True).result()
                assert packed is not None  # the catalogue came with it
                self._results.update(zip(keys, pickle.loads(packed), strict=True))
        return self._results

    def _send(self, executor: Executor) -> None:
        cases = pickle.dumps(list(self._waiting.values()), protocol=pickle.HIGHEST_PROTOCOL)
        # The first tasks bring the catalogue along; those after them find it there.
        task = self._submit(executor, cases, brought=len(self._sent) < _FIRST)
        self._sent.append((tuple(self._waiting), cases, task))
        self._waiting = {}

    def _submit(self, executor: Executor, cases: bytes, *, brought: bool) -> Future[bytes | None]:
        mark, source = self.catalogue.packed
        return executor.submit(_carry_out, mark, source if brought else None, self.work, cases)


@contextmanager
def undisturbed() -> Iterator[None]:
    """Without the collector looking through what is being made: nothing of it is waste yet, and
    reasoning leaves no rings behind (counted: none in 500 situations). Not for a generator to be
    in while others work with what it gave them.
    """
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


@contextmanager
def _attentive() -> Iterator[None]:
    """With threads that take turns often: those that hand tasks to an executor get theirs while
    situations are still being told apart (measured: workers begin after 10 ms, and not after 100).
    Where that is so already, whoever made it so ends it.
    """
    was = sys.getswitchinterval()
    if was > _TURN:
        sys.setswitchinterval(_TURN)
    try:
        yield
    finally:
        if was > _TURN:
            sys.setswitchinterval(was)


def by_situation(
    catalogue: Catalogue,
    cases: Iterable[Case],
    work: Callable[[Case, Catalogue], T],
    executor: Executor | None = None,
) -> Iterator[tuple[Case, T]]:
    """What some work makes of each case, in their order; equal situations are looked at once."""
    batches = _Batches(catalogue, work, executor)
    keys: dict[object, str] = {}
    alike: dict[tuple[object, ...], int] = {}  # what holds for many sites, numbered
    shared: dict[tuple[int, ...], int] = {}  # the same, by the very same parts of cases
    listed = []
    with undisturbed(), _attentive():
        for case in cases:
            parts = (case.policy, case.products, case.releases, case.advisories)
            same = tuple([id(part) for part in (*parts, case.lockstep, case.clashes)])
            if same not in shared:
                shared[same] = alike.setdefault(_of_all(case), len(alike))
            situation = (case.day, _of_site(case.site), shared[same])
            key = keys.get(situation)
            if key is None:
                key = keys[situation] = str(len(keys))
                batches.add(key, case)
            listed.append((case, key))
        done = batches.done()
    for case, key in listed:
        yield case, done[key]


def key_of_day(case: Case) -> str:
    """The key of a case's situation on its day: what is equal in it has the same answer."""
    return f"{case.day} {situation_key(case)}"


_compiled: dict[bytes, Catalogue] = {}  # a worker's own: the catalogue it was given last


def _carry_out(
    mark: bytes, source: bytes | None, work: Callable[[Case, Catalogue], T], cases: bytes
) -> bytes | None:
    """In a worker: what some work makes of some cases, packed; None where it has to be given the
    catalogue first.
    """
    catalogue = _compiled.get(mark)
    if catalogue is None:
        if source is None:
            return None
        _compiled.clear()
        catalogue = _compiled[mark] = Catalogue(*pickle.loads(source))
    with undisturbed():
        results = [work(case, catalogue) for case in pickle.loads(cases)]
        return pickle.dumps(results, protocol=pickle.HIGHEST_PROTOCOL)


def reach_of(catalogue: Catalogue, product: str) -> frozenset[str]:
    """The products on whose sites a new release of one can change the answer.

    That is the product itself; and, as a plugin joins a site when something there requires it,
    whatever requires it, directly or through other plugins.
    """
    reached = {product}
    waiting = [product]
    while waiting:
        wanted = waiting.pop()
        if wanted.startswith("plugin/"):
            more = set(catalogue.required_by.get(wanted, ())) - reached
            reached |= more
            waiting += more
    return frozenset(reached)
