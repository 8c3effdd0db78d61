"""The clock of the stand-ins: that of the service, which a demo may put ahead."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from windbreak.operations.administration.clocks import shifted

VARIABLE = "WINDBREAK_CLOCK_FILE"


def _clock() -> Callable[[], datetime]:
    file = os.environ.get(VARIABLE)
    return shifted(Path(file)) if file else lambda: datetime.now(UTC)


now = _clock()
