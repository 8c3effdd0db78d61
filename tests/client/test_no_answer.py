"""A call without an answer: whether nobody is there, or somebody is still at work."""

from __future__ import annotations

import unittest

import httpx

from windbreak.client import transport
from windbreak.client.errors import StillAtWork, Unreachable


class NoAnswer(unittest.TestCase):
    def test_who_took_the_call_is_not_told_as_away(self) -> None:
        where = "http://127.0.0.1:8470"
        late = transport.unreachable(where, httpx.ReadTimeout("timed out"))
        self.assertIsInstance(late, StillAtWork)
        self.assertIn("took it and has not answered within 120 s", str(late))
        away = transport.unreachable(where, httpx.ConnectError("refused"))
        self.assertIsInstance(away, Unreachable)
        self.assertIn("gives no answer", str(away))
