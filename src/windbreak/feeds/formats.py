"""The formats a feed may have: a new one is a module and a line here."""

from __future__ import annotations

from collections.abc import Callable

from windbreak.feeds import advisories, atom, recipe, release_feed
from windbreak.feeds.announced import Announced, Asked

FORMATS: dict[str, Callable[[Asked], Announced]] = {
    "release-feed": release_feed.read,
    "atom": atom.read,
    "recipe": recipe.read,
    "advisories": advisories.read,
}
