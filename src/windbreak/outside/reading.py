"""JSON from outside: whatever is sent, it is refused in one way, or fit to be kept."""

from __future__ import annotations

import json
from typing import Any

from pydantic_core import from_json

DEEPEST = 200  # levels of objects and lists in each other: as many as the parser takes


def read_json(body: bytes) -> Any:
    """The document of a body. Raises ValueError.

    Half characters (lone surrogates), which no database and no answer of ours can hold, become
    question marks.
    """
    try:
        return from_json(body, allow_inf_nan=False)
    except ValueError:
        return _whole(_odd(body))


def _odd(body: bytes) -> Any:
    """What the parser does not take: text in another encoding, half characters, and no JSON."""
    try:
        document = json.loads(body)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    _not_deeper(document)
    return document


def _not_deeper(document: Any) -> None:
    level = [document]
    for _ in range(DEEPEST):
        level = [
            value
            for container in level
            if isinstance(container, (dict, list))
            for value in (container.values() if isinstance(container, dict) else container)
            if isinstance(value, (dict, list))
        ]
        if not level:
            return
    raise ValueError(f"it is nested more than {DEEPEST} levels deep")


def _whole(value: Any) -> Any:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, list):
        return [_whole(item) for item in value]
    if isinstance(value, dict):
        return {_whole(key): _whole(item) for key, item in value.items()}
    return value
