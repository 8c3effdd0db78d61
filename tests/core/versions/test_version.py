"""The order of versions, ranges, and jumps."""

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from windbreak.core.errors import RangeError, VersionError
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import jump, parse_version

IN_ORDER = (
    ["1.0foo", "1.0-dev", "1.0a1", "1.0-beta", "1.0b2", "1.0rc.0.dev", "1.0rc", "1.0rc1-dev"]
    + ["1.0rc1", "1.0rc2", "1.0", "1.0p", "1.0pl1", "1.0.1", "1.6", "1.60", "3.8", "3.18"]
    + ["3.18.1", "6.0.5", "6.0.6"]
)

EQUAL = [
    ("6.3", "6.3.0"),
    ("v6.3", "6.3"),
    (" 6.3 ", "V6.3"),
    ("6.0-5", "6.0.5"),
    ("2.0+build7", "2.0"),
    ("1.0ALPHA1", "1.0a1"),
    ("1.0foo", "1.0bar"),
    ("1.0rc", "1.0rc0"),
]

pieces = st.sampled_from(["0", "1", "2", "10", "rc", "a", "beta", "dev", "pl", "x", ".", "-"])
versions = (
    st.lists(pieces, min_size=1, max_size=7)
    .map("".join)
    .filter(lambda text: any(c.isdigit() for c in text))
)


class Order(unittest.TestCase):
    def test_every_pair_of_a_list_in_order_is_in_order(self) -> None:
        for (i, low), (j, high) in itertools.combinations(enumerate(IN_ORDER), 2):
            with self.subTest(low=low, high=high):
                self.assertLess(i, j)
                self.assertLess(parse_version(low), parse_version(high))

    def test_other_writings_of_one_version_are_equal(self) -> None:
        for a, b in EQUAL:
            with self.subTest(a=a, b=b):
                self.assertEqual(parse_version(a), parse_version(b))
                self.assertEqual(hash(parse_version(a)), hash(parse_version(b)))

    def test_the_raw_text_is_kept(self) -> None:
        self.assertEqual(str(parse_version(" v6.3 ")), " v6.3 ")

    def test_text_without_a_number_is_refused_by_name(self) -> None:
        for text in ("", "beta", "v", "+5"):
            with self.subTest(text=text), self.assertRaises(VersionError) as caught:
                parse_version(text)
            self.assertIn(repr(text), str(caught.exception))

    @given(versions, versions, versions)
    def test_the_order_is_total_and_transitive(self, a: str, b: str, c: str) -> None:
        x, y, z = map(parse_version, (a, b, c))
        self.assertEqual([x < y, x == y, x > y].count(True), 1)
        if x <= y <= z:
            self.assertLessEqual(x, z)

    @given(versions, versions)
    def test_places_compare_one_by_one_as_the_rule_says(self, a: str, b: str) -> None:
        """Rule 4: place by place after the release part, nothing counting as 0."""
        x, y = parse_version(a), parse_version(b)
        if x.release == y.release:
            self.assertEqual(x < y, _padded(a) < _padded(b), (a, b))


def _padded(text: str) -> list[tuple[int, int]]:
    import re

    ranks = {"dev": 1, "a": 2, "alpha": 2, "b": 3, "beta": 3, "rc": 4, "pl": 6, "p": 6}
    tail: list[tuple[int, int]] = []
    for run in re.findall(r"[0-9]+|[a-z]+", text.split("+")[0]):
        if run.isdigit():
            if tail:
                tail.append((5, int(run)))
        else:
            tail.append((ranks.get(run, 0), 0))
    return tail + [(5, 0)] * (20 - len(tail))


class Ranges(unittest.TestCase):
    def test_membership(self) -> None:
        for text, inside, outside in [
            (">=5.0,<6", ["5.0", "5.9.9"], ["4.9", "6.0", "6.0-beta1"]),
            ("<7", ["6.9"], ["7.0-beta1", "7.0"]),
            ("<7.0-beta2", ["7.0-beta1", "6.9"], ["7.0-beta2", "7.0"]),
            ("<=7", ["7.0-beta1", "7.0"], ["7.0.1"]),
            ("6.*", ["6.0", "6.5.1", "6.0-rc1"], ["5.9", "7"]),
            ("6.0.*", ["6", "6.0.9"], ["6.1"]),
            ("*", ["0", "99"], []),
            ("1.60", ["1.60.0"], ["1.6"]),
            ("!=2 , >1", ["1.5", "3"], ["2.0", "1"]),
            ("<3 || >=5", ["2", "5"], ["4"]),
            ("= 4", ["4.0"], ["4.1"]),
        ]:
            for version in inside:
                with self.subTest(range=text, version=version):
                    self.assertIn(parse_version(version), parse_range(text))
            for version in outside:
                with self.subTest(range=text, version=version):
                    self.assertNotIn(parse_version(version), parse_range(text))

    def test_a_broken_range_is_quoted_and_its_place_named(self) -> None:
        for text, place in [
            ("", 0),
            (">=5,,<3", 4),
            ("~1.2", 0),
            (">=1 <2", 3),
            ("=>2", 1),
            (">=", 2),
            (">=6.*", 2),
            ("5 ||", 4),
            ("abc", 0),
            ("rc.*", 0),
        ]:
            with self.subTest(range=text), self.assertRaises(RangeError) as caught:
                parse_range(text)
            self.assertEqual(caught.exception.place, place)
            self.assertIn(repr(text), str(caught.exception))

    @given(versions, versions)
    def test_ranges_agree_with_the_order(self, a: str, b: str) -> None:
        x = parse_version(a)
        if not b[0].isalnum():
            return
        y = parse_version(b)
        self.assertEqual(x in parse_range(f">={b}"), x >= y)
        self.assertEqual(x in parse_range(f">{b}"), x > y)
        self.assertEqual(x in parse_range(f"!={b}"), x != y)


class Jumps(unittest.TestCase):
    def test_the_first_place_that_differs_decides(self) -> None:
        for start, end, place, expected in [
            ("5.9", "6.0", 1, "major"),
            ("6.3", "6.4", 1, "minor"),
            ("6.3", "6.3.1", 1, "patch"),
            ("6.3", "6.4", 2, "major"),
            ("6.3", "6.3.1", 2, "minor"),
            ("6.3.1", "6.3.1.1", 2, "patch"),
            ("6.3rc1", "6.3", 1, "patch"),
            ("6", "6.0.0.1", 1, "patch"),
        ]:
            with self.subTest(start=start, end=end, place=place):
                self.assertEqual(jump(parse_version(start), parse_version(end), place), expected)
