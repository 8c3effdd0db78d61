"""The time by the clock of the service that was asked: one's own may be wrong, and a demo's may be
put ahead.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from windbreak.client import Windbreak

_asked: list[Windbreak] = []


def follow(library: Windbreak) -> None:
    """Go by what a service tells of its time from now on."""
    _asked[:] = [library]


def now() -> datetime:
    """The time by the service's clock, in UTC; by our own where none was asked."""
    own = datetime.now(UTC)
    return own + _asked[0].ahead if _asked else own
