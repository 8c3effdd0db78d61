"""JSON from outside: how deep it may be, and what can't be kept."""

import json
import unittest

from windbreak.outside.reading import DEEPEST, read_json


def nested(levels: int) -> bytes:
    return b'{"a":' * levels + b"1" + b"}" * levels


class Reading(unittest.TestCase):
    def test_it_is_as_deep_as_allowed_and_no_deeper(self) -> None:
        self.assertIn("a", read_json(nested(DEEPEST)))
        for body in (nested(DEEPEST + 2), b"[" * 400 + b"]" * 400, b"[" * 100_000):
            with self.subTest(body=body[:6]), self.assertRaises(ValueError) as caught:
                read_json(body)
            self.assertIn("nested", str(caught.exception))
        for odd in ('"\\ud800"', '"x"'):  # which two ways of reading take
            body = nested(DEEPEST - 1).replace(b"1", odd.encode())
            self.assertIn("a", read_json(body))

    def test_half_characters_become_question_marks(self) -> None:
        self.assertEqual(read_json(b'{"a\\ud800": ["\\udfff", "\\u00e9"]}'), {"a?": ["?", "é"]})
        self.assertEqual(json.dumps(read_json(b'"\\ud83d\\ude00"')), '"\\ud83d\\ude00"')

    def test_what_is_no_json_is_refused(self) -> None:
        self.assertEqual(read_json('{"a": "é"}'.encode("utf-16")), {"a": "é"})
        for body in (b"", b"{", b"\xff", b"nonsense"):
            with self.subTest(body=body), self.assertRaises(ValueError):
                read_json(body)
