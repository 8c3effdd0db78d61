"""``windbreak timetable``: night books answered offline, with why then and why not."""

from __future__ import annotations

import argparse
from functools import partial
from math import inf
from pathlib import Path
from typing import Any

from windbreak.cli.output import each_file, plain, say, seconds, styled
from windbreak.cli.profile import connect


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    command = commands.add_parser(
        "timetable",
        parents=[common],
        help="the best timetable of night books, offline, with reasons",
        epilog="example: windbreak timetable night.json --json",
    )
    command.add_argument("files", metavar="FILE", nargs="+")
    command.add_argument(
        "--within",
        metavar="SECONDS",
        type=seconds,
        help="stop improving a book after so many seconds, as 0.5; default: when it rests",
    )
    command.set_defaults(do=_timetable)
    command = commands.add_parser(
        "night-book", parents=[common], help="what the timetable is made from, as a file"
    )
    command.add_argument("--to", metavar="FILE", help="a file; standard output when not given")
    command.set_defaults(do=_night_book)


def _night_book(args: argparse.Namespace) -> None:
    import json

    with connect(args) as windbreak:
        text = json.dumps(windbreak.night_book(), indent=1, ensure_ascii=False)
    if args.to is None:
        return print(text)
    Path(args.to).write_text(f"{text}\n")
    return say(f"Written to {args.to}. What it comes to: windbreak timetable {args.to}")


def _timetable(args: argparse.Namespace) -> int:
    return each_file(args, partial(_answer, args.within), _tell)


def _answer(within: float | None, file: str) -> dict[str, Any]:
    from windbreak.core.scheduling.reading import read_book
    from windbreak.wording.timetables import improved_document

    seconds = inf if within is None else within
    return improved_document(read_book(Path(file).read_bytes()), {}, seconds) | {"file": file}


def _tell(document: dict[str, Any]) -> None:
    numbers = ", ".join(f"{name} {value}" for name, value in document["objective"].items())
    sure = "nothing is better" if document["proven"] else "nothing is better than its bound: "
    if not document["proven"]:
        sure += ", ".join(f"{name} {value}" for name, value in document["bound"].items())
    say(f"**{document['file']}**: {numbers}; {sure}")
    if "improved" in document:
        say(f"  It was improved to {document['improved']:.0%}; give it more time: --within SECONDS")
    for booking in document["bookings"]:
        late = f" [red]{booking['late']} min late[/]" if booking["late"] else ""
        styled(f"  {plain(booking['job']):16} {plain(booking['text'])}{late}")
    for left in document["left_out"]:
        styled(f"  [red]{plain(left['job']):16}[/] {plain(left['text'])}")
