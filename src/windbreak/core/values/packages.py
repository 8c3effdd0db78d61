"""Packages in hand, and which sites may have them."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from windbreak.core.values.basics import ProductId, Slug, Value, VersionText


class Package(Value):
    """An archive on the shelf, as it was examined; its id is its SHA-256 in hex.

    ``inner`` names the archive it was found in, when the complete download was brought.
    """

    id: str
    product: ProductId
    version: VersionText
    name: str
    folder: str
    size: int
    kept_at: datetime
    source: str
    inner: str | None = None


class ShelfRight(Value):
    """That a site may have a package by other ways than its feed: why, and since when."""

    site: Slug
    product: ProductId
    version: VersionText
    why: Literal["uploaded for it", "run by it", "taken under its seat"]
    at: datetime

    @property
    def id(self) -> str:
        return f"{self.site} {self.product}@{self.version}"
