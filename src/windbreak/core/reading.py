"""Documents of JSON that are read whole or refused whole: faults, each with its path."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterable, Iterator

from pydantic import ValidationError

from windbreak.core.errors import CoreError, Fault


def json_of(text: str | bytes, refused: Callable[[list[Fault]], CoreError]) -> object:
    """The JSON of a text, in which no key stands twice. Raises what ``refused`` makes of faults."""
    try:
        return json.loads(text, object_pairs_hook=_no_twins, parse_constant=_no_constant)
    except _Twin as twin:
        fault = Fault("$", f"the key {twin.key!r} stands twice in one object")
    except (ValueError, RecursionError) as error:
        fault = Fault("$", f"this is not JSON: {error}")
    raise refused([fault])


def objects(items: object) -> Iterator[tuple[int, dict[str, object]]]:
    """The objects of a JSON list, with their places; nothing of what is no list."""
    for i, item in enumerate(items if isinstance(items, list) else ()):
        if isinstance(item, dict):
            yield i, item


class _Twin(Exception):
    def __init__(self, key: str) -> None:
        self.key = key


def _no_twins(pairs: list[tuple[str, object]]) -> dict[str, object]:
    members: dict[str, object] = {}
    for key, value in pairs:
        if key in members:
            raise _Twin(key)
        members[key] = value
    return members


def _no_constant(name: str) -> object:
    raise ValueError(f"{name} is not JSON")


def path_of(parts: Iterable[object]) -> str:
    """Where something stands in a document: ``$.releases[3].version``."""
    path = "$"
    for part in parts:
        if isinstance(part, int):
            path += f"[{part}]"
        elif isinstance(part, str) and part.replace("_", "").isalnum():
            path += f".{part}"
        elif part != "[key]":
            path += f"[{json.dumps(part)}]"
    return path


def model_faults(error: ValidationError, without: Collection[str] = ()) -> Iterator[Fault]:
    """What pydantic found, each with its path; ``without`` parts that only it knows."""
    for fault in error.errors(include_url=False):
        reason = fault["msg"]
        context = fault.get("ctx") or {}
        cause = context.get("error")
        if isinstance(cause, CoreError):
            reason = str(cause)
        elif fault["type"] == "extra_forbidden":
            reason = "this key is unknown"
        elif fault["type"] == "missing":
            reason = "required, but missing"
        elif cause is not None:
            reason = str(cause)
        place = (part for part in fault["loc"] if part not in without)
        yield Fault(path_of(place), reason)
