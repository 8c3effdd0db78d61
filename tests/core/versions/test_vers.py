"""Ranges in the notation of package URLs."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from windbreak.core.errors import RangeError
from windbreak.core.versions.ranges import Ladder, parse_range
from windbreak.core.versions.vers import from_vers, to_vers
from windbreak.core.versions.version import parse_version

VERSIONS = ["0", "1.0", "1.0.5", "1.2", "2.0", "2.1", "3.0", "3.5", "4", "10"]


class Writing(unittest.TestCase):
    def test_ranges_are_written_as_rows_of_rising_versions(self) -> None:
        for ours, theirs in [
            (">=5.0,<6", "vers:generic/>=5.0|<6"),
            ("=6.3 || >=5.0,<6", "vers:generic/>=5.0|<6|6.3"),
            ("<2", "vers:generic/<2"),
            ("*", "vers:generic/*"),
            ("6.*", "vers:generic/>=6|<7"),
            ("!=1.4", "vers:generic/!=1.4"),
            ("1.4", "vers:generic/1.4"),
        ]:
            with self.subTest(ours=ours):
                self.assertEqual(to_vers(ours), theirs)

    def test_what_the_notation_cannot_say_is_refused(self) -> None:
        with self.assertRaises(RangeError):
            to_vers(">=1,<5 || >=3,<9")


class Reading(unittest.TestCase):
    def test_what_is_not_in_the_notation_is_refused_and_quoted(self) -> None:
        for text, part in [
            ("generic/>=1", "begins as vers:generic/"),
            ("vers:generic/~1", "expected one of"),
            ("vers:generic/>=2|<1", "must rise"),
            ("vers:generic/>=1|>=2|<3", "does not end"),
        ]:
            with self.subTest(text=text), self.assertRaises(RangeError) as caught:
                from_vers(text)
            self.assertIn(part, str(caught.exception))
            self.assertIn(text, str(caught.exception))

    @given(st.lists(st.sampled_from(VERSIONS), min_size=1, max_size=4, unique=True))
    def test_a_range_out_and_in_again_admits_the_same(self, chosen: list[str]) -> None:
        marks = sorted(chosen, key=lambda v: parse_version(v).key)
        pairs = [f">={a},<{b}" for a, b in zip(marks[::2], marks[1::2], strict=False)]
        if len(marks) % 2:
            pairs.append(f"={marks[-1]}")
        ours = " || ".join(pairs)
        again = from_vers(to_vers(ours))
        for text in VERSIONS:
            version = parse_version(text)
            self.assertEqual(version in parse_range(ours), version in parse_range(again), text)


class Ladders(unittest.TestCase):
    @given(
        st.lists(
            st.sampled_from(
                ["1.0-beta", "1.0", "1.0pl1", "1.5rc1", "2.0-dev", "2.0", "2.1", "7-rc2", "7", "8"]
            ),
            unique=True,
        ),
        st.sampled_from(
            [
                "<2.0",
                "<=2",
                ">1.0",
                ">=1.5rc1",
                "!=2.0",
                "2.*",
                "*",
                "<7-rc3",
                "<7,>1 || =8",
                "=2.0",
            ]
        ),
    )
    def test_a_range_found_by_halves_is_the_range_by_membership(
        self, texts: list[str], wanted: str
    ) -> None:
        versions = sorted((parse_version(t) for t in texts), key=lambda v: v.key)
        range_ = parse_range(wanted)
        expected = sum(1 << k for k, v in enumerate(versions) if v in range_)
        self.assertEqual(Ladder(versions).mask(range_), expected)
