from windbreak.client.errors import ClientError, NotPermitted, Problem, Unreachable
from windbreak.client.library import AsyncWindbreak, Windbreak

__all__ = ["AsyncWindbreak", "ClientError", "NotPermitted", "Problem", "Unreachable", "Windbreak"]
