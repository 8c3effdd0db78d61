"""What the demo started ends with it, even where it was killed."""

import signal
import subprocess
import sys
import unittest


class Beside(unittest.TestCase):
    def test_it_ends_when_nobody_holds_its_input_any_more(self) -> None:
        command = [sys.executable, "-m", "windbreak.standins.beside", "http.server", "0"]
        with subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        ) as process:
            assert process.stdin is not None and process.stdout is not None
            with self.assertRaises(subprocess.TimeoutExpired):
                process.wait(timeout=1)  # it runs while somebody does
            process.stdin.close()
            self.assertEqual(process.wait(timeout=10), -signal.SIGTERM)
