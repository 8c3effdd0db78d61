"""What goes wrong with what goes out."""

from __future__ import annotations


class NoticeError(Exception):
    """A notice was not taken."""

    code = "notice"
