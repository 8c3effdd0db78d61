"""Recipes by which a maker's own answers are read: kept in a folder, and tried before they are."""

from __future__ import annotations

from pathlib import Path

from windbreak.core.values.accounts import Principal
from windbreak.core.values.basics import Value
from windbreak.core.values.releases import Announcement
from windbreak.feeds import recipes
from windbreak.feeds.errors import FeedError, FeedUnreadable, RecipeError
from windbreak.feeds.fetching import Credential, fetch, origin
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.outside import way_out
from windbreak.store.sealing import trimmed


class TriedRecipe(Value):
    """What came of trying a recipe: what was asked, what came, what was read, what was missing."""

    asked: str
    came: str
    items: int
    found: tuple[Announcement, ...]
    missing: tuple[str, ...]
    text: str


def recipes_folder(context: Context) -> Path:
    folder = context.data / "recipes"
    folder.mkdir(exist_ok=True)
    return folder


def recipe_of(context: Context, name: str) -> recipes.Recipe:
    """A recipe of the recipes folder. Raises Refused when it is not there or can't be read."""
    path = recipes_folder(context) / f"{name}.toml"
    if not path.is_file():
        raise Refused("no-recipe", f"there is no recipe {name!r} in {path.parent}")
    try:
        return recipes.read_recipe(path.read_text())
    except (RecipeError, UnicodeDecodeError) as error:
        raise Refused("bad-recipe", f"{path.name}: {error}") from None


def put_recipe(context: Context, name: str, text: str, by: Principal) -> recipes.Recipe:
    """Keep a recipe under a name, in the place of one that was there. Writes. Raises Refused."""
    try:
        recipe = recipes.read_recipe(text)
    except RecipeError as error:
        raise Refused("bad-recipe", str(error)) from None
    path = recipes_folder(context) / f"{name}.toml"
    part = path.with_suffix(".part")
    part.write_text(text)
    part.replace(path)
    context.record(by.name, f"recipe {name} kept", name)
    return recipe


def try_recipe(context: Context, text: str, credential: str | None) -> TriedRecipe:
    """Ask by a recipe and read by it, keeping nothing. Raises Refused for the recipe's faults.

    The credential is shown to the recipe's own origin only.
    """
    try:
        recipe = recipes.read_recipe(text)
    except RecipeError as error:
        raise Refused("bad-recipe", str(error)) from None
    check_place(context, recipe.address)
    secret = trimmed(credential or "")
    if recipe.sign_in not in ("none", "site code") and not secret:
        raise Refused("no-credential", f"{recipe.label} asks for a credential ({recipe.sign_in})")
    shown = f" with a credential ({recipe.sign_in})" if secret else ""
    asked = f"GET {recipe.address}{shown}"
    own = frozenset([origin(recipe.address)])
    held = Credential(recipe.sign_in, recipe.sign_in_name or "", secret, own) if secret else None
    try:
        answer = fetch(context.out, recipe.address, credential=held)
    except FeedError as error:
        return TriedRecipe(
            asked=asked, came=f"{error}.", items=0, found=(), missing=(), text="Nothing was read."
        )
    kind = answer.headers.get("content-type", "no type")
    came = f"{len(answer.body):,} bytes, {kind}: {_beginning(answer.body, secret)}"
    try:
        read = recipes.apply(recipe, answer.body, answer.url)
    except FeedUnreadable as error:
        return TriedRecipe(
            asked=asked,
            came=came,
            items=0,
            found=(),
            missing=(str(error),),
            text="Nothing was read.",
        )
    return TriedRecipe(
        asked=asked,
        came=came,
        items=read.items,
        found=read.announcements,
        missing=read.faults,
        text=f"{len(read.announcements)} of {read.items} releases were read.",
    )


def _beginning(body: bytes, secret: str) -> str:
    text = " ".join(body[:600].decode("utf-8", "replace").split())
    return (text.replace(secret, "…") if secret else text)[:240]


def check_place(context: Context, url: str) -> None:
    host = origin(url)[1]
    if way_out.is_private(host) and not context.allowed:
        raise Refused(
            "private-network",
            f"{host} lies on a private network, where feeds are not read; the setting "
            "private_networks of the service can allow it",
        )
