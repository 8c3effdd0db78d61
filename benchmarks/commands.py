"""How long a command takes at a terminal, from its start to its end."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.figures import Figure, timed
from windbreak.standins.demo import running, set_up

ROUNDS = 9


def figures() -> Iterator[Figure]:
    windbreak = str(Path(sys.executable).parent / "windbreak")

    def took(*args: str, **more: str) -> float:
        def call() -> None:
            subprocess.run(
                [windbreak, *args], env={**os.environ, **more}, check=True, capture_output=True
            )

        return statistics.median(timed(call)[0] for _ in range(ROUNDS))

    yield Figure("windbreak --help", took("--help"), "ms", 80.0)
    yield Figure("windbreak completion bash", took("completion", "bash"), "ms", 80.0)
    with tempfile.TemporaryDirectory() as folder, running(Path(folder)) as (demo, where):
        set_up(demo, where)
        told = {"WINDBREAK_SERVICE": demo.address, "WINDBREAK_TOKEN": demo.token("bench")}
        yield Figure("windbreak today, of the demo fleet", took("today", **told), "ms", 350.0)
