"""A program run beside the demo, with all that it starts, ending when the demo is gone.

    python -m windbreak.standins.holding PROGRAM ARGUMENT…

Whoever starts it holds the other end of its standard input; when that closes, the program and its
children are told to end, and made to where they don't.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading

_PATIENCE = 15.0  # seconds


def _ended(program: subprocess.Popen[bytes]) -> None:
    while os.read(0, 4096):
        pass
    for number in (signal.SIGTERM, signal.SIGKILL):
        try:
            os.killpg(program.pid, number)
            program.wait(_PATIENCE)
        except (ProcessLookupError, subprocess.TimeoutExpired):
            continue


if __name__ == "__main__":
    running = subprocess.Popen(sys.argv[1:], stdin=subprocess.DEVNULL, start_new_session=True)
    threading.Thread(target=_ended, args=(running,), name="the demo", daemon=True).start()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)  # it ends with the demo, and not before
    sys.exit(running.wait())
