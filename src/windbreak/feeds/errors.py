"""What goes wrong with a feed.

FeedError
  FeedUnreachable   no answer, or one that can't be used
  FeedRefused       the maker turned the credential away
  FeedUnreadable    the answer is not what the feed's format says
RecipeError         a recipe can't be read; all its faults at once
"""

from __future__ import annotations


class FeedError(Exception):
    """A feed could not be read."""

    code = "feed"


class FeedUnreachable(FeedError):
    """No answer came, or one that can't be used. ``retry_after`` in seconds, where said."""

    code = "feed-unreachable"

    def __init__(self, text: str, retry_after: float | None = None) -> None:
        self.retry_after = retry_after
        super().__init__(text)


class FeedRefused(FeedError):
    """The maker turned the credential away."""

    code = "feed-refused"


class FeedUnreadable(FeedError):
    """The answer is not what the feed's format says."""

    code = "feed-unreadable"


class RecipeError(ValueError):
    """A recipe can't be read. ``faults`` are all of them, each with its place."""

    code = "recipe"

    def __init__(self, faults: list[str]) -> None:
        self.faults = faults
        super().__init__("the recipe can't be read: " + "; ".join(faults))
