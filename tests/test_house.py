"""The house: imports point one way, and what is declared is documented."""

import argparse
import ast
import re
import unittest
from pathlib import Path
from typing import get_args

from windbreak.cli.main import parser
from windbreak.core.values.runs import RunState
from windbreak.links.errors import FAILURE_CODES
from windbreak.service.openapi import document
from windbreak.service.settings import SETTINGS
from windbreak.standins.agent import CAN

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/windbreak"

MAY: dict[str, set[str]] = {
    "core": set(),
    "wording": {"core", "documents"},
    "documents": {"core"},
    "store": {"core", "documents"},
    "outside": set(),
    "feeds": {"core", "store", "outside"},
    "packages": {"core", "store"},
    "links": {"core", "store", "outside"},
    "notices": {"core", "feeds", "links", "outside"},
    "client": {"core", "documents"},
    "cli": {"client", "core", "documents", "wording"},
    "standins": {"core", "documents", "client", "packages", "links", "operations"},
}
EDGES = {"store", "outside", "feeds", "packages", "links", "notices"}
MAY["operations"] = {"core", "wording", "documents"} | EDGES
MAY["service"] = MAY["operations"] | {"operations"}
# Inside the core, room by room: what each may import beside itself and what all may.
CORE_FOR_ALL = {"errors", "bits", "reading"}
CORE: dict[str, set[str]] = {
    room: set() for room in ("errors", "bits", "reading", "versions", "solver")
}
CORE["values"] = {"versions"}
CORE["case"] = {"values", "versions"}
CORE["resolution"] = {"values", "versions", "case", "solver"}
CORE["ordering"] = CORE["resolution"] | {"resolution"}
CORE["scheduling"] = {"values"}
CORE["explanation"] = CORE["ordering"] | {"ordering"}
CORE["fleet"] = CORE["explanation"] | {"explanation"}
# Inside functions, and in these modules only, the CLI reaches past the client.
PAST_THE_CLIENT = {
    "server.py": {"service", "standins", "operations", "store"},
    "shelf.py": {"operations"},
}
CORE_MAY = {"pydantic", "windbreak", "dateutil"}


def imported(tree: ast.AST) -> list[str]:
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found += [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.append(node.module)
            if node.module.startswith("windbreak"):
                found += [
                    f"{node.module}.{alias.name}"
                    for alias in node.names
                    if _is_module(f"{node.module}.{alias.name}")
                ]
    return found


def _is_module(name: str) -> bool:
    path = SOURCE.parent / name.replace(".", "/")
    return path.is_dir() or path.with_suffix(".py").exists()


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

    def test_the_rooms_of_the_core_stand_on_each_other(self) -> None:
        for path in sorted((SOURCE / "core").rglob("*.py")):
            room = path.relative_to(SOURCE / "core").parts[0].removesuffix(".py")
            if room == "__init__":
                continue
            for name in imported(ast.parse(path.read_text())):
                parts = name.split(".")
                if parts[:2] == ["windbreak", "core"] and len(parts) > 2:
                    with self.subTest(file=str(path), imports=name):
                        self.assertIn(parts[2], CORE[room] | CORE_FOR_ALL | {room})

    def test_no_file_leads_back_to_itself(self) -> None:
        """Circles, imports inside functions included."""
        leads: dict[str, set[str]] = {}
        for path in SOURCE.rglob("*.py"):
            module = ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts)
            names = imported(ast.parse(path.read_text()))
            leads[module] = {n for n in names if n.startswith("windbreak.")} - {module}
        settled: set[str] = set()
        while True:
            more = {m for m, to in leads.items() if not (to & leads.keys()) - settled} - settled
            if not more:
                break
            settled |= more
        self.assertEqual(sorted(leads.keys() - settled), [])

    def test_one_room_alone_writes_what_is_on_a_site(self) -> None:
        writing = re.compile(r"inventories\.(put|change|add|remove)\(")
        writers = {
            str(path.relative_to(SOURCE))
            for path in SOURCE.rglob("*.py")
            if writing.search(path.read_text())
        }
        self.assertEqual(writers, {"operations/sites/inventories.py"})

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
