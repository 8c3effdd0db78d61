"""Builds the console into the wheel, where Node is at hand; an editable install does without."""

import shutil
import subprocess
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class ConsoleHook(BuildHookInterface):
    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        console = Path(self.root) / "console"
        built = Path(self.root) / "src/windbreak/service/console/index.html"
        if version == "editable" or built.exists():
            return
        npm = shutil.which("npm")
        if npm is None:
            raise RuntimeError("npm is needed to build the console into the wheel")
        subprocess.run([npm, "ci"], cwd=console, check=True)
        subprocess.run([npm, "run", "build"], cwd=console, check=True)
