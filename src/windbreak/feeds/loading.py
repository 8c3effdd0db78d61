"""Bytes to JSON, whatever a maker sends: refused in one way, and fit to be kept."""

from __future__ import annotations

import json
from typing import Any

from windbreak.feeds.errors import FeedUnreadable


def load_json(body: bytes) -> Any:
    """The document of a body. Raises FeedUnreadable.

    Half characters (lone surrogates), which no database and no answer of ours can hold, become
    question marks.
    """
    try:
        document = json.loads(body)
        return _whole(document) if b"\\u" in body.lower() else document
    except (ValueError, RecursionError) as error:
        raise FeedUnreadable(f"the answer is not JSON: {error}") from None


def _whole(said: Any) -> Any:
    if isinstance(said, str):
        return said.encode("utf-8", "replace").decode()
    if isinstance(said, list):
        return [_whole(one) for one in said]
    if isinstance(said, dict):
        return {_whole(key): _whole(value) for key, value in said.items()}
    return said
