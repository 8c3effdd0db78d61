"""A module run beside the demo, ending when the demo is gone, however it went.

    python -m windbreak.standins.beside MODULE ARGUMENT…

Whoever starts it holds the other end of its standard input; when that closes, it is told to end.
"""

from __future__ import annotations

import os
import runpy
import signal
import sys
import threading


def _watch() -> None:
    while os.read(0, 4096):
        pass
    os.kill(os.getpid(), signal.SIGTERM)


if __name__ == "__main__":
    threading.Thread(target=_watch, name="the demo", daemon=True).start()
    sys.argv = sys.argv[1:]
    runpy.run_module(sys.argv[0], run_name="__main__", alter_sys=True)
