"""Products: what is installed on sites, as it is known here."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from windbreak.core.values.basics import Access, Kind, ProductId, Slug, Value, example


class KnownProduct(Value):
    """A product of the catalogue. ``folders`` are other folder names it is known to lie in.

    ``withdrawn_at``: since then its maker lists it no longer, or said that it is withdrawn.
    ``helps``: it is a maker's own helper plugin on sites, for these products.
    """

    id: ProductId
    kind: Kind
    name: str
    access: Access
    major_place: Annotated[int, Field(ge=1)] = 1
    maker: str = ""
    feed: Slug | None = None
    folders: tuple[Slug, ...] = ()
    withdrawn_at: datetime | None = None
    withdrawn_text: str = ""
    helps: tuple[ProductId, ...] = ()


class ProductChange(Value):
    """What a person sets of a product; None leaves it as it is."""

    model_config = example(name="Millrace", major_place=2)

    name: str | None = None
    access: Access | None = None
    major_place: Annotated[int, Field(ge=1)] | None = None
    maker: str | None = None
    folders: tuple[Slug, ...] | None = None
    helps: tuple[ProductId, ...] | None = None
