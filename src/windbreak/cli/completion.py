"""``windbreak completion``: words for the shell, from the index of the command line."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

TYPE_CHECKING = False  # typing takes longer than all of this
if TYPE_CHECKING:
    from typing import Any

_INDEX = Path(__file__).parent / "index.json"
_BASH = """_windbreak() {{
  local line="${{COMP_WORDS[*]:1:COMP_CWORD-1}}" words=""
  case "$line" in
{cases}
  esac
  COMPREPLY=($(compgen -W "$words" -- "${{COMP_WORDS[COMP_CWORD]}}"))
}}
complete -F _windbreak windbreak"""

_ZSH = "autoload -Uz bashcompinit && bashcompinit\n"


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    command = commands.add_parser(
        "completion",
        help="print completion for a shell",
        epilog='example: eval "$(windbreak completion bash)"',
    )
    command.add_argument("shell", choices=("bash", "zsh"))
    command.set_defaults(do=_print)


def _print(args: argparse.Namespace) -> None:
    words = json.loads(_INDEX.read_text())["words"]
    cases = "\n".join(
        f'    "{line}"*) words="{" ".join(following)}" ;;'
        for line, following in sorted(words.items(), key=lambda row: (-len(row[0]), row[0]))
    )
    text = _BASH.format(cases=cases)
    print(_ZSH + text if args.shell == "zsh" else text)
