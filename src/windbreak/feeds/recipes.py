"""Recipes: how to read JSON that is a maker's own. TOML, with JSONPath (RFC 9535) inside.

The format is described in docs/formats.md. A recipe is read whole or refused with all its
faults. What one of the maker's items lacks costs that item only.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Annotated, Any, Literal
from urllib.parse import urljoin

import jsonpath_rfc9535 as jsonpath
from pydantic import AfterValidator, Field, ValidationError

from windbreak.core.values.basics import Address, Channel, ProductId, Value
from windbreak.core.values.feeds import SignIn
from windbreak.core.values.releases import Announcement, Attachment, Bundled, ChangeKind
from windbreak.feeds.changelog import entries, first_match, pattern
from windbreak.feeds.errors import FeedUnreadable, RecipeError
from windbreak.feeds.loading import load_json

MOST_ITEMS = 10_000


def _is_path(text: str) -> str:
    try:
        jsonpath.compile(text)
    except (jsonpath.JSONPathError, RecursionError) as error:
        raise ValueError(f"{text!r} is not a JSONPath: {error}") from None
    return text


def _is_pattern(text: str) -> str:
    pattern(text)
    return text


Path = Annotated[str, AfterValidator(_is_path)]
Pattern = Annotated[str, AfterValidator(_is_pattern)]
Dates = Literal["iso", "seconds", "milliseconds"]


class Fields(Value):
    """Where each thing stands in one release; only ``version`` and ``published`` are needed.

    ``requires`` and ``bundles`` give, for a product, where its range or version stands.
    """

    version: Path
    published: Path
    product: Path | None = None
    title: Path | None = None
    channel: Path | None = None
    package: Path | None = None
    sha256: Path | None = None
    size: Path | None = None
    changes: Path | None = None
    requires: dict[ProductId, Path] = {}
    bundles: dict[ProductId, Path] = {}


class Convert(Value):
    """Small conversions. ``version`` is a pattern whose first group (or whole) is the version;
    ``published`` is how a date is written: iso, seconds or milliseconds since 1970, or a form
    as "%d.%m.%Y"; ``product`` and ``channel`` say what the maker's names are here; ``changes``
    are patterns by kind, for a changelog that is text.
    """

    version: Pattern | None = None
    published: Dates | str = "iso"
    product: dict[str, ProductId] = {}
    channel: dict[str, Channel] = {}
    changes: dict[ChangeKind, Pattern] = {}


class Recipe(Value):
    """How to read one maker's JSON. ``product`` is what every release is of, where none says."""

    label: Annotated[str, Field(min_length=1)]
    address: Address
    sign_in: SignIn = "none"
    sign_in_name: str | None = None
    releases: Path
    product: ProductId | None = None
    fields: Fields
    convert: Convert = Convert()


class Read(Value):
    """What a recipe read from a document, and what was missing in it."""

    announcements: tuple[Announcement, ...]
    faults: tuple[str, ...]
    items: int


def read_recipe(text: str) -> Recipe:
    """A recipe from its TOML. Raises RecipeError with every fault."""
    try:
        return Recipe.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise RecipeError([str(error)]) from None
    except ValidationError as error:
        places = [(".".join(str(p) for p in e["loc"]) or "the whole", e) for e in error.errors()]
        raise RecipeError([f"{place}: {e['msg']}" for place, e in places]) from None


def apply(recipe: Recipe, body: bytes, url: str) -> Read:
    """Read a document by a recipe. Raises FeedUnreadable when it is no JSON or has no releases."""
    document = load_json(body)
    try:
        items = [n.value for n in jsonpath.find(recipe.releases, document)][:MOST_ITEMS]
    except (RecursionError, jsonpath.JSONPathError) as error:
        raise FeedUnreadable(f"{recipe.releases} can't be followed: {error}") from None
    if len(items) == 1 and isinstance(items[0], list):
        items = items[0][:MOST_ITEMS]
    if not items:
        raise FeedUnreadable(f"nothing lies at {recipe.releases}")
    announcements, faults = [], []
    for index, item in enumerate(items):
        try:
            announcements.append(_release(recipe, item, url))
        except ValidationError as error:
            faults += [
                f"release {index}, {'.'.join(str(p) for p in e['loc'])}: {e['msg']}"
                for e in error.errors()
            ]
        except (ValueError, FeedUnreadable) as error:
            faults.append(f"release {index}: {error}")
    return Read(announcements=tuple(announcements), faults=tuple(faults), items=len(items))


