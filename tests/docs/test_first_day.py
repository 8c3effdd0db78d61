"""The guide of the first day, command by command as it is printed, on stand-ins."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import httpx

from windbreak.standins.demo import Demo

GUIDE = Path(__file__).parents[2] / "docs/first-day.md"
WINDBREAK = Path(sys.executable).parent / "windbreak"


def commands(text: str) -> list[str]:
    """The command lines of a guide, in their order."""
    return re.findall(r"^windbreak .*$", text, re.MULTILINE)


class FirstDay(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.demo = Demo(self.folder / "demo", few=True)
        self.addCleanup(self.demo.stop)
        where = self.demo.start_standins()
        self.site = where["skerry-light"]
        self.instead = {
            "https://skerry-light.example": self.site,
            "https://commons.example": f"{where['feeds']}/commons",
        }
        self.env = {
            **os.environ,
            "WINDBREAK_PROFILE": str(self.folder / "profile.json"),
            "WINDBREAK_PORT": "0",
            "WINDBREAK_PRIVATE_NETWORKS": "127.0.0.0/8",
        }

    def run_(self, line: str) -> str:
        words = shlex.split(line)
        self.assertEqual(words[0], "windbreak", line)
        done = subprocess.run(
            [WINDBREAK, *words[1:]],
            cwd=self.folder,
            env=self.env,
            text=True,
            capture_output=True,
            timeout=120,
            stdin=subprocess.DEVNULL,
        )
        self.assertEqual(done.returncode, 0, f"{line}\n{done.stdout}{done.stderr}")
        return done.stdout

    def serve(self, line: str) -> None:
        log = (self.folder / "serve.log").open("w")
        self.addCleanup(log.close)
        service = subprocess.Popen(
            [WINDBREAK, *shlex.split(line)[1:]],
            cwd=self.folder,
            env=self.env,
            stdout=log,
            stderr=subprocess.STDOUT,
        )
        self.addCleanup(service.wait)
        self.addCleanup(service.terminate)
        for _ in range(300):
            if "serves at" in (self.folder / "serve.log").read_text():
                return
            time.sleep(0.1)
        self.fail((self.folder / "serve.log").read_text())

    def test_every_command_works_in_order_as_printed(self) -> None:
        told: dict[str, str] = {}
        for printed in commands(GUIDE.read_text()):
            line = printed
            for example, real in self.instead.items():
                line = line.replace(example, real)
            line = line.replace("THE LINK IT PRINTED", told.get("link", ""))
            with self.subTest(command=printed):
                if line.startswith("windbreak serve"):
                    self.serve(line)
                    continue
                if line.endswith("--pasted"):
                    pasted = told["windbreak site link skerry-light-trust"]
                    match = re.search(r"windbreak-link\S*|\S{40,}", pasted)
                    assert match is not None, pasted
                    data = {"line": match.group()}
                    where = f"{self.site}/owner/link"
                    httpx.post(where, data=data, trust_env=False, timeout=30).raise_for_status()
                told[printed] = self.run_(line)
                if "sign-in-link" in line:
                    told["link"] = told[printed].strip().splitlines()[-1].strip()
        self.assertIn("The first day", told["windbreak today"])
        self.assertIn("linked", told["windbreak site show skerry-light-trust"])
        self.assertIn("Millrace", told["windbreak plan skerry-light-trust"])
        self.assertIn("/sign-in#", told["windbreak account invite isla"])
        self.assertNotIn("The first day", self.run_("windbreak today"))
