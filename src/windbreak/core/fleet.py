"""Many sites reasoned about at once: equal situations once, on whatever executor is given.

Source of the rules: docs/reasoning.md, "Many sites". Two sites whose situation is equal get the
same answer; so an answer is kept under the *key* of its situation, and holds until the day on
which something in it changes by itself.
"""

from __future__ import annotations

import hashlib
import pickle
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from datetime import date, timedelta
from typing import TypeVar

from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case, Soak

_PER_TASK = 32  # situations that go to a worker together
_FIRST = 4  # tasks that bring the catalogue along, so that no worker has to ask for it


def situation_of(case: Case) -> tuple[object, ...]:
    """What is the same for two cases exactly when their sites are in the same situation.

    Left out are the site's name, the day, and the order in which things are listed.
    Of the catalogue only what the case itself holds is looked into: situations of cases that share
    different catalogues can't be compared.
    """
    site, policy = case.site, case.policy
    return (
        tuple(sorted([(c.product, c.version, c.active) for c in site.components])),
        tuple(sorted([(p, *sorted(set(versions))) for p, versions in site.offers.items()])),
        tuple(
            sorted(
                [(x.product, x.range, _day(x.covers_until), _day(x.expires)) for x in site.licences]
            )
        ),
        tuple(sorted([(item.product, item.version) for item in site.shelf])),
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
    if executor is None:
        return {key: work(case, catalogue) for key, case in cases.items()}
    source = pickle.dumps(catalogue.source)
    mark = hashlib.sha256(source).digest()
    keys = list(cases)
    parts = [keys[start : start + _PER_TASK] for start in range(0, len(keys), _PER_TASK)]
    # The first tasks bring the catalogue along; those after them find it there.
    tasks = []
    for n, part in enumerate(parts):
        brought = source if n < _FIRST else None
        tasks.append(executor.submit(_carry_out, mark, brought, work, _packed(cases, part)))
    results_by_key: dict[str, T] = {}
    for part, task in zip(parts, tasks, strict=True):
        results = task.result()
        if results is None:
            again = executor.submit(_carry_out, mark, source, work, _packed(cases, part))
            results = again.result()
        assert results is not None  # the catalogue came with it
        results_by_key.update(zip(part, results, strict=True))
    return results_by_key


def by_situation(
    catalogue: Catalogue,
    cases: Iterable[Case],
    work: Callable[[Case, Catalogue], T],
    executor: Executor | None = None,
) -> Iterator[tuple[Case, T]]:
    """What some work makes of each case, in their order; equal situations are looked at once."""
    listed = [(case, (case.day, situation_of(case))) for case in cases]
    places: dict[object, str] = {}
    different: dict[str, Case] = {}
    for case, situation in listed:
        if situation not in places:
            places[situation] = key = str(len(places))
            different[key] = case
    done = spread(catalogue, different, work, executor)
    for case, situation in listed:
        yield case, done[places[situation]]


def key_of_day(case: Case) -> str:
    """The key of a case's situation on its day: what is equal in it has the same answer."""
    return f"{case.day} {situation_key(case)}"


_compiled: dict[bytes, Catalogue] = {}  # a worker's own: the catalogue it was given last


def _packed(cases: Mapping[str, Case], keys: Sequence[str]) -> bytes:
    return pickle.dumps([cases[key] for key in keys], protocol=pickle.HIGHEST_PROTOCOL)


def _carry_out(
    mark: bytes, source: bytes | None, work: Callable[[Case, Catalogue], T], cases: bytes
) -> list[T] | None:
    """In a worker: the work on some cases; None where it has to be given the catalogue first."""
    catalogue = _compiled.get(mark)
    if catalogue is None:
        if source is None:
            return None
        _compiled.clear()
        catalogue = _compiled[mark] = Catalogue(*pickle.loads(source))
    return [work(case, catalogue) for case in pickle.loads(cases)]


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
