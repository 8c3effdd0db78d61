"""PHP as a host runs it: not as root, so that modes hold it too."""

from __future__ import annotations

import os
import subprocess
import tempfile
from pathlib import Path

AGENT = Path(__file__).parents[2] / "agent/windbreak-agent"
_USER = 65534 if os.geteuid() == 0 else os.getuid()


def folder(parent: str = "/tmp") -> tempfile.TemporaryDirectory[str]:
    """A folder that whoever PHP runs as can come to, which one of a session's own may not be."""
    made = tempfile.TemporaryDirectory(prefix="windbreak-test-", dir=parent)
    os.chown(made.name, _USER, _USER)
    return made


def php(script: str, of: Path, *given: object) -> str:
    """What a script prints, given some arguments; all in a folder is its user's own."""
    for path in (of, *of.rglob("*")):
        os.chown(path, _USER, _USER)
    command = ["php", "-r", script, "--", *map(str, given)]
    done = subprocess.run(command, check=True, capture_output=True, text=True, user=_USER)
    return done.stdout
