"""What packages say of themselves, as each content system writes it."""

from __future__ import annotations

import io
import unittest
import zipfile

from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import examine, installable
from windbreak.packages.headers import slug

STYLE = "/*\nTheme Name: Dune\nVersion: 2.1\n{more}*/\n"
PLUGIN = "<?php\n/**\n * Plugin Name: Tide Forms\n * Version:     1.4 */\n"


def packed(**files: str) -> bytes:
    """An archive of files by path; ``__`` stands for a slash, ``_`` for a dot."""
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w") as opened:
        for name, text in files.items():
            opened.writestr(name.replace("__", "/").replace("_", "."), text)
    return archive.getvalue()


class Headers(unittest.TestCase):
    def told(self, archive: bytes) -> tuple[str, str, str]:
        header = examine(archive).header
        return header.product, header.version, header.name

    def refused(self, archive: bytes, **promised: str) -> str:
        with self.assertRaises(PackageRefused) as caught:
            examine(archive, **promised)
        return str(caught.exception)

    def test_a_plugin_and_a_theme_of_wordpress_are_known_by_their_heads(self) -> None:
        plugin = packed(tides__readme_txt="x", tides__tides_php=PLUGIN)
        self.assertEqual(self.told(plugin), ("plugin/tides", "1.4", "Tide Forms"))
        theme = packed(dune__style_css=STYLE.format(more=""), dune__index_php="<?php")
        self.assertEqual(self.told(theme), ("theme/dune", "2.1", "Dune"))
        child = packed(dune__style_css=STYLE.format(more="Template: shore\n"))
        self.assertEqual(self.told(child)[0], "theme/dune")
        self.assertIsNone(installable(plugin).inner)

    def test_what_has_no_head_or_nothing_to_show_is_refused_with_what_would_be_right(self) -> None:
        self.assertIn("head", self.refused(packed(tides__tides_php="<?php")))
        self.assertIn("page to show", self.refused(packed(dune__style_css=STYLE.format(more=""))))
        deep = packed(tides__inc__tides_php=PLUGIN)
        self.assertIn("head", self.refused(deep))
        empty = packed(tides__tides_php=PLUGIN.replace("1.4", ""))
        self.assertIn("the version ''", self.refused(empty))

    def test_another_version_or_another_folder_than_promised_is_refused(self) -> None:
        plugin = packed(tides__tides_php=PLUGIN)
        self.assertIn("1.4", self.refused(plugin, product="plugin/tides", version="1.5"))
        self.assertIn("plugin/tides", self.refused(plugin, product="theme/tides"))

    def test_a_folder_becomes_an_id(self) -> None:
        names = ("Tide_Forms", "tide forms", "TIDE-forms_")
        self.assertEqual({slug(name) for name in names}, {"tide-forms"})
