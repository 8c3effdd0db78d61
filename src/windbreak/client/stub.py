"""The types of the client library for editors and checkers, made from the list of calls.

python -m windbreak.client.stub      writes library.pyi beside library.py
"""

from __future__ import annotations

import ast
from pathlib import Path

HERE = Path(__file__).parent


def stub() -> str:
    """The text of ``library.pyi``: what library.py defines, and a method for each call."""
    calls = ast.parse((HERE / "calls.py").read_text())
    library = ast.parse((HERE / "library.py").read_text())
    imports = [n for n in ast.walk(calls) if isinstance(n, (ast.Import, ast.ImportFrom))]
    own = [n for n in ast.walk(library) if isinstance(n, (ast.Import, ast.ImportFrom))]
    lines = ["# Made by `python -m windbreak.client.stub` from calls.py and library.py."]
    lines += sorted({ast.unparse(node) for node in (*imports, *own)} - {_FUTURE})
    lines += ["from windbreak.client.calls import Call as Call", "", 'T = TypeVar("T")', ""]
    for node in library.body:
        if isinstance(node, ast.ClassDef) and node.name != "_Waiting":
            lines += _class(node, calls)
    return "\n".join(lines).replace("=_unheard", "=...").replace("= _unheard", "= ...") + "\n"


_FUTURE = "from __future__ import annotations"


def _class(node: ast.ClassDef, calls: ast.Module) -> list[str]:
    bases = ", ".join(ast.unparse(base) for base in node.bases)
    lines = [f"class {node.name}{f'({bases})' if bases else ''}:"]
    defined = set()
    for statement in node.body:
        if isinstance(statement, (ast.FunctionDef, ast.AsyncFunctionDef)):
            defined.add(statement.name)
            lines += _method(statement, ast.get_docstring(statement))
    if node.name == "_Library":
        own = ("address: str", "token: str | None", "written: int", "ahead: timedelta")
        return [*lines, *[f"    {attribute}" for attribute in own], ""]
    for call in calls.body:
        public = isinstance(call, ast.FunctionDef) and not call.name.startswith("_")
        if isinstance(call, ast.FunctionDef) and public and call.name not in defined:
            lines += _call(call, awaited=node.name.startswith("Async"))
    return [*lines, ""]


def _method(node: ast.FunctionDef | ast.AsyncFunctionDef, doc: str | None) -> list[str]:
    is_async = isinstance(node, ast.AsyncFunctionDef)
    # An async generator is called without being awaited.
    if is_async and node.returns and ast.unparse(node.returns).startswith("AsyncIterator"):
        is_async = False
    args = ast.unparse(node.args)
    returns = ast.unparse(node.returns) if node.returns else "None"
    head = f"    {'async ' if is_async else ''}def {node.name}({args}) -> {returns}:"
    return [head, *_doc(doc)]


def _call(node: ast.FunctionDef, *, awaited: bool) -> list[str]:
    args = ast.unparse(node.args)
    assert isinstance(node.returns, ast.Subscript)  # each returns a Call[...]
    returns = ast.unparse(node.returns.slice)
    given = f"self, {args}" if args else "self"
    head = f"    {'async ' if awaited else ''}def {node.name}({given}) -> {returns}:"
    return [head, *_doc(ast.get_docstring(node))]


def _doc(doc: str | None) -> list[str]:
    return [f'        """{doc}"""'] if doc else ["        ..."]


if __name__ == "__main__":
    (HERE / "library.pyi").write_text(stub())
