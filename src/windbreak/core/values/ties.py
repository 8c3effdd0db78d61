"""What the house knows of products that no release says: which must match, which don't go together.

A lockstep group or a clash is entered by a person, or found out here; the reasoning takes it as it
takes what releases say.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import Field, model_validator

from windbreak.core.values.basics import Frozen, Match, ProductId, RangeText, Value, example


class NewLockstep(Value):
    """Products whose versions must match, and why."""

    model_config = example(
        products=["theme/capstan", "plugin/capstan-blocks"],
        match="exact",
        reason="blocks are drawn by the theme of the same version",
    )

    products: Annotated[tuple[ProductId, ...], Field(min_length=2)]
    match: Match = "exact"
    reason: Annotated[str, Field(min_length=1)]

    @model_validator(mode="after")
    def _names_each_once(self) -> Self:
        if len(set(self.products)) < len(self.products):
            raise ValueError("a product can't be in lockstep with itself")
        return self


class KnownLockstep(NewLockstep):
    id: str
    author: str
    made_at: datetime


class ClashSide(Frozen):
    """One side of a clash: a range of a product."""

    product: ProductId
    range: RangeText


class NewClash(Value):
    """Two ranges of two products that do not work together, and what happens."""

    model_config = example(
        a={"product": "plugin/lee", "range": ">=3"},
        b={"product": "plugin/sextant", "range": "<2.3"},
        reason="search pages come from the cache of another visitor",
    )

    a: ClashSide
    b: ClashSide
    reason: Annotated[str, Field(min_length=1)]

    @model_validator(mode="after")
    def _names_two(self) -> Self:
        if self.a.product == self.b.product:
            raise ValueError("a product can't clash with itself")
        return self

    @property
    def products(self) -> tuple[str, str]:
        return self.a.product, self.b.product


class KnownClash(NewClash):
    id: str
    author: str
    made_at: datetime
