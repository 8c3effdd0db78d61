"""What is generated from one source and kept is what that source says now."""

import ast
import json
import unittest
from pathlib import Path

from windbreak.cli.index import index
from windbreak.cli.main import INDEX
from windbreak.client import calls
from windbreak.client.stub import stub
from windbreak.wording import acts

ROOT = Path(__file__).parent.parent
HEAD = "it is generated: run"


class Generated(unittest.TestCase):
    def test_the_clients_stub_is_made_from_its_list_of_calls(self) -> None:
        kept = (ROOT / "src/windbreak/client/library.pyi").read_text()
        self.assertEqual(kept, stub(), f"{HEAD} python -m windbreak.client.stub")

    def test_the_index_of_commands_is_what_the_modules_declare(self) -> None:
        self.assertEqual(INDEX.read_text(), index(), f"{HEAD} python -m windbreak.cli.index")

    def test_the_consoles_acts_are_the_one_table(self) -> None:
        kept = json.loads((ROOT / "console/src/api/acts.json").read_text())
        self.assertEqual(
            kept, json.loads(acts.for_console()), f"{HEAD} python -m windbreak.wording.acts"
        )

    def test_every_answer_of_the_client_has_a_type_that_loads(self) -> None:
        tree = ast.parse(Path(calls.__file__).read_text())
        answers = {
            ast.unparse(node.returns.slice)
            for node in tree.body
            if isinstance(node, ast.FunctionDef)
            and isinstance(node.returns, ast.Subscript)
            and ast.unparse(node.returns.value) == "Call"
            and not node.name.startswith("_")
        }
        names = {
            name.id
            for answer in answers
            for name in ast.walk(ast.parse(answer))
            if isinstance(name, ast.Name)
        } - {"list", "dict", "tuple", "str", "int", "bool", "bytes", "None", "Any"}
        self.assertGreater(len(names), 30)
        for name in names:
            with self.subTest(type=name):
                self.assertEqual(calls._Types()[name].__name__, name)
