"""``python -m windbreak`` is the command ``windbreak``."""

from windbreak.cli.main import run

run()
