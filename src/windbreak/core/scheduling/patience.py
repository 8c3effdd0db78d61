"""How long a search may go on: until whoever asked for it says no.

The core has no clock. Who has one gives a function that says whether to go on; it is asked now and
then, and never again once it has said no.
"""

from __future__ import annotations

from collections.abc import Callable

_EVERY = 64  # how many times it lasts between two questions


class Patience:
    """The patience of one search. ``go_on`` None: it lasts until the search rests."""

    __slots__ = ("_go_on", "_left", "ended")

    def __init__(self, go_on: Callable[[], bool] | None = None) -> None:
        self._go_on = go_on
        self._left = 0
        self.ended = False

    def lasts(self) -> bool:
        """Whether to go on."""
        if self._go_on is None or self.ended:
            return not self.ended
        if self._left == 0:
            self.ended = not self._go_on()
            self._left = _EVERY
        self._left -= 1
        return not self.ended


ALL = Patience()
"""That of a search which goes on until it rests."""
