import sys

# The HTTP library loads its own command beside it, where that can be loaded: a third of its time,
# which a terminal waits for. A module that is None there can't be, as Python's documents say.
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]

from windbreak.client.errors import ClientError, NotPermitted, Problem, Unreachable  # noqa: E402
from windbreak.client.library import AsyncWindbreak, Windbreak  # noqa: E402

__all__ = ["AsyncWindbreak", "ClientError", "NotPermitted", "Problem", "Unreachable", "Windbreak"]
