"""Charts of pairs of products: which versions go together, and the way through."""

from __future__ import annotations

from typing import Literal

from windbreak.core.values.basics import ProductId, Value


class Side(Value):
    """One product's versions, lowest first; a note where one is not to be had."""

    product: ProductId
    name: str
    versions: tuple[str, ...]
    notes: tuple[str, ...]


class Cell(Value):
    """Whether two versions go together, and why not."""

    state: Literal["works", "forbidden", "not to be had"]
    why: str = ""


class Stop(Value):
    """Where the pair stands after a step (0: today); ``step`` is its number in the plan."""

    column: int
    row: int
    step: int


class Chart(Value):
    """``cells[row][column]``; ``path`` leads from today to where the plan ends."""

    across: Side
    down: Side
    cells: tuple[tuple[Cell, ...], ...]
    path: tuple[Stop, ...]
    text: str
