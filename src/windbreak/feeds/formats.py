"""The formats a feed may have: a new one is a module and a line here."""

from __future__ import annotations

from collections.abc import Callable

from windbreak.feeds import release_feed
from windbreak.feeds.fetching import Answer
from windbreak.feeds.release_feed import Announced

FORMATS: dict[str, Callable[[Answer], Announced]] = {"release-feed": release_feed.read}
