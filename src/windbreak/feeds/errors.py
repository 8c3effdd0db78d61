"""What goes wrong with a feed.

FeedError
  FeedUnreachable   no answer, or one that can't be used
  FeedRefused       the maker turned the credential away
  FeedUnreadable    the answer is not what the feed's format says
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
