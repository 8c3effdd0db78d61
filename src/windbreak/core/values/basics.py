"""What all values are made of: frozen models, ids, texts that are checked, the states.

A ``Frozen`` is read strictly, as a case file is; a ``Value`` leniently, as the API is. Instants are
aware and in UTC; ``None`` for an instant means that it has not happened.
"""

from __future__ import annotations

import re
from datetime import date, datetime
from functools import lru_cache
from typing import Annotated, Any, Final, Literal

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    JsonValue,
)

from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version

# What an advisory weighs in the exposure of a choice.
SEVERITY: Final = {"critical": 64, "high": 16, "medium": 4, "low": 1}


# The same few texts stand in a case thousands of times: each is looked at once.
_MOST_TEXTS = 65_536


Kind = Literal["core", "theme", "plugin", "runtime"]


Access = Literal["public", "licensed", "bundled-only", "custom", "host"]


Channel = Literal["stable", "preview"]


Match = Literal["exact", "minor", "major"]


Severity = Literal["low", "medium", "high", "critical"]


@lru_cache(maxsize=_MOST_TEXTS)
def _is_version(text: str) -> str:
    parse_version(text)
    return text


@lru_cache(maxsize=_MOST_TEXTS)
def _is_range(text: str) -> str:
    parse_range(text)
    return text


def _is_day(value: object) -> object:
    if isinstance(value, str):
        try:
            if len(value) == 10:
                return date.fromisoformat(value)
        except ValueError:
            pass
        raise ValueError(f"{value!r} is not a date; write it as 2026-11-24")
    if isinstance(value, date) and not isinstance(value, datetime):
        return value
    raise ValueError("expected a date, as 2026-11-24")


def _is_instant(value: object) -> object:
    if isinstance(value, str):
        try:
            read = datetime.fromisoformat(value) if "T" in value.upper() else None
        except ValueError:
            read = None
        if read is not None and read.tzinfo is not None:
            return read
        raise ValueError(f"{value!r} is not an instant; write it as 2026-11-24T01:10:00Z")
    if isinstance(value, datetime):
        return value
    raise ValueError("expected an instant, as 2026-11-24T01:10:00Z")


@lru_cache(maxsize=_MOST_TEXTS)
def _is_id(text: str) -> str:
    kind, slash, slug = text.partition("/")
    if kind not in ("core", "theme", "plugin", "runtime") or not slash or not slug.strip():
        raise ValueError(f"{text!r} is not a product id; write it as plugin/oarlock")
    return text


VersionText = Annotated[str, AfterValidator(_is_version)]


RangeText = Annotated[str, AfterValidator(_is_range)]


Day = Annotated[date, BeforeValidator(_is_day)]


Instant = Annotated[AwareDatetime, BeforeValidator(_is_instant)]


ProductId = Annotated[str, AfterValidator(_is_id)]


class Frozen(BaseModel):
    """A value that can't be changed and has no keys but its own."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)

    # Thousands of these travel to other processes and back: only what a value is goes along.
    def __getstate__(self) -> dict[Any, Any]:
        return self.__dict__

    def __setstate__(self, state: dict[Any, Any]) -> None:
        put = object.__setattr__
        put(self, "__dict__", state)
        put(self, "__pydantic_fields_set__", set(state))
        put(self, "__pydantic_extra__", None)
        put(self, "__pydantic_private__", None)


ALIASED = ConfigDict(
    frozen=True, extra="forbid", strict=True, populate_by_name=True, serialize_by_alias=True
)  # of a frozen value with a key that is a word of the language: "from", "class"


class Value(BaseModel):
    """A value that can't be changed and has no keys but its own; read leniently from JSON."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", populate_by_name=True, serialize_by_alias=True
    )


def example(**fields: JsonValue) -> ConfigDict:
    """The configuration of a value that shows what it looks like, from the demo fleet."""
    return ConfigDict(json_schema_extra={"examples": [dict(fields)]})


_SLUG = re.compile(r"-*[a-z0-9][a-z0-9-]*")
_ADDRESS = re.compile(r"https?://\S*")


def _is_slug(text: str) -> str:
    if len(text) > 80 or _SLUG.fullmatch(text) is None:
        raise ValueError(f"{text!r} is not an id; use small letters, digits and hyphens")
    return text


def _is_address(text: str) -> str:
    bare = text.strip().rstrip("/")
    if _ADDRESS.fullmatch(bare) is None:
        raise ValueError(f"{text!r} is not an address; write it as https://tarnsey-harbour.example")
    return bare


def _is_zone(text: str) -> str:
    from zoneinfo import ZoneInfo

    try:
        ZoneInfo(text)
    except (KeyError, ValueError, OSError):
        raise ValueError(f"{text!r} is not a time zone; write it as Europe/London") from None
    return text


def _is_hour(text: str) -> str:
    hour, colon, minute = text.partition(":")
    if not (colon and hour.isdigit() and minute.isdigit() and len(minute) == 2):
        raise ValueError(f"{text!r} is not a time of day; write it as 01:00")
    if int(hour) > 24 or int(minute) > 59 or (int(hour) == 24 and int(minute)):
        raise ValueError(f"{text!r} is not a time of day; write it as 01:00")
    return text


Slug = Annotated[str, AfterValidator(_is_slug)]


Address = Annotated[str, AfterValidator(_is_address)]


Zone = Annotated[str, AfterValidator(_is_zone)]


Hour = Annotated[str, AfterValidator(_is_hour)]


State = Literal[
    "exposed", "failed", "blocked", "unknown", "running", "waiting", "ready", "held", "clear"
]


WORST_FIRST: tuple[State, ...] = (
    "exposed",
    "failed",
    "blocked",
    "unknown",
    "running",
    "waiting",
    "ready",
    "held",
    "clear",
)
