"""Holds: decisions not to move a product, on one site or everywhere."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from windbreak.core.values.basics import Day, ProductId, RangeText, Slug, Value, example


class NewHold(Value):
    """A decision not to move a product, on one site or (None) everywhere."""

    model_config = example(product="plugin/netloft", range=">=1.8", reason="1.8 drops captions")

    product: ProductId
    range: RangeText = "*"
    site: Slug | None = None
    until: Day | None = None
    review: Day | None = None
    reason: Annotated[str, Field(min_length=1)]


class StandingHold(NewHold):
    id: str
    author: str
    made_at: datetime