def _release(recipe: Recipe, item: Any, url: str) -> Announcement:
    fields, convert = recipe.fields, recipe.convert
    version = _version(convert, str(_needed(item, fields.version, "version")))
    product = _product(recipe, item)
    package = _at(item, fields.package)
    channel = str(_at(item, fields.channel) or "stable")
    size = _at(item, fields.size)
    return Announcement.model_validate(
        {
            "product": product,
            "version": version,
            "channel": convert.channel.get(channel, channel),
            "published": _day(convert.published, _needed(item, fields.published, "published")),
            "title": str(_at(item, fields.title) or f"{name_of(product)} {version}"),
            "package": Attachment(
                url=urljoin(url, str(package)),
                sha256=str(_at(item, fields.sha256) or "") or None,
                size=size if isinstance(size, int) else None,
            )
            if package
            else None,
            "changes": _changes(recipe, _at(item, fields.changes)),
            "requires": dict(_by_product(item, fields.requires)),
            "bundles": {
                p: Bundled(version=v).model_dump() for p, v in _by_product(item, fields.bundles)
            },
        }
    )


def name_of(product: str) -> str:
    """A product's name where nobody tells it: "Breakwater Keel" for plugin/breakwater-keel."""
    return product.partition("/")[2].replace("-", " ").title()


def _at(item: Any, path: str | None) -> Any:
    """What lies at a path in a release, or None."""
    if path is None:
        return None
    try:
        nodes = jsonpath.find(path, item)
    except (RecursionError, jsonpath.JSONPathError):
        return None
    return next((n.value for n in nodes), None)


def _needed(item: Any, path: str, name: str) -> Any:
    value = _at(item, path)
    if value is None or isinstance(value, (dict, list)):
        raise ValueError(f"no {name} at {path}")
    return value


def _version(convert: Convert, text: str) -> str:
    if convert.version is None:
        return text.strip()
    match = first_match(pattern(convert.version), text)
    if match is None:
        raise ValueError(f"no version in {text[:60]!r} by {convert.version}")
    return str(match.group(1) if match.re.groups else match.group()).strip()


def _product(recipe: Recipe, item: Any) -> str:
    product = _at(item, recipe.fields.product)
    if product is None:
        if recipe.product is None:
            raise ValueError("neither the release nor the recipe says what product it is")
        return recipe.product
    return recipe.convert.product.get(str(product), str(product))


def _day(form: str, value: Any) -> str:
    try:
        if form in ("seconds", "milliseconds"):
            seconds = float(value) / (1000 if form == "milliseconds" else 1)
            return datetime.fromtimestamp(seconds, UTC).date().isoformat()
        if form == "iso":
            return datetime.fromisoformat(str(value)).date().isoformat()
        return datetime.strptime(str(value), form).date().isoformat()
    except (ValueError, OverflowError, OSError, TypeError):
        raise ValueError(f"{str(value)[:40]!r} is not a date written as {form}") from None


def _changes(recipe: Recipe, value: Any) -> list[dict[str, Any]]:
    """Changes from text, from a list of lines, or from objects with ``kind`` and ``text``."""
    if isinstance(value, list):
        if all(isinstance(part, dict) for part in value):
            return value
        value = "\n".join(str(part) for part in value)
    return [c.model_dump() for c in entries(str(value), recipe.convert.changes)] if value else []


def _by_product(item: Any, paths: dict[str, str]) -> Iterator[tuple[str, str]]:
    for product, path in paths.items():
        value = _at(item, path)
        if isinstance(value, (str, int, float)):
            yield product, str(value)
