"""Markup from outside: what it tells, and that whatever it holds comes to an end."""

import unittest

from windbreak.feeds.changelog import entries
from windbreak.outside.markup import bare, with_marks

# Each of these held a reader for minutes, or for ever, at a hundredth of this length.
HOSTILE = ("<a ", "<!--", "<![CDATA[", "</a", "<?x", "<!x", "<p", "<", "<a a='", "&#", "[[[")
BYTES = 2_000_000


class Markup(unittest.TestCase):
    def test_a_page_tells_its_title_its_headings_and_its_blocks(self) -> None:
        page = "<title>Tom &amp; Jo</title><h1> At sea </h1><p>x<div data-block=1>y</div>"
        self.assertEqual(with_marks(page), (("Tom & Jo", "At sea"), 1))
        self.assertEqual(with_marks(""), ((), 0))

    def test_a_changelog_is_told_by_its_lines(self) -> None:
        text = "<ul><li>Fixed a &amp; b</li><li>New: <b>oars</b></ul>plain<br>less"
        lines = [line for line in bare(text).splitlines() if line]
        self.assertEqual(lines, ["Fixed a & b", "New: oars", "plain", "less"])
        self.assertEqual(bare("1 &lt; 2 > 0"), "1 < 2 > 0")

    def test_whatever_a_page_holds_it_is_read_to_its_end(self) -> None:
        for part in HOSTILE:
            with self.subTest(part):
                with_marks(part * (BYTES // len(part)))
                entries(part * (BYTES // len(part)), {})


if __name__ == "__main__":
    unittest.main()
