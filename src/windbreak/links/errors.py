"""What goes wrong with a site.

LinkError
  Unreachable     no answer came
  UnderWay        the change was begun; it is followed by its id
  Unfit           what came can't be used: too large, too deep, or it leads elsewhere
    TooLarge      the site takes no request as large as ours
  KeyRefused      the agent turned our key away
  ClockOff        its clock and ours are too far apart for signatures to be taken
  NotTheAgent     an answer that this site's agent did not sign
  CallFailed      the agent could not do what it was asked; a fixed code says why
    Superseded    it obeys a newer driver than this service
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
    "not-as-expected",
    "own-files-changed",
    "breaks-site",
    "busy",
    "not-permitted",
    "superseded",
    "unknown",
]
FAILURE_CODES: tuple[str, ...] = get_args(FailureCode)


class LinkError(Exception):
    """A site's agent could not be used."""

    code = "link"


class Unreachable(LinkError):
    """No answer came; ``sent`` tells whether the request may have arrived, ``late`` that it was
    waited for in vain.
    """

    code = "site-unreachable"

    def __init__(self, text: str, *, sent: bool = True, late: bool = False) -> None:
        self.sent, self.late = sent, late
        super().__init__(text)


class UnderWay(LinkError):
    """The change was begun, and is not yet done; it is followed by its id."""

    code = "under-way"


class Unfit(LinkError):
    """What came can't be used: too large, too deep, or it leads elsewhere."""

    code = "answer-unfit"


class TooLarge(Unfit):
    """The site takes no request as large as one of ``size`` bytes."""

    def __init__(self, size: int) -> None:
        self.size = size
        super().__init__(
            f"its web server takes no request of {size // 1024:,} kB (status 413): "
            "have its limit on what is posted raised"
        )


class ClockOff(LinkError):
    """The site's clock and ours are too far apart; ``seconds`` it is ahead, below 0 behind."""

    code = "clock-off"

    def __init__(self, seconds: float) -> None:
        self.seconds = seconds
        super().__init__(f"its clock is {clock_text(seconds)}")


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


class Superseded(CallFailed):
    """The agent obeys a newer driver: another service has taken its site over."""

    def __init__(self, detail: str) -> None:
        super().__init__("superseded", detail)


def clock_text(seconds: float) -> str:
    """How far a clock is off, in words: "8 s behind"."""
    off = abs(round(seconds))
    how = f"{off} s" if off < 120 else f"{off // 60} min"
    return f"{how} {'ahead' if seconds > 0 else 'behind'}"
