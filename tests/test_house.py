"""The house: imports point one way, and what is declared is documented."""

import ast
import unittest
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/windbreak"

MAY: dict[str, set[str]] = {
    "core": set(),
    "store": {"core"},
    "feeds": {"core", "store"},
    "packages": {"core", "store"},
    "links": {"core", "store"},
    "operations": {"core", "store", "feeds", "packages", "links"},
    "service": {"core", "store", "feeds", "packages", "links", "operations"},
    "client": {"core"},
    "cli": {"client", "core"},
    "standins": {"core", "client", "packages", "links", "operations"},
}
# Inside functions, and in these modules only, the CLI reaches past the client.
PAST_THE_CLIENT = {"server.py": {"service", "standins", "operations", "store"}}
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
                    self.assertFalse(
                        name.startswith(tuple(f"windbreak.{room}" for room in past))
                        and name != "windbreak.service.settings"
                    )


if __name__ == "__main__":
    unittest.main()
