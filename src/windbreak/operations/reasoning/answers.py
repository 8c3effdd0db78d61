"""Answers: equal situations are reasoned about once, and again only when something can touch them.

Results are kept on the context under the key of their situation, with the days they hold. When the
catalogue changes, those that what changed can touch are forgotten, and no others.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import partial

from windbreak.core.case.situation import Case
from windbreak.core.fleet import changes_on, reach_of, situation_key, spread
from windbreak.core.values.verdicts import Answer, Plan
from windbreak.operations.context import Context
from windbreak.operations.reasoning.cases import case_of
from windbreak.operations.reasoning.catalogue import KnownCatalogue, catalogue
from windbreak.wording.answers import Answered, Asked, answered

_KEPT_RESULTS = 1024
_WORTH_SENDING = 50  # below, the way to an executor costs more than it saves
_WHOLE = Asked(acts=True, plans=True)


@dataclass(frozen=True)
class Reasoned:
    """A case with its answer and its plan; the key of its situation, and when it was reasoned."""

    case: Case
    answer: Answer
    plan: Plan
    key: str
    made_at: datetime


@dataclass(frozen=True)
class _Kept:
    """A result, the days it holds, and the products whose catalogue it came from."""

    answered: Answered
    made_at: datetime
    first_day: date  # the case's own: what is supposed may lie ahead of today
    last_day: date
    products: frozenset[str]


class _Results:
    """The results of one service, the newest used last."""

    def __init__(self) -> None:
        self.guard = threading.Lock()
        self.catalogue: KnownCatalogue | None = None
        self.by_key: OrderedDict[str, _Kept] = OrderedDict()

    def follow(self, now: KnownCatalogue) -> None:
        """Forget what a newer catalogue can touch; an older one, still in use, changes nothing.

        What is told of a product is one and the same value until it changes, so that catalogues in
        between that nobody reasoned with are not passed over.
        """
        with self.guard:
            before = self.catalogue
            if before is now or (before is not None and now.generation < before.generation):
                return
            self.catalogue = now
            if before is None:
                return
            if now.changed is None:
                self.by_key.clear()
                return
            changed = [
                p
                for p in before.facts.keys() | now.facts.keys()
                if before.facts.get(p) is not now.facts.get(p)
            ]
            touched = {
                p
                for product in changed
                for catalogues in (before, now)
                for p in reach_of(catalogues.compiled, product)
            }
            for key in [k for k, x in self.by_key.items() if not touched.isdisjoint(x.products)]:
                del self.by_key[key]

    def find(self, key: str, case: Case) -> _Kept | None:
        with self.guard:
            kept = self.by_key.get(key)
            if kept is None or not kept.first_day <= case.day <= kept.last_day:
                return None
            self.by_key.move_to_end(key)
            return kept

    def keep(
        self, key: str, case: Case, answer: Answered, now: datetime, catalogue: KnownCatalogue
    ) -> _Kept:
        """Keep a result, unless another catalogue came while it was reasoned."""
        last = changes_on(case)
        last_day = last if last == date.max else last - timedelta(days=1)
        kept = _Kept(answer, now, case.day, last_day, frozenset([p.id for p in case.products]))
        with self.guard:
            if self.catalogue is not catalogue:
                return kept
            self.by_key[key] = kept
            while len(self.by_key) > _KEPT_RESULTS:
                self.by_key.popitem(last=False)
        return kept


def _results(context: Context, catalogue: KnownCatalogue) -> _Results:
    results = context.cache.kept("results", "", lambda _: _Results())
    results.follow(catalogue)
    return results


def reason(context: Context, case: Case) -> Reasoned:
    """The answer and plan of a case. Equal situations are reasoned about once, whichever site
    they are of, and again only when something that can touch them has changed. Reads.
    """
    current = catalogue(context)
    results = _results(context, current)
    lean = current.compiled.lean(case)
    key = situation_key(lean)
    kept = results.find(key, case)
    if kept is None:
        answer = answered(lean, current.compiled, _WHOLE)
        kept = results.keep(key, case, answer, context.clock(), current)
    assert kept.answered.plan is not None  # it was asked for
    same = {"site": case.site.id}
    return Reasoned(
        case,
        kept.answered.answer.model_copy(update=same),
        kept.answered.plan.model_copy(update=same),
        key,
        kept.made_at,
    )


def prepare(context: Context, cases: Mapping[str, Case]) -> None:
    """Reason about what is not known yet of many cases, where there is an executor for it. Reads.

    A case that can't be reasoned about is left for whoever asks for it alone.
    """
    if context.executor is None or len(cases) < _WORTH_SENDING:
        return
    current = catalogue(context)
    results = _results(context, current)
    wanted: dict[str, Case] = {}
    leans: dict[str, Case] = {}
    for case in cases.values():
        lean = current.compiled.lean(case)
        key = situation_key(lean)
        if key not in wanted and results.find(key, case) is None:
            wanted[key], leans[key] = case, lean
    work = partial(answered, asked=_WHOLE)
    for key, result in spread(current.compiled, leans, work, context.executor).items():
        results.keep(key, wanted[key], result, context.clock(), current)


def verdicts(context: Context, site: str) -> Answer:
    """The verdicts of a site now. Reads. Raises Refused when its inventory is not known."""
    return reason(context, case_of(context, site)).answer
