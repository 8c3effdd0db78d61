"""The index of the command line: which module declares a command, its help, and the words after it.

    python -m windbreak.cli.index      writes index.json beside this file

It is made from the modules' own declarations, and a test holds it to them; commands read it so as
to load no more than they need.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from windbreak.cli.main import INDEX, MODULES, parser


def index() -> str:
    """The text of ``index.json``."""
    commands: dict[str, dict[str, str]] = {}
    words: dict[str, list[str]] = {}
    for module in MODULES:
        top = parser(module)
        for group in top._actions:
            if isinstance(group, argparse._SubParsersAction):
                for row in group._choices_actions:
                    commands[row.dest] = {"module": module, "help": row.help or ""}
                for name, sub in group.choices.items():
                    words |= _words(sub, name)
    words[""] = [*commands, "--help", "--version"]
    return json.dumps({"commands": commands, "words": words}, indent=1) + "\n"


def _words(parser: argparse.ArgumentParser, line: str) -> dict[str, list[str]]:
    """For each command line so far, the words that may follow."""
    lists: dict[str, list[str]] = {}
    words: list[str] = []
    for action in parser._actions:
        words += [option for option in action.option_strings if option.startswith("--")]
        if isinstance(action, argparse._SubParsersAction):
            for name, sub in action.choices.items():
                words.append(name)
                lists |= _words(sub, f"{line} {name}")
    return {line: words, **lists}


if __name__ == "__main__":
    Path(INDEX).write_text(index())
