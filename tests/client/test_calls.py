"""Addresses of calls: an id stays in its place, whatever it holds."""

import unittest
from urllib.parse import unquote, urlsplit

from hypothesis import given
from hypothesis import strategies as st

from windbreak.client import calls


class Addresses(unittest.TestCase):
    @given(st.text(min_size=1).filter(lambda t: t.strip(".")))
    def test_an_id_is_one_step_of_the_address_and_comes_back_as_it_was(self, id: str) -> None:
        path = calls.site(id).path
        parts = urlsplit(path)
        self.assertEqual((parts.query, parts.fragment), ("", ""))
        steps = parts.path.split("/")
        self.assertEqual(len(steps), 3)
        self.assertEqual(unquote(steps[2]), id)

    def test_an_id_that_would_lead_elsewhere_is_refused(self) -> None:
        for id in ("", ".", ".."):
            with self.subTest(id=id), self.assertRaises(ValueError):
                calls.site(id)
