"""Archives: what is kept, and what is refused with found and expected."""

import io
import stat
import unittest
import zipfile

from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import examine
from windbreak.standins.catalogue import archive, find

HEADER = b'kind = "plugin"\nname = "Oarlock"\nversion = "7.2"\n'


def packed(files: dict[str, bytes]) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, data in files.items():
            opened.writestr(name, data)
    return made.getvalue()


class Examining(unittest.TestCase):
    def test_a_good_archive_tells_what_it_is(self) -> None:
        found = examine(packed({"oarlock/component.toml": HEADER, "oarlock/a.txt": b"x"}))
        self.assertEqual(found.header.product, "plugin/oarlock")
        self.assertEqual((found.header.version, found.header.name), ("7.2", "Oarlock"))

    def test_what_a_theme_carries_is_found_inside(self) -> None:
        made = find("theme/breakwater", "5.2")
        found = examine(archive(made), product="theme/breakwater", version="5.2")
        names = [name for name, _ in found.carried]
        self.assertEqual(names, ["foglamp-3.4.zip", "trestle-5.1.zip"])

    def test_each_refusal_says_what_was_found(self) -> None:
        link = io.BytesIO()
        with zipfile.ZipFile(link, "w") as opened:
            opened.writestr("oarlock/component.toml", HEADER)
            entry = zipfile.ZipInfo("oarlock/link")
            entry.external_attr = (stat.S_IFLNK | 0o777) << 16
            opened.writestr(entry, "/etc/passwd")
        good = {"oarlock/component.toml": HEADER}
        for data, part in [
            (b"no zip at all", "unreadable"),
            (packed({**good, "../up.txt": b""}), "../up.txt"),
            (packed({**good, "/etc/passwd": b""}), "/etc/passwd"),
            (packed({**good, "oarlock/../../x": b""}), "oarlock/../../x"),
            (packed({**good, "other/x": b""}), "2 root folders"),
            (packed({"oarlock/x": b""}), "no component.toml"),
            (packed({"oarlock/component.toml": b"kind = "}), "can't be read"),
            (packed({"oarlock/component.toml": b'kind="plugin"\nversion="x"'}), "version"),
            (packed({"oarlock/component.toml": b'kind="poem"\nversion="1"'}), "'poem'"),
            (packed({**good, "oarlock/bomb": b"\0" * 40_000_000}), "bomb"),
            (link.getvalue(), "a link"),
        ]:
            with self.subTest(part=part), self.assertRaises(PackageRefused) as caught:
                examine(data)
            self.assertIn(part, caught.exception.found)

    def test_it_must_be_what_it_was_fetched_for(self) -> None:
        data = packed({"oarlock/component.toml": HEADER})
        with self.assertRaises(PackageRefused):
            examine(data, product="plugin/sextant")
        with self.assertRaises(PackageRefused) as caught:
            examine(data, product="plugin/oarlock", version="7.3")
        self.assertEqual(str(caught.exception), "found plugin/oarlock 7.2; expected version 7.3")
