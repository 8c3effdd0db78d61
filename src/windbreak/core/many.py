"""Many sites reasoned about at once: equal situations once, on whatever executor is given.

Source of the rules: docs/reasoning.md, "Many sites". Two sites whose situation is equal get the
same answer; so an answer is kept under the *key* of its situation, and holds until the day on
which something in it changes by itself.
"""

from __future__ import annotations

import hashlib
import json
import pickle
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from dataclasses import dataclass
from datetime import date, timedelta

from windbreak.core.case import Case
from windbreak.core.catalogue import Catalogue
from windbreak.core.explain import Answer, Plan, answer, plan
from windbreak.core.order import order
from windbreak.core.resolve import resolve

_PER_TASK = 32  # situations that go to a worker together


def situation_key(case: Case) -> str:
    """What is the same for two cases exactly when their sites are in the same situation.

    Left out are the site's name, the day, and the order in which things are listed.
    Of the catalogue only what the case itself holds is looked into: keys of cases that share
    different catalogues can't be compared.
    """
    site, policy = case.site, case.policy
    told = [
        sorted((c.product, c.version, c.active) for c in site.components),
        sorted((p, sorted(set(versions))) for p, versions in site.offers.items()),
        sorted((x.product, x.range, _day(x.covers_until), _day(x.expires)) for x in site.licences),
        sorted((item.product, item.version) for item in site.shelf),
        [(h.product, h.range, _day(h.until), h.reason) for h in policy.holds],
        policy.soak.model_dump(),
        sorted((p, soak.model_dump()) for p, soak in policy.soaks.items()),
        sorted(set(policy.channels)),
        sorted((p, sorted(set(channels))) for p, channels in policy.channels_of.items()),
        policy.install_required,
        policy.order,
        sorted((p.id, p.access, p.name or "", p.major_place) for p in case.products),
        sorted(r.model_dump_json() for r in case.releases),
        sorted(a.model_dump_json() for a in case.advisories),
        [x.model_dump_json() for x in (*case.lockstep, *case.clashes)],
    ]
    text = json.dumps(told, default=list, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:24]


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


@dataclass(frozen=True)
class Told:
    """What is said of a situation; ``plan`` None where only the verdicts were asked for."""

    answer: Answer
    plan: Plan | None = None


@dataclass(frozen=True)
class Asked:
    """How much is wanted: the acts that would help, and the ordered steps."""

    acts: bool = False
    plans: bool = False


def tell_one(case: Case, catalogue: Catalogue, asked: Asked) -> Told:
    """Reason about one case with a shared catalogue."""
    resolution = resolve(case, catalogue.beside(case))
    told = answer(resolution, acts=asked.acts)
    return Told(told, plan(order(resolution)) if asked.plans else None)


def tell_all(
    catalogue: Catalogue,
    cases: Mapping[str, Case],
    asked: Asked,
    executor: Executor | None = None,
) -> dict[str, Told]:
    """What is said of each case, by its key.

    The catalogue is shared: a case needs releases only where it knows other ones (see
    ``Catalogue.beside``). Without an ``executor`` everything is done here; any executor of
    ``concurrent.futures`` will do.
    """
    if executor is None:
        return {key: tell_one(case, catalogue, asked) for key, case in cases.items()}
    packed = pickle.dumps(catalogue.source)
    keys = list(cases)
    tasks: list[tuple[Sequence[str], Future[list[Told]]]] = []
    for start in range(0, len(keys), _PER_TASK):
        some = keys[start : start + _PER_TASK]
        work = _Work(packed, tuple(cases[key] for key in some), asked)
        tasks.append((some, executor.submit(_carry_out, work)))
    return {
        key: told for some, task in tasks for key, told in zip(some, task.result(), strict=True)
    }


def answers(
    catalogue: Catalogue,
    cases: Iterable[Case],
    *,
    acts: bool = False,
    executor: Executor | None = None,
) -> Iterator[tuple[Case, Answer]]:
    """The answer of each case, in their order; equal situations are reasoned about once."""
    listed = [(case, key_of_day(case)) for case in cases]
    different = {key: case for case, key in reversed(listed)}
    done = tell_all(catalogue, different, Asked(acts=acts), executor)
    for case, key in listed:
        found = done[key].answer
        same = found.site == case.site.id
        yield case, found if same else found.model_copy(update={"site": case.site.id})


def key_of_day(case: Case) -> str:
    """The key of a case's situation on its day: what is equal in it has the same answer."""
    return f"{case.day} {situation_key(case)}"


@dataclass(frozen=True)
class _Work:
    """What a worker is given: the catalogue, packed, and some cases that share it."""

    catalogue: bytes
    cases: tuple[Case, ...]
    asked: Asked


_unpacked: dict[bytes, Catalogue] = {}  # a worker's: the catalogue it was given last


def _carry_out(work: _Work) -> list[Told]:
    mark = hashlib.sha256(work.catalogue).digest()
    catalogue = _unpacked.get(mark)
    if catalogue is None:
        _unpacked.clear()
        catalogue = _unpacked[mark] = Catalogue(*pickle.loads(work.catalogue))
    return [tell_one(case, catalogue, work.asked) for case in work.cases]


def reach_of(catalogue: Catalogue, product: str) -> frozenset[str]:
    """The products on whose sites a new release of one can change the answer.

    That is the product itself; and, as a plugin joins a site when something there requires it,
    whatever requires it, directly or through other plugins.
    """
    found = {product}
    waiting = [product]
    while waiting:
        wanted = waiting.pop()
        if wanted.startswith("plugin/"):
            more = set(catalogue.required_by.get(wanted, ())) - found
            found |= more
            waiting += more
    return frozenset(found)
