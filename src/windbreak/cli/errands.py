"""``windbreak errand`` and ``task``: work for a person, and work of the service."""

from __future__ import annotations

import argparse
import sys
import time
from typing import TYPE_CHECKING, Any

from windbreak.cli.output import a_day, ask, dump, local, say, table
from windbreak.cli.profile import connect, pick_site

if TYPE_CHECKING:
    from windbreak.core.values.errands import Errand
    from windbreak.core.values.tasks import Task


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    errand = commands.add_parser("errand", help="errands: work that only a person can do")
    verbs = errand.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="what keeps a run first, then by day")
    command.add_argument("--site", metavar="SITE")
    command.add_argument("--every", action="store_true", help="also what is done")
    command.set_defaults(do=_list)
    command = verbs.add_parser("show", parents=[common], help="one errand")
    command.add_argument("errand", metavar="ERRAND", type=int)
    command.set_defaults(do=_show)
    command = verbs.add_parser("add", parents=[common], help="write one down")
    command.add_argument("site", metavar="SITE")
    command.add_argument("text", metavar="TEXT")
    command.add_argument("--due", type=a_day, metavar="DAY", help="as 2026-12-04")
    command.set_defaults(do=_add)
    command = verbs.add_parser(
        "done", parents=[common], help="it is done; a run that waited goes on"
    )
    command.add_argument("errand", metavar="ERRAND", type=int)
    command.add_argument("--how", default="", metavar="TEXT", help="what was done, for the ledger")
    command.add_argument("--stay", action="store_true", help="do not go on with the run that waits")
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_done)
    task = commands.add_parser("task", help="work of the service that outlives a request")
    verbs = task.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="the newest first")
    command.set_defaults(do=_tasks)
    command = verbs.add_parser(
        "watch", parents=[common], help="follow one; Ctrl-C leaves it running"
    )
    command.add_argument("task", metavar="TASK", type=int)
    command.set_defaults(do=_watch)
    command = commands.add_parser(
        "rotate-keys", parents=[common], help="turn the keys of the service and its agents"
    )
    command.add_argument("--yes", action="store_true")
    command.set_defaults(do=_rotate)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        site = pick_site(windbreak, args.site) if args.site else None
        errands = windbreak.errands(site=site, every=args.every)
    if args.json:
        return dump(errands)
    table(
        ["errand", "site", "due", "run", "what", "done"],
        ((e.id, e.site, _due(e), e.run or "", e.text, _closed(e)) for e in errands),
        "Nobody has anything to do.",
    )
    return None


def _due(errand: Errand) -> str:
    if errand.blocking and errand.closed_at is None:
        return "keeps its run"
    return f"{errand.due:%a %d %b}" if errand.due else ""


def _closed(errand: Errand) -> str:
    return f"{local(errand.closed_at)} by {errand.closed_by}" if errand.closed_at else ""


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        errand = windbreak.errand(args.errand)
    if args.json:
        return dump(errand)
    say(f"**{errand.site}**, errand {errand.id}: {errand.text}")
    if errand.closed_at is not None:
        say(f"Done by {errand.closed_by}, {local(errand.closed_at)}. {errand.how}")
        return None
    if errand.run is not None:
        version = f" to {errand.version}" if errand.version else ""
        say(f"It comes from {errand.product or 'run'}{version}, run {errand.run}.")
    due = f"Due {errand.due:%a %d %b}. " if errand.due else ""
    keeps = f"Run {errand.run} waits for it. " if errand.blocking else ""
    say(f"{keeps}{due}When it is done: windbreak errand done {errand.id}")
    return None


def _add(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        errand = windbreak.add_errand(pick_site(windbreak, args.site), args.text, args.due)
    dump(errand) if args.json else say(f"Errand {errand.id} for **{errand.site}** is written down.")


def _done(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        errand = windbreak.close_errand(args.errand, args.how)
        run = errand.run or 0
        waits = run > 0 and windbreak.run(run).run.errand == errand.id
        if waits and not args.stay:
            ask(
                f"Run {errand.run} waited for it. Would go on with **{errand.site}** now, after a "
                "fresh look and a new snapshot.",
                yes=args.yes,
            )
            windbreak.go_on(run)
    if args.json:
        return dump(errand)
    say(f"Errand {errand.id} is done.")
    if waits and args.stay:
        say(f"Run {errand.run} still waits: windbreak run go-on {errand.run}")
    elif waits:
        say(f"Run {errand.run} goes on: windbreak run watch {errand.run}")
    return None


def _tasks(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        tasks = windbreak.tasks()
    if args.json:
        return dump(tasks)
    table(
        ["task", "what", "begun", "state", "come to", "how it stands"],
        (
            (
                t.id,
                t.kind,
                local(t.made_at),
                t.state,
                f"{len(t.ended)} of {len(t.sites)}",
                t.text or t.phase,
            )
            for t in tasks
        ),
        "There was no task yet.",
    )
    return None


def _come(task: Task) -> str:
    return f"{len(task.ended)} of {len(task.sites)}"


def _watch(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        task = follow(windbreak, args.task, quiet=args.json)
    dump(task) if args.json else say(f"Task {task.id}, {task.kind}: {task.state}. {task.text}")
    return 0 if task.state == "done" else 1


def follow(windbreak: Any, task: int, *, quiet: bool = False) -> Task:
    """A task once it has ended; told on the way where somebody looks. Raises Refusal on Ctrl-C."""
    from windbreak.cli.refusals import Refusal

    last_line, live = "", sys.stderr.isatty() and not quiet
    try:
        while True:
            now: Task = windbreak.task(task)
            text = f"{now.kind}: {len(now.ended)} of {len(now.sites)} {now.phase}"
            if live and text != last_line:
                print(f"\r\033[K{text}", end="", file=sys.stderr, flush=True)
                last_line = text
            if now.state != "running":
                if last_line:
                    print("\r\033[K", end="", file=sys.stderr)
                return now
            time.sleep(0.2)
    except KeyboardInterrupt:
        raise Refusal(f"task {task} goes on; windbreak task watch {task}", 130) from None


def _rotate(args: argparse.Namespace) -> int:
    with connect(args) as windbreak:
        ask(
            "Would announce new keys to every linked site, under the old ones; a site that does "
            "not answer keeps the old until it does.",
            yes=args.yes,
        )
        task = follow(windbreak, windbreak.rotate_keys().id, quiet=args.json)
    if args.json:
        dump(task)
        return 0
    say(f"Keys of {sum(s.well for s in task.ended)} of {len(task.ended)} sites are turned.")
    for subject in task.ended:
        if not subject.well:
            say(f"  {subject.site}: {subject.text}")
    return 0 if all(subject.well for subject in task.ended) else 5
