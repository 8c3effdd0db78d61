"""What an operation refuses; each has a fixed code, and its text says what would be right.

OperationError
  Refused         what was asked can't be done as things stand
  NotPermitted    whoever asks may not
"""

from __future__ import annotations


class OperationError(Exception):
    """Something that was asked is not done."""

    code = "operation"


class Refused(OperationError):
    """What was asked can't be done as things stand; nothing was changed."""

    def __init__(self, code: str, text: str) -> None:
        self.code = code
        super().__init__(text)


class NotPermitted(OperationError):
    """Whoever asks may not."""

    code = "not-permitted"
