"""How things are shown: tables that fit, states as glyph and word, ages in words, questions."""

from __future__ import annotations

import argparse
import json
import re
import shutil
import sys
from collections.abc import Iterable, Sequence
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from windbreak.cli import clock
from windbreak.cli.refusals import Refusal

if TYPE_CHECKING:
    from rich.console import RenderableType

GLYPHS = {
    "exposed": ("◈", "red"),
    "failed": ("✕", "red"),
    "blocked": ("┳", "yellow"),
    "unknown": ("◌", "bright_black"),
    "running": ("◐", "blue"),
    "waiting": ("◒", "blue"),
    "ready": ("▲", "green"),
    "held": ("⊟", "bright_black"),
    "clear": ("▁", "green"),
}

_SHORT = 24
_WHOLE = 100_000  # columns where there is no terminal: nothing is cut


def dump(value: Any) -> None:
    """Print what the API gave, as JSON."""
    if hasattr(value, "model_dump_json"):
        print(value.model_dump_json(by_alias=True, indent=1))
    elif isinstance(value, (list, tuple)):
        rows = [v.model_dump(mode="json", by_alias=True) for v in value]
        print(json.dumps(rows, indent=1))
    else:
        print(json.dumps(value, indent=1))


def state(word: str) -> str:
    """A state as its glyph and its word."""
    return glyph(word, word)


def glyph(state: str, word: str) -> str:
    """A word with the glyph of the state it comes nearest to."""
    sign, colour = GLYPHS[state]
    return f"[{colour}]{sign} {word}[/]"


def table(heads: Sequence[str], rows: Iterable[Sequence[object]], empty: str) -> None:
    """Print rows under heads, cut to the terminal, if there is one; ``empty`` is said where there
    are none.
    """
    from rich.table import Table

    cells = [list(row) for row in rows]
    if not cells:
        print(empty)
        return
    wide = shutil.get_terminal_size().columns if sys.stdout.isatty() else _WHOLE
    shown = Table(box=None, padding=(0, 2, 0, 0), header_style="bright_black", pad_edge=False)
    for index, (head, width) in enumerate(zip(heads, _widths(heads, cells, wide), strict=True)):
        number = all(isinstance(row[index], int) for row in cells)
        shown.add_column(
            head,
            justify="right" if number else "left",
            overflow="ellipsis",
            no_wrap=True,
            width=width,
        )
    for row in cells:
        shown.add_row(*(str(cell) for cell in row))
    _print(shown)


def _widths(heads: Sequence[str], rows: list[list[object]], wide: int) -> list[int]:
    """How wide each column may be: what is short is shown whole, the widest is cut last."""
    widths = [max(len(head), *(len(_bare(row[n])) for row in rows)) for n, head in enumerate(heads)]
    over = sum(widths) + 2 * len(widths) - wide
    for n in sorted(range(len(widths)), key=lambda n: widths[n]):
        if over <= 0:
            break
        cut = min(over, max(0, widths[n] - _SHORT))
        widths[n] -= cut
        over -= cut
    return widths


def _bare(cell: object) -> str:
    """A cell without its markup."""
    return re.sub(r"\[/?[a-z_]*\]", "", str(cell))


def say(text: str = "") -> None:
    """Print a sentence, wrapped to the terminal under its own beginning.

    ``**bold**`` shows on a terminal.
    """
    from rich.markup import escape
    from rich.padding import Padding

    bare = text.lstrip(" ")
    marked = re.sub(r"\*\*(.+?)\*\*", r"[bold]\1[/bold]", escape(bare)).replace("`", "")
    indented = Padding(marked, (0, 0, 0, len(text) - len(bare)), expand=False)
    _print(indented)


def styled(text: str) -> None:
    """Print a line that holds markup of ours."""
    _print(text)


def _print(shown: RenderableType) -> None:
    """Print to the width of the terminal; where there is none, lines are whole."""
    from rich.console import Console

    if sys.stdout.isatty():
        Console(highlight=False).print(shown)
        return
    console = Console(width=_WHOLE, highlight=False)
    with console.capture() as captured:
        console.print(shown)
    for line in captured.get().splitlines():
        print(line.rstrip())


