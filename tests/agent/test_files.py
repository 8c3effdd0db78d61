"""The agent's own files: PHP that can be read, nothing fetched, nothing of anybody else's."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.agent import hosts
from tests.agent.hosts import AGENT
from windbreak.operations.findings.causes.sites import CURRENT_AGENT

FILES = sorted(AGENT.rglob("*.php"))

PARSER = Path(__file__).parents[2] / "console/node_modules/php-parser"
# What a version does not take, of some texts by name.
_PARSES = """
const { Engine } = require(process.argv[1]);
const given = JSON.parse(require('fs').readFileSync(0, 'utf8'));
for (const version of ['7.4', '8.0', '8.1', '8.2', '8.3'])
  for (const [name, text] of Object.entries(given))
    try {
      new Engine({ parser: { version } }).parseCode(text, name);
    } catch {
      console.log(version, name);
    }
"""
# Part what is kept in a folder from what it shares files with.
_PARTED = """<?php
require $argv[1] . '/parts/folders.php';
require $argv[1] . '/parts/core.php';
$parted = new ReflectionMethod( 'Windbreak\\Core', 'parted' );
$parted->setAccessible( true );
$parted->invoke( null, $argv[2] );
"""
# Take a folder away.
_CLEARED = """
require $argv[1] . '/parts/folders.php';
Windbreak\\Folders::clear( $argv[2] );
"""
NEWER = "<?php $x = match ( 1 ) { 1 => 2 };"  # which 7.4 does not take


class Files(unittest.TestCase):
    @unittest.skipIf(shutil.which("php") is None, "there is no PHP here")
    def test_each_is_php(self) -> None:
        for file in FILES:
            done = subprocess.run(["php", "-l", str(file)], capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stdout)

    @unittest.skipIf(shutil.which("php") is None, "there is no PHP here")
    def test_what_is_kept_of_the_system_shares_no_file_with_what_is_in_place(self) -> None:
        with tempfile.TemporaryDirectory(prefix="windbreak-test-") as folder:
            live, kept = Path(folder, "live.php"), Path(folder, "kept/wp-includes/live.php")
            kept.parent.mkdir(parents=True)
            live.write_text("as it was")
            kept.hardlink_to(live)
            command = ["php", "-r", _PARTED[5:], "--", str(AGENT), str(Path(folder, "kept"))]
            subprocess.run(command, check=True, capture_output=True)
            with live.open("r+") as written:
                written.write("written where it is")
            self.assertEqual(kept.read_text(), "as it was")

    @unittest.skipIf(shutil.which("php") is None, "there is no PHP here")
    def test_a_folder_that_nobody_may_write_in_is_taken_away_too(self) -> None:
        with hosts.folder() as name:
            top = Path(name)
            shutil.copytree(AGENT / "parts", top / "agent/parts")
            (top / "kept/keys").mkdir(parents=True)
            (top / "kept/keys/shop.key").write_text("a b c")
            (top / "kept/keys").chmod(0o555)
            hosts.php(_CLEARED, top, top / "agent", top / "kept")
            self.assertFalse((top / "kept").exists())

    @unittest.skipUnless(PARSER.exists(), "there is no parser here: make console")
    def test_each_is_php_of_every_version_that_a_site_may_have(self) -> None:
        given = json.dumps({"newer": NEWER, **{str(f): f.read_text() for f in FILES}})
        told = subprocess.run(
            ["node", "-e", _PARSES, str(PARSER)],
            input=given,
            capture_output=True,
            text=True,
            timeout=60,
        )
        self.assertEqual(told.stdout.split(), ["7.4", "newer"], told.stderr)

    def test_none_can_be_asked_for_by_itself_to_do_something(self) -> None:
        """A part is declarations alone; the two that do something look first whether they may."""
        for file in FILES:
            text = file.read_text()
            if file.parent.name == "parts":
                bare = re.sub(r"(?s)/\*.*?\*/", "", text)
                top = [x for x in bare.splitlines() if re.match(r"[a-z$(]", x)]
                self.assertEqual([x for x in top if not x.startswith(("namespace", "final "))], [])
            else:
                self.assertIn("if ( ! defined( 'ABSPATH' ) )", text, file.name)

    def test_nothing_is_carried_out_that_was_sent_and_nothing_is_fetched(self) -> None:
        for file in FILES:
            found = re.findall(
                r"\b(eval|exec|shell_exec|system|passthru|proc_open|unserialize|create_function"
                r"|wp_remote_\w+|curl_\w+|fsockopen)\s*\(",
                file.read_text(),
            )
            # It asks one address, its own site's, whether its state is served there.
            allowed = ["wp_remote_get", "wp_remote_retrieve_body"] if file.stem == "proof" else []
            self.assertEqual(found, allowed, file.name)

    def test_the_version_is_one(self) -> None:
        head = re.search(r"Version: (\S+)", (AGENT / "windbreak-agent.php").read_text())
        told = re.search(r"VERSION = '([^']+)'", (AGENT / "parts/agent.php").read_text())
        assert head is not None
        assert told is not None
        self.assertEqual(head.group(1), told.group(1))
        self.assertEqual(CURRENT_AGENT["wordpress"], told.group(1))  # which we say is out
