"""Sets of options as bits of an integer."""

from __future__ import annotations

from collections.abc import Iterator


def bits(mask: int) -> Iterator[int]:
    """The numbers of the bits of a mask, lowest first."""
    while mask:
        low = mask & -mask
        yield low.bit_length() - 1
        mask ^= low
