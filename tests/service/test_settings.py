"""Settings: which source outranks which, and every fault told at once with its place."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from windbreak.service.settings import SettingRefused, read_settings


class Settings(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name)

    def test_an_option_outranks_the_environment_which_outranks_the_file(self) -> None:
        (self.data / "windbreak.toml").write_text("port = 1\nsoak_major = 2\nsoak_minor = 3\n")
        environment = {"WINDBREAK_PORT": "11", "WINDBREAK_SOAK_MAJOR": "12"}
        found = read_settings(self.data, {"setting_port": "21"}, environment)
        self.assertEqual((found.port, found.soak_major, found.soak_minor), (21, 12, 3))
        self.assertEqual(found.soak_patch, 1)

    def test_every_fault_is_told_at_once_with_its_place(self) -> None:
        (self.data / "windbreak.toml").write_text('port = "many"\nsoak_mayor = 3\n')
        with self.assertRaises(SettingRefused) as caught:
            read_settings(self.data, {"setting_workers": "-2"}, {"WINDBREAK_SOAK_PATCH": "x"})
        told = str(caught.exception)
        for part in (
            "windbreak.toml: there is no setting 'soak_mayor'; did you mean soak_major?",
            "windbreak.toml: 'many' is not a whole number",
            "workers, option --workers: '-2' is not",
            "soak_patch, environment WINDBREAK_SOAK_PATCH: 'x' is not",
        ):
            self.assertIn(part, told)
