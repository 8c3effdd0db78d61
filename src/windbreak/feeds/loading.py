"""Bytes to JSON, whatever a maker sends."""

from __future__ import annotations

from typing import Any

from windbreak.feeds.errors import FeedUnreadable
from windbreak.outside.reading import read_json


def load_json(body: bytes) -> Any:
    """The document of a body. Raises FeedUnreadable."""
    try:
        return read_json(body)
    except ValueError as error:
        raise FeedUnreadable(f"the answer is not JSON: {error}") from None
