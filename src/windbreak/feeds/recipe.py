"""The ``recipe`` format: any JSON a maker serves, read by a recipe."""

from __future__ import annotations

from windbreak.feeds import recipes
from windbreak.feeds.announced import Announced, Asked
from windbreak.feeds.errors import FeedUnreadable


def read(asked: Asked) -> Announced:
    """Read a feed's answer. Raises FeedUnreadable, also when the recipe is not there."""
    if asked.recipe is None:
        raise FeedUnreadable(f"its recipe {asked.reading.recipe!r} is not there")
    outcome = recipes.apply(asked.recipe, asked.answer.body, asked.answer.url)
    if not outcome.announcements:
        raise FeedUnreadable(
            f"none of its {outcome.items} releases could be read; {outcome.faults[0]}"
        )
    return Announced(
        maker=asked.recipe.label,
        announcements=outcome.announcements,
        faults=outcome.faults,
        whole=not outcome.faults,
    )
