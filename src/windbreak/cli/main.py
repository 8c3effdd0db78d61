"""The command ``windbreak``: its groups, its errors, its exit statuses.

Exit status: 0 done; 1 it could not be done, and why was said; 2 wrong use; 3 the service can't
be reached; 4 not permitted; 5 done in part, and what not was said.
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path

import windbreak
from windbreak.cli import helps
from windbreak.cli.refusals import Refusal

INDEX = Path(__file__).parent / "index.json"
# The modules that declare commands, in the order in which ``--help`` lists them.
MODULES = (
    *(
        "server",
        "work",
        "ledger",
        "reasoning",
        "policy",
        "ties",
        "fleet",
        "hosts",
        "feeds",
        "products",
        "licences",
    ),
    *("shelf", "outward", "rollouts", "nights", "running", "matters", "errands", "cases"),
    *("timetables", "freezes", "completion"),
)

_EPILOG = """examples:
  windbreak today                              what wants attention
  windbreak site list                          every site, worst first
  windbreak why tarnsey millrace               why Millrace is not newer there
  windbreak plan skerry-light                  the ordered steps, with the reason for each
  windbreak approve 3 --why "routine"          let plan 3 go
  windbreak book 3                             where the timetable has a place for it
  windbreak rollout draft                      everything ready, in waves, before it is approved
  windbreak run watch 1                        follow a run

exit status: 0 done; 1 it could not be done; 2 wrong use; 3 the service can't be reached;
4 not permitted; 5 done in part"""


TYPE_CHECKING = False  # without typing, which takes longer than the help itself
if TYPE_CHECKING:
    from typing import Any, TypeVar

    _ActionT = TypeVar("_ActionT", bound=argparse.Action)


class _Parser(argparse.ArgumentParser):
    """Options are written out: part of one is never taken for another, such as ``--to`` for
    ``--token``. Parsers of commands are made of this class too; what is wrong is told with the
    usage of the command itself, and no argument is without its help.
    """

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"allow_abbrev": False, **options})

    def _add_action(self, action: _ActionT) -> _ActionT:
        if action.help is None:
            action.help = helps.of(action)
        return super()._add_action(action)

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        parsed, unknown = super().parse_known_args(args, namespace)
        if unknown and " " in self.prog:
            self.error(f"unrecognized arguments: {' '.join(unknown)}")
        return parsed, unknown


def parser(only: str | None = None) -> argparse.ArgumentParser:
    """The whole command line; or, with ``only``, as much of it as one module declares."""
    top, commands, common = _top()
    for module in MODULES if only is None else (only,):
        import_module(f"windbreak.cli.{module}").add(commands, common)
    return top


def _top() -> tuple[argparse.ArgumentParser, Any, argparse.ArgumentParser]:
    top = _Parser(
        prog="windbreak",
        description="From an announced release to a verified update, with reasons.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--version", action="version", version=f"windbreak {windbreak.__version__}")
    common = argparse.ArgumentParser(add_help=False)
    common.add_argument("--service", help="the service (WINDBREAK_SERVICE, or the profile)")
    common.add_argument("--token", help="a token of that service (WINDBREAK_TOKEN, or the profile)")
    common.add_argument("--json", action="store_true", help="print what the API gives")
    common.add_argument("--quiet", "-q", action="store_true", help="print ids only")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", required=True)
    return top, commands, common


def _parser_for(words: Sequence[str]) -> argparse.ArgumentParser:
    """As much of the command line as some words need.

    Which module declares a command is read from the index, so that a command loads its own module
    alone, and ``--help`` none at all.
    """
    index = json.loads(INDEX.read_text())["commands"]
    first = next((word for word in words if not word.startswith("-")), None)
    if first in index:
        return parser(index[first]["module"])
    top, commands, common = _top()
    for name, row in index.items():
        commands.add_parser(name, parents=[common], help=row["help"])
    return top


def main(argv: Sequence[str] | None = None) -> int:
    """Carry out a command; the exit status."""
    words = sys.argv[1:] if argv is None else list(argv)
    args = _parser_for(words).parse_args(words)
    try:
        return int(args.do(args) or 0)
    except Refusal as error:
        return _error(args, str(error), error.status)
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        return 0
    except Exception as error:
        status = _status(error)
        if status is None:
            raise
        return _error(args, _sentence(error), status, getattr(error, "details", None))


def _sentence(error: Exception) -> str:
    """What went wrong, in words of ours: each field with what would be right, each file by name."""
    from pydantic import ValidationError

    if isinstance(error, ValidationError):
        parts = []
        for fault in error.errors():
            place = ".".join(str(part) for part in fault["loc"])
            text = fault["msg"].removeprefix("Value error, ")
            parts.append(f"{place}: {text}" if place else text)
        return "; ".join(parts)
    if isinstance(error, OSError) and error.filename is not None and error.strerror:
        return f"{error.filename}: {error.strerror.lower()}"
    return str(error)


def _status(error: Exception) -> int | None:
    from windbreak.client import ClientError, NotPermitted, Unreachable

    if isinstance(error, Unreachable):
        return 3
    if isinstance(error, NotPermitted):
        return 4
    if isinstance(error, (ClientError, TimeoutError)):
        return 1
    if isinstance(error, ValueError):
        return 2
    return 1 if isinstance(error, OSError) else None


def _error(args: argparse.Namespace, text: str, status: int, details: object = None) -> int:
    if getattr(args, "json", False) and details is not None:
        print(json.dumps(details), file=sys.stderr)
    else:
        print(f"error: {text}", file=sys.stderr)
    return status


def run() -> None:
    """The entry point of the program."""
    sys.exit(main())
