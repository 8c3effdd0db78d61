"""What a person may mean by a name."""

from __future__ import annotations

from typing import Literal

from windbreak.core.values.basics import Value

Kind = Literal["site", "product"]


class Named(Value):
    """A site or a product by its id and the name that people call it."""

    id: str
    name: str
