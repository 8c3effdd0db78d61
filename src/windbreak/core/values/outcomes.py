"""What came of a release where it was tried: what makes its reputation here."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import ProductId, Slug, Value, VersionText

Came = Literal["working", "put back", "restored", "alarm"]


class Outcome(Value):
    """What came of a release in one run on one site. ``beside`` are the core, the theme in use and
    the runtime that it met there, by product.
    """

    id: int
    product: ProductId
    version: VersionText
    site: Slug
    run: int
    at: datetime
    came: Came
    beside: dict[ProductId, VersionText] = {}