def secret(prompt: str) -> str:
    """A secret from standard input: it stays out of the shell's history."""
    if sys.stdin.isatty():
        import getpass

        return getpass.getpass(prompt)
    return sys.stdin.read()


def why(reason: str | None) -> str:
    """Why something is done, for the ledger: as it was told, else asked for. Raises Refusal."""
    if not reason and sys.stdin.isatty():
        reason = input("Why? It is kept in the ledger: ")
    if not reason or not reason.strip():
        raise Refusal("say why: --why TEXT; it is kept in the ledger", 2)
    return reason


def plain(text: str) -> str:
    """Text that goes into a line with markup, its own brackets kept."""
    from rich.markup import escape

    return escape(text)


def age(instant: datetime | None, now: datetime | None = None) -> str:
    """How long ago: "4 min ago", "never"."""
    if instant is None:
        return "never"
    seconds = int(((now or clock.now()) - instant).total_seconds())
    if seconds < 0:
        return f"in {_span(-seconds)}"
    return "now" if seconds < 5 else f"{_span(seconds)} ago"


def _span(seconds: int) -> str:
    for size, name in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= size:
            return f"{seconds // size} {name}"
    return f"{seconds} s"


def takes(seconds: int) -> str:
    """About how long something takes: "3 min", "under a minute"."""
    return f"about {round(seconds / 60)} min" if seconds >= 60 else "under a minute"


def each_file(args: argparse.Namespace, answer: Any, tell: Any) -> int:
    """Answer every file; a file that can't be read does not stop the others."""
    status = 0
    for file in args.files:
        try:
            document = answer(file)
        except (Refusal, ValueError, OSError) as error:
            status = 1
            if args.json:
                print(json.dumps({"file": file, "error": str(error)}), flush=True)
            else:
                print(f"error: {file}: {error}", file=sys.stderr)
            continue
        if args.json:
            print(json.dumps(document, ensure_ascii=False), flush=True)
        else:
            tell(document)
    return status


def seconds(text: str) -> float:
    try:
        number = float(text)
    except ValueError:
        number = -1.0
    if not 0 <= number < float("inf"):
        raise argparse.ArgumentTypeError(f"{text} is not a number of seconds from 0 up, as 0.5")
    return number


def instant(text: str) -> datetime:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(
            f"{text!r} is not a time; write it as 2026-11-24T01:10"
        ) from None
    return moment.astimezone() if moment.tzinfo is None else moment


def a_day(text: str) -> date:
    """A day from a command line. Raises ArgumentTypeError."""
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is no day; write it as 2026-11-24") from None


def local(instant: datetime) -> str:
    """An instant in the terminal's own zone: "Tue 24 Nov 01:10 UTC"."""
    here = instant.astimezone()
    return f"{here:%a} {here.day} {here:%b %H:%M %Z}"


def reason_of(why: str, starts_at: datetime | None) -> str:
    """A booking's why then, where its time stands beside it: without the time it begins with. Where
    the site's clock shows another, it is told that all of it goes by that clock.
    """
    head = re.match(r"(\w{3} \d+ \w{3} (\d\d:\d\d)): ", why)
    if head is None:
        return why.rstrip(".")
    rest = why[head.end() :].rstrip(".")
    same = starts_at is None or f"{starts_at.astimezone():%H:%M}" == head[2]
    return rest if same else f"by the site’s clock, {head[1]}: {rest}"


def ask(what: str, *, yes: bool) -> None:
    """Say what would happen ("Would retire …") and ask for a word. Raises Refusal."""
    if yes:
        return
    if not sys.stdin.isatty():
        bare = what.replace("**", "")
        raise Refusal(f"{bare} There is nobody to ask; say so with --yes", 2)
    say(what)
    answer = input("Go on? [y/N] ")
    if answer.strip().lower() not in ("y", "yes"):
        raise Refusal("left as it was")
