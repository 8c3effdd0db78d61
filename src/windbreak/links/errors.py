"""What goes wrong with a site.

LinkError
  Unreachable     no answer came
  KeyRefused      the agent turned our key away
  NotTheAgent     an answer that this site's agent did not sign
  CallFailed      the agent could not do what it was asked; a fixed code says why
"""

from __future__ import annotations

from typing import Literal, get_args

FailureCode = Literal[
    "folder-exists",
    "wrong-archive",
    "fetch-failed",
    "checksum",
    "timed-out",
    "no-room",
    "not-writable",
    "stale-record",
    "already-there",
    "breaks-site",
    "busy",
    "not-permitted",
    "unknown",
]
FAILURE_CODES: tuple[str, ...] = get_args(FailureCode)


class LinkError(Exception):
    """A site's agent could not be used."""

    code = "link"


class Unreachable(LinkError):
    """No answer came; ``sent`` tells whether the request may have arrived."""

    code = "site-unreachable"

    def __init__(self, text: str, *, sent: bool = True) -> None:
        self.sent = sent
        super().__init__(text)


class KeyRefused(LinkError):
    """The agent turned our key away."""

    code = "key-refused"


class NotTheAgent(LinkError):
    """An answer that this site's agent did not sign."""

    code = "not-the-agent"


class CallFailed(LinkError):
    """The agent could not do what it was asked."""

    code = "call-failed"

    def __init__(self, failure: str, detail: str) -> None:
        self.failure, self.detail = failure, detail
        super().__init__(f"{failure}: {detail}" if detail else failure)
