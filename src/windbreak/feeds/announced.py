"""What a look at a feed brings, whatever its format; and what a reader is given to read it."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import ProductId, Value
from windbreak.core.values.feeds import Reading
from windbreak.core.values.releases import Announcement
from windbreak.feeds.fetching import Fetched
from windbreak.feeds.recipes import Recipe


class Announced(Value):
    """What a feed's document says: releases, advisories, what was passed over, and of itself.

    ``withdrawn`` are products the maker says it has withdrawn, and its words. ``whole``: the
    document lists everything the feed has, so what is missing in it is gone; but for the products
    of ``unread``, of which something was passed over. ``next_url`` is where the document goes on.
    """

    maker: str | None = None
    announcements: tuple[Announcement, ...] = ()
    advisories: tuple[KnownAdvisory, ...] = ()
    faults: tuple[str, ...] = ()
    headline: dict[str, str] = {}
    withdrawn: dict[ProductId, str] = {}
    unread: tuple[str, ...] = ()
    check_url: str | None = None
    needs: tuple[str, ...] = ()
    whole: bool = True
    next_url: str | None = None

    def and_more(self, more: Announced) -> Announced:
        """This page with the next one after it."""
        return self.model_copy(
            update={
                "announcements": self.announcements + more.announcements,
                "advisories": self.advisories + more.advisories,
                "faults": self.faults + more.faults,
                "unread": self.unread + more.unread,
                "next_url": more.next_url,
                "whole": self.whole and more.whole,
            }
        )


Items = dict[str, tuple[bytes, Announcement]]  # as it was listed, as JSON, and as it was read


@dataclass(frozen=True)
class Asked:
    """A feed's answer with what is needed to read it.

    ``before`` holds the items of the look before, by their ids: one that is listed again just as it
    was is not read again. The reader puts those of this look into ``items``.
    """

    feed: str
    answer: Fetched
    reading: Reading = field(default_factory=Reading)
    recipe: Recipe | None = None
    at: datetime | None = None
    before: Items = field(default_factory=dict)
    items: Items = field(default_factory=dict)
