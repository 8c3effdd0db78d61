"""JSON from outside: whatever is sent, it is refused in one way, or fit to be kept."""

from __future__ import annotations

import json
from typing import Any

DEEPEST = 64  # levels of objects and lists in each other; nobody's documents need more


def read_json(body: bytes, *, deepest: int = DEEPEST) -> Any:
    """The document of a body. Raises ValueError.

    Half characters (lone surrogates), which no database and no answer of ours can hold, become
    question marks.
    """
    try:
        document = json.loads(body)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    _not_deeper(document, deepest)
    return _whole(document) if b"\\u" in body.lower() else document


def _not_deeper(document: Any, deepest: int) -> None:
    level = [document]
    for _ in range(deepest):
        level = [
            value
            for one in level
            if isinstance(one, (dict, list))
            for value in (one.values() if isinstance(one, dict) else one)
            if isinstance(value, (dict, list))
        ]
        if not level:
            return
    raise ValueError(f"it is nested more than {deepest} levels deep")


def _whole(value: Any) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, list):
        return [_whole(item) for item in value]
    if isinstance(value, dict):
        return {_whole(key): _whole(item) for key, item in value.items()}
    return value
