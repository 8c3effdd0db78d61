"""``windbreak case``: a site's situation exported, and resolved or ordered offline."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from windbreak.cli.output import each_file, say
from windbreak.cli.profile import connect, pick_site


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    group = commands.add_parser("case", help="a site's situation as a file, reasoned about offline")
    verbs = group.add_subparsers(dest="verb", metavar="VERB", required=True)
    export = verbs.add_parser(
        "export",
        parents=[common],
        help="write a site's case",
        epilog="example: windbreak case export tarnsey-harbour --to tarnsey.json",
    )
    export.add_argument("site", metavar="SITE")
    export.add_argument("--to", metavar="FILE", help="a file; standard output when not given")
    export.set_defaults(do=_export)
    for verb, act, words in (
        ("resolve", _resolve, "the best choice for each file, with reasons"),
        ("order", _order, "the ordered steps for each file"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("files", metavar="FILE", nargs="+")
        command.set_defaults(do=act)


def _export(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        case = windbreak.case(pick_site(windbreak, args.site))
    if args.to:
        Path(args.to).write_text(case.to_json() + "\n")
        say(f"{args.to} holds the case of {case.site.id} as of {case.at:%Y-%m-%d %H:%M} UTC.")
    else:
        print(case.to_json())
    return 0


def _resolve(args: argparse.Namespace) -> int:
    return each_file(args, _resolution, _tell_resolution)


def _order(args: argparse.Namespace) -> int:
    return each_file(args, _plan, _tell_plan)


def _read(file: str) -> Any:
    from windbreak.core.case.reading import read_case

    return read_case(Path(file).read_bytes())


def _resolution(file: str) -> dict[str, Any]:
    from windbreak.core.resolution.resolve import resolve
    from windbreak.wording.answers import answer
    from windbreak.wording.files import resolution_document

    return resolution_document(answer(resolve(_read(file))), file)


def _plan(file: str) -> dict[str, Any]:
    from windbreak.core.ordering.order import order
    from windbreak.core.resolution.resolve import resolve
    from windbreak.wording.answers import plan
    from windbreak.wording.files import plan_document

    return plan_document(plan(order(resolve(_read(file)))), file)


def _tell_resolution(document: dict[str, Any]) -> None:
    numbers = ", ".join(f"{name} {value}" for name, value in document["objective"].items())
    say(f"**{document['site']}** ({document['file']}): {numbers}")
    for verdict in document["verdicts"]:
        start, end = verdict["from"] or "absent", verdict["to"] or "absent"
        moved = f"{start} → {end}" if start != end else end
        say(f"  {verdict['outcome']:8} {verdict['product']:28} {moved}")
        if verdict["blocked"]:
            say(f"           {verdict['blocked']['text']}")
            for acts in verdict["blocked"]["unblock"]:
                say(f"             would help: {acts['text']}")


def _tell_plan(document: dict[str, Any]) -> None:
    cost = document["cost"]
    say(
        f"**{document['site']}** ({document['file']}): {cost['steps']} steps, "
        f"{cost['combined']} combined"
    )
    for number, step in enumerate(document["steps"], start=1):
        moves = " with ".join(
            f"{m['product']} {m['from'] or 'absent'} → {m['to']}" for m in step["moves"]
        )
        say(f"  {number:2}  {moves}")
        say(f"      {step['why']}")
    for stuck in document["stuck"]:
        say(f"  stuck: {stuck['text']}")
