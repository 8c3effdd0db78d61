"""``windbreak completion``: words for the shell, from the command line's own declarations."""

from __future__ import annotations

import argparse
from functools import partial
from typing import Any

_BASH = """_windbreak() {{
  local line="${{COMP_WORDS[*]:1:COMP_CWORD-1}}" words=""
  case "$line" in
{cases}
  esac
  COMPREPLY=($(compgen -W "$words" -- "${{COMP_WORDS[COMP_CWORD]}}"))
}}
complete -F _windbreak windbreak"""

_ZSH = "autoload -Uz bashcompinit && bashcompinit\n"


def add(commands: Any, common: argparse.ArgumentParser, top: argparse.ArgumentParser) -> None:
    one = commands.add_parser(
        "completion",
        help="print completion for a shell",
        epilog='example: eval "$(windbreak completion bash)"',
    )
    one.add_argument("shell", choices=("bash", "zsh"))
    one.set_defaults(do=partial(_print, top))


def _print(top: argparse.ArgumentParser, args: argparse.Namespace) -> None:
    cases = "\n".join(
        f'    "{line}"*) words="{" ".join(words)}" ;;'
        for line, words in sorted(_words(top, ""), key=lambda row: -len(row[0]))
    )
    text = _BASH.format(cases=cases)
    print(_ZSH + text if args.shell == "zsh" else text)


def _words(parser: argparse.ArgumentParser, line: str) -> list[tuple[str, list[str]]]:
    """For each command line so far, the words that may follow."""
    found: list[tuple[str, list[str]]] = []
    words: list[str] = []
    for action in parser._actions:
        words += [option for option in action.option_strings if option.startswith("--")]
        if isinstance(action, argparse._SubParsersAction):
            for name, sub in action.choices.items():
                words.append(name)
                found += _words(sub, f"{line} {name}".strip())
    return [(line, words), *found]
