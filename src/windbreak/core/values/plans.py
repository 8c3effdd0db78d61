"""Plans of single sites, and their approval."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import Day, ProductId, Slug, Value, example
from windbreak.core.values.charts import Chart
from windbreak.core.values.errands import Brought
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.verdicts import Answer, Plan

PlanState = Literal["draft", "approved", "replaced", "carried out", "failed"]


ChangedFiles = Literal["carry-over", "set-aside"]


class Approval(Value):
    """Who let a plan go, when and why. ``restore_anyway``: also when orders came in meanwhile;
    ``changed_files``: what becomes of files of components that were changed in place;
    ``patches_until``: up to this day patch releases of the targets may be taken too, once they have
    soaked; ``rules``: those of the house that let it go, and with which it dies.
    """

    by: str
    at: datetime
    why: str
    restore_anyway: bool = False
    changed_files: ChangedFiles | None = None
    patches_until: Day | None = None
    rules: tuple[str, ...] = ()


class ApprovePlan(Value):
    """``fetch``: the packages are fetched and examined now, so that the run finds them in hand."""

    model_config = example(why="updates of November")

    why: str = ""
    restore_anyway: bool = False
    changed_files: ChangedFiles | None = None
    patches_until: Day | None = None
    fetch: bool = True


class Removal(Value):
    """What is to leave a site."""

    model_config = example(products=["plugin/popinjay"])

    products: Annotated[tuple[ProductId, ...], Field(min_length=1)]


class SitePlan(Value):
    """A plan for one site, with the verdicts it came from and the state it starts at.

    ``scope`` are the products it may move, None: all; ``to_book``: it is to be booked as soon as
    the timetable has a place for it; ``rollout``: the one it is a part of.
    """

    id: int
    site: Slug
    made_at: datetime
    start: dict[str, str]
    answer: Answer
    plan: Plan
    targets: dict[str, str]
    brings: tuple[Brought, ...] = ()
    state: PlanState = "draft"
    scope: tuple[ProductId, ...] | None = None
    to_book: bool = False
    rollout: int | None = None
    approval: Approval | None = None
    charts: tuple[Chart, ...] | None = None  # as it was approved; None while it is a draft

    @property
    def removes(self) -> tuple[ProductId, ...]:
        """What leaves the site; a plan that moves something removes nothing."""
        return tuple([product for step in self.plan.steps for product in step.leaving])

    def changed_since(self, inventory: Inventory) -> list[str]:
        """The products that are not, or no longer, at the version the plan starts from."""
        return differing_products(self.start, inventory)


def differing_products(start: Mapping[str, str], inventory: Inventory) -> list[str]:
    """The products that are not, or no longer, at the version that something starts from."""
    now = {c.product: c.version for c in inventory.components}
    return sorted(p for p in {*now, *start} if now.get(p) != start.get(p))
