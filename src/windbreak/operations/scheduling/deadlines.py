"""By when a plan should be carried out, what that weighs, and why; and whether it wants watching.

What is soonest counts: an advisory that the plan closes, a licence that ends, a freeze that begins.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, date, datetime, time, timedelta
from typing import NamedTuple

from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import SEVERITY, Severity
from windbreak.core.values.errands import Brought
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import PlannedStep
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import jump, parse_version
from windbreak.operations.context import Context
from windbreak.operations.licensing import licence_rights
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.scheduling import freezes, watching
from windbreak.wording.words import day

# Days from when it was published to when it should be closed.
DAYS: Mapping[Severity, int] = {"critical": 2, "high": 7, "medium": 30, "low": 60}
LONG_FREEZE = timedelta(days=7)  # a shorter one is gone around, and hurries nobody
SOON = timedelta(days=28)
Span = tuple[str | None, str]  # from which version to which
SHOP = "shop"  # the tag of sites that sell


class Deadline(NamedTuple):
    """When it should be over, what that weighs beside others, and why."""

    due: datetime | None
    weight: float
    why: str


class Sight:
    """What deadlines of many plans are read from, each thing read once."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.now = context.clock()
        self.frozen = freezes.listed(context)
        self.rights = licence_rights.kept(context)
        self.watches = bool(watching.listed(context))
        self.ground = Ground.read(context)
        self._advisories: dict[str, list[KnownAdvisory]] = {}
        self._products: dict[str, KnownProduct | None] = {}

    def advisories(self, product: str) -> list[KnownAdvisory]:
        if product not in self._advisories:
            every = self.context.store.advisories.all(product=product, withdrawn=False)
            self._advisories[product] = every
        return self._advisories[product]

    def product(self, product: str) -> KnownProduct | None:
        if product not in self._products:
            self._products[product] = self.context.store.products.find(product)
        return self._products[product]


def deadline(sight: Sight, site: Site, steps: Sequence[PlannedStep]) -> Deadline:
    """By when some steps should be done on a site: the soonest reason counts, and the gravest
    weight.
    """
    deadlines = [*_by_what_moves(sight, site, spans(steps)), *_by_freezes(sight, site)]
    every = sorted(deadlines, key=lambda due: due.due or datetime.max)
    if not every:
        return Deadline(None, 1, "")
    return Deadline(every[0].due, max(due.weight for due in every), every[0].why)


def closed(sight: Sight, moved: Mapping[str, Span]) -> list[KnownAdvisory]:
    """The advisories that reach what runs now, and not what will."""
    return [
        advisory
        for product, (start, end) in moved.items()
        if start is not None
        for advisory in sight.advisories(product)
        if parse_version(start) in (affected := parse_range(advisory.affected))
        and parse_version(end) not in affected
    ]


def _by_what_moves(sight: Sight, site: Site, moved: Mapping[str, Span]) -> Iterator[Deadline]:
    today = sight.now.date()
    for due in closed(sight, moved):
        last = (due.published or today) + timedelta(days=DAYS[due.severity])
        why = f"advisory {due.id}, {due.severity}, by {day(last, today)}"
        yield Deadline(_end_of(last), 1 + SEVERITY[due.severity], why)
    for licence in licence_rights.for_case(sight.rights, site):
        ends_soon = licence.expires and today <= licence.expires < today + SOON
        if licence.product in moved and licence.expires and ends_soon:
            why = f"its licence ends {day(licence.expires, today)}"
            yield Deadline(_end_of(licence.expires), 2, why)


def _by_freezes(sight: Sight, site: Site) -> Iterator[Deadline]:
    for freeze in sight.frozen:
        soon = sight.now < freeze.from_ < sight.now + SOON
        if soon and freeze.to - freeze.from_ >= LONG_FREEZE and freezes.holds(freeze, site):
            yield Deadline(freeze.from_, 2, f"before the freeze: {freeze.reason}")


def spans(steps: Sequence[PlannedStep]) -> dict[str, Span]:
    """From what to what each product goes over all steps."""
    by_product: dict[str, Span] = {}
    for move in (move for step in steps for move in step.moves):
        if move.to is None:
            continue
        start = by_product[move.product][0] if move.product in by_product else move.from_
        by_product[move.product] = (start, move.to)
    return by_product


def _end_of(last: date) -> datetime:
    """The end of a day."""
    return datetime.combine(last + timedelta(days=1), time(), tzinfo=UTC)


def watched(
    sight: Sight, site: Site, steps: Sequence[PlannedStep], brings: Sequence[Brought]
) -> str:
    """Why somebody has to be there while some steps are done, by the rules of the house, "" where
    nobody has to. Without a rule that is what migrates on a production site. While nobody's hours
    are entered nothing is watched.
    """
    if not sight.watches:
        return ""
    moved = spans(steps)
    why: list[str] = []
    migrating = {bring.product for bring in brings if bring.kind == "migrate"}
    for product, rule in sight.ground.policy_of(site, moved).items():
        listed, start = sight.product(product), moved[product][0]
        name = listed.name if listed else product
        if "any" in rule.watch:
            why.append(f"the rule for {rule.watch_by} wants it")
        elif "migration" in rule.watch and product in migrating:
            if rule.watch_by or site.environment == "production":
                why.append(f"{name} migrates")
        elif "major" in rule.watch and start is not None:
            place = listed.major_place if listed else 1
            if jump(parse_version(start), parse_version(moved[product][1]), place) == "major":
                why.append(f"a major of {name}")
    return ", ".join(dict.fromkeys(why))
