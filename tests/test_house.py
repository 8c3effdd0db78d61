"""The house: imports point one way, and what is declared is documented."""

import argparse
import ast
import re
import unittest
from pathlib import Path
from typing import get_args

from windbreak.cli.main import parser
from windbreak.core.work import RunState
from windbreak.links.errors import FAILURE_CODES
from windbreak.service.openapi import document
from windbreak.service.settings import SETTINGS
from windbreak.standins.agent import CAN

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/windbreak"

MAY: dict[str, set[str]] = {
    "core": set(),
    "store": {"core"},
    "feeds": {"core", "store"},
    "packages": {"core", "store"},
    "links": {"core", "store"},
    "notices": {"core", "feeds", "links"},
    "operations": {"core", "store", "feeds", "packages", "links", "notices"},
    "service": {"core", "store", "feeds", "packages", "links", "notices", "operations"},
    "client": {"core"},
    "cli": {"client", "core"},
    "standins": {"core", "client", "packages", "links", "operations"},
}
# Inside functions, and in these modules only, the CLI reaches past the client.
PAST_THE_CLIENT = {
    "server.py": {"service", "standins", "operations", "store"},
    "shelf.py": {"operations"},
}
CORE_MAY = {"pydantic", "windbreak"}


def imported(tree: ast.AST) -> list[str]:
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found += [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.append(node.module)
            if node.module == "windbreak":
                found += [f"windbreak.{alias.name}" for alias in node.names]
    return found


class Imports(unittest.TestCase):
    def test_they_point_one_way(self) -> None:
        for path in sorted(SOURCE.rglob("*.py")):
            room = path.relative_to(SOURCE).parts[0]
            if room not in MAY:
                continue
            allowed = MAY[room] | {room}
            if room == "cli":
                allowed |= PAST_THE_CLIENT.get(path.name, set())
            for name in imported(ast.parse(path.read_text())):
                parts = name.split(".")
                if parts[0] == "windbreak" and len(parts) > 1:
                    with self.subTest(file=str(path), imports=name):
                        self.assertIn(parts[1], allowed)

    def test_the_core_needs_the_standard_library_and_pydantic_only(self) -> None:
        import sys

        for path in sorted((SOURCE / "core").rglob("*.py")):
            for name in imported(ast.parse(path.read_text())):
                top = name.split(".")[0]
                with self.subTest(file=path.name, imports=name):
                    self.assertTrue(top in CORE_MAY or top in sys.stdlib_module_names)

    def test_the_cli_reaches_past_the_client_inside_functions_only(self) -> None:
        for path in sorted((SOURCE / "cli").glob("*.py")):
            tree = ast.parse(path.read_text())
            top = ast.Module(
                [n for n in tree.body if isinstance(n, (ast.Import, ast.ImportFrom))], []
            )
            for name in imported(top):
                with self.subTest(file=path.name, imports=name):
                    past = ("service", "standins", "operations", "store")
                    self.assertFalse(name.startswith(tuple(f"windbreak.{room}" for room in past)))


class Documented(unittest.TestCase):
    def test_every_command_is(self) -> None:
        text = (ROOT / "docs/cli.md").read_text()
        for line in _commands(parser(), ""):
            with self.subTest(command=line):
                self.assertRegex(text, rf"`windbreak {line}( [^`]*)?`")

    def test_every_setting_is(self) -> None:
        text = (ROOT / "docs/operating.md").read_text()
        for setting in SETTINGS:
            with self.subTest(setting=setting.name):
                row = f"| `{setting.name}` | `{setting.option}` | `{setting.variable}` |"
                self.assertIn(f"{row} {setting.default} |", text)

    def test_every_failure_code_and_call_of_the_agent_is(self) -> None:
        text = (ROOT / "docs/formats.md").read_text()
        for word in (*FAILURE_CODES, *CAN):
            with self.subTest(word=word):
                self.assertIn(f"`{word}`", text)

    def test_every_state_of_a_run_is(self) -> None:
        text = (ROOT / "docs/runs.md").read_text()
        for state in get_args(RunState):
            if state != "running":
                with self.subTest(state=state):
                    self.assertIn(f"| `{state}` |", text)

    def test_the_consoles_types_are_those_of_the_service(self) -> None:
        kept = (ROOT / "console/openapi.json").read_text()
        self.assertEqual(kept.strip(), document(), "run `make types-console`")

    def test_every_link_of_the_readme_leads_somewhere(self) -> None:
        for target in re.findall(r"\]\(([^)#]+)\)", (ROOT / "README.md").read_text()):
            with self.subTest(target=target):
                self.assertTrue((ROOT / target).exists())


def _commands(parser: argparse.ArgumentParser, line: str) -> list[str]:
    groups = [a for a in parser._actions if isinstance(a, argparse._SubParsersAction)]
    if not groups:
        return [line]
    return [
        command
        for group in groups
        for name, sub in group.choices.items()
        for command in _commands(sub, f"{line} {name}".strip())
    ]
