"""What the client raises.

ClientError
  Unreachable      the service gave no answer
  Problem          the service said no, with problem details
    NotPermitted     sign in, or this is not yours to do
"""

from __future__ import annotations

from typing import Any


class ClientError(Exception):
    """The service could not be used, or said no."""


class Unreachable(ClientError):
    """The service gave no answer."""

    def __init__(self, address: str, reason: str) -> None:
        self.address, self.reason = address, reason
        super().__init__(f"the service at {address} gives no answer: {reason}")


class StillAtWork(ClientError):
    """The service took what it was asked, and has not answered yet: a site may have hung. What was
    asked for may still be done.
    """

    def __init__(self, address: str, seconds: float) -> None:
        self.address, self.seconds = address, seconds
        super().__init__(
            f"the service at {address} took it and has not answered within {seconds:.0f} s: a "
            "site may hang. It may still be done; look again: windbreak today"
        )


class Problem(ClientError):
    """The service said no; ``details`` are its problem details (RFC 9457)."""

    def __init__(self, status: int, details: dict[str, Any]) -> None:
        self.status, self.details = status, details
        self.code = str(details.get("code", "unknown"))
        super().__init__(str(details.get("detail") or f"status {status}"))


class NotPermitted(Problem):
    """Sign in, or this is not yours to do."""
