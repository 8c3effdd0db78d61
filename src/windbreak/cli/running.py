"""``windbreak run``: started, watched, shown, stopped."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from windbreak.cli import clock
from windbreak.cli.output import ask, dump, local, plain, say, styled, table
from windbreak.cli.profile import connect

if TYPE_CHECKING:
    from windbreak.core.values.errands import Errand
    from windbreak.documents.runs import Pacing, RunStep, RunStory

_MARKS = {
    "to come": "○",
    "running": "◐",
    "done": "[green]●[/]",
    "failed": "[red]✕[/]",
    "put back": "[red]↶[/]",
}
ENDED_WELL = "done"
T = TypeVar("T")


def add(commands: Any, common: argparse.ArgumentParser) -> None:
    run = commands.add_parser("run", help="runs: start, watch, show, stop, ask, go-on, lost, list")
    verbs = run.add_subparsers(dest="verb", metavar="VERB", required=True)
    command = verbs.add_parser("list", parents=[common], help="the runs, newest first")
    command.add_argument("--site")
    command.set_defaults(do=_list)
    command = verbs.add_parser("start", parents=[common], help="carry an approved plan out now")
    command.add_argument("plan", metavar="PLAN", type=int)
    command.add_argument("--yes", action="store_true")
    command.add_argument("--watch", action="store_true", help="follow it to its end")
    command.add_argument(
        "--outside-window",
        action="store_true",
        help="begin outside of the windows of its site too; --yes alone does not answer that",
    )
    command.add_argument(
        "--although-it-failed",
        action="store_true",
        help="run it here although an update in it failed on another site",
    )
    command.set_defaults(do=_start)
    for verb, act, words in (
        ("watch", _watch, "follow a run; Ctrl-C leaves it running"),
        ("show", _show, "a run's steps, what was seen, its journal"),
        ("stop", _stop, "stop after the step it is at; one that waits, once its site answers"),
        ("ask", _ask, "ask the site of a run that waits for it, now"),
        ("go-on", _go_on, "go on with a run whose errand is done"),
    ):
        command = verbs.add_parser(verb, parents=[common], help=words)
        command.add_argument("run", metavar="RUN", type=int)
        command.set_defaults(do=act)
    command = verbs.add_parser(
        "lost", parents=[common], help="what a restore lost, as CSV for the site's owner"
    )
    command.add_argument("run", metavar="RUN", type=int)
    command.add_argument("--to", metavar="FILE", help="written there; else printed")
    command.set_defaults(do=_lost)


def _list(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        runs = windbreak.runs(site=args.site)
    if args.json:
        return dump(runs)
    table(
        ["run", "site", "state", "step", "begun", "how it stands"],
        ((r.id, r.site, r.state, f"{r.step}/{r.steps}", local(r.started_at), r.text)
         for r in runs),
        "Nothing has run yet.",
    )  # fmt: skip
    return None


def _lost(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        if args.json:
            return dump(windbreak.run(args.run).lost)
        text = windbreak.lost_csv(args.run)
    if args.to is None:
        return print(text, end="")
    Path(args.to).write_text(text, newline="")
    return say(f"Written to {args.to}.")


def _start(args: argparse.Namespace) -> int:
    from windbreak.wording.words import counted

    with connect(args) as windbreak:
        plan = windbreak.plan(args.plan)
        ask(
            f"Would change **{plan.site}** now: {counted(len(plan.plan.steps), 'step')}, "
            "each looked at; "
            "a step that fails is put back.",
            yes=args.yes,
        )
        although = args.although_it_failed
        run = outside_if_meant(
            args, lambda outside: windbreak.run_plan(args.plan, outside, although)
        )
        if not args.watch:
            if args.json:
                dump(run)
            elif args.quiet:
                print(run.id)
            else:
                say(f"Run {run.id} has begun. Follow it: windbreak run watch {run.id}")
            return 0
        args.run = run.id
    return _watch(args)


def outside_if_meant(args: argparse.Namespace, do: Callable[[bool], T]) -> T:
    """Do something, outside of a site's windows too where that is meant: said by an option, or
    asked at a terminal. Raises Refusal.
    """
    from windbreak.client.errors import Problem

    try:
        return do(args.outside_window)
    except Problem as error:
        if error.code != "outside-window" or not sys.stdin.isatty():
            raise
        ask(f"{str(error).partition('. If you mean it')[0]}. Do it all the same?", yes=False)
        return do(True)


def _watch(args: argparse.Namespace) -> int:
    from windbreak.cli.refusals import Refusal

    with connect(args) as windbreak:
        try:
            if args.json or not sys.stdout.isatty():
                story = windbreak.wait(args.run, timeout=24 * 3600)
                dump(story) if args.json else tell(story)
            else:
                story = _live(windbreak, args.run)
        except KeyboardInterrupt:
            raise Refusal(
                f"run {args.run} goes on without you; windbreak run watch {args.run}", 130
            ) from None
    return 0 if story.run.state == ENDED_WELL else 1


def _live(windbreak: Any, run: int) -> RunStory:
    from rich.console import Group
    from rich.live import Live
    from rich.text import Text

    with Live(refresh_per_second=4) as live:

        def heard(story: RunStory) -> None:
            live.update(Group(*(Text.from_markup(line) for line in _lines(story))))

        story: RunStory = windbreak.wait(run, timeout=24 * 3600, heard=heard)
        heard(story)
    return story


def _lines(story: RunStory) -> list[str]:
    run = story.run
    lines = [f"[bold]{plain(run.site)}[/], run {run.id} of plan {run.plan}, by {plain(run.by)}"]
    for step in story.steps:
        lines.append(_line(step))
        if step.state in ("to come", "running"):
            lines += [f"        {plain(text)}" for text in step.brings]
    lines.append(f"{run.state}: {plain(run.text)}")
    if run.reckoned is not None:
        took = (run.ended_at or clock.now()) - run.started_at
        word = "took" if run.ended_at else "so far"
        lines.append(f"reckoned at {_length(run.reckoned)}, {word} {_length(took.total_seconds())}")
    lines += [_pace(story.pace)] if story.pace else []
    if run.waiting_since is not None:
        lines.append(f"[red]Waiting for its site.[/] {plain(run.waiting)}")
        lines.append(
            f"Nothing is put back for silence. windbreak run ask {run.id} asks it now; windbreak "
            f"run stop {run.id} ends it when it answers."
        )
    lines += [f"[yellow]Other hands:[/] {plain(text)}" for text in run.surprises]
    lines += [_errand(errand) for errand in story.errands if errand.closed_at is None]
    if story.matter is not None and story.matter.closed_at is None:
        lines.append(f"A matter is open: windbreak matter show {run.id}")
    return lines


def _pace(pace: Pacing) -> str:
    """``slow: apply 2 plugin/lee, moving 3 of 10; 1:20 so far, usually 0:20; last sign 3 s ago``"""
    now = clock.now()
    last = max((*pace.signs, pace.began_at))
    tone = {"usual": "", "slow": "[blue]slow[/]: ", "stuck": "[red]stuck[/]: "}[pace.state]
    progress = f", {pace.progress}" if pace.progress else ""
    so_far, usual = _length((now - pace.began_at).total_seconds()), _length(pace.usual_seconds)
    times = (
        f"{so_far} so far, usually {usual}; last sign {_length((now - last).total_seconds())} ago"
    )
    return f"{tone}{plain(pace.act + progress)}; {times}"


def _length(seconds: float) -> str:
    return f"{int(seconds) // 60}:{int(seconds) % 60:02}"


def _errand(errand: Errand) -> str:
    from windbreak.wording.words import day

    when = f"due {day(errand.due, clock.now().date())}" if errand.due else "no day"
    when = "the run waits for it" if errand.blocking else when
    return f"Errand {errand.id}: {plain(errand.text)}, {when}. windbreak errand done {errand.id}"


def _line(step: RunStep) -> str:
    took = ""
    if step.started_at:
        end = step.ended_at or clock.now()
        took = f"  {_length((end - step.started_at).total_seconds())}"
    seen = ""
    if step.seen:
        same = sum(s.verdict == "as before" for s in step.seen)
        seen = f"  as before on {same} of {len(step.seen)} looks"
    elif step.state == "to come":
        seen = f"  {plain(step.why)}"
    return f"  {_MARKS[step.state]} {step.number:2}  {plain(step.title)}{took}{seen}"


def tell(story: RunStory) -> None:
    """Print a run as it stands."""
    for line in _lines(story):
        styled(line)


def _show(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        story = windbreak.run(args.run)
    if args.json:
        return dump(story)
    tell(story)
    if story.seen:
        print()
        when = f"after step {story.seen_after}" if story.seen_after else "at the end"
        say(f"Probe: before the run, and {when}")
        table(
            ["page", "before", "now", "verdict"],
            ((s.name, s.before, s.now, s.verdict) for s in story.seen),
            "",
        )
    print()
    say(f"To be as it was: {story.as_it_was}")
    for entry in story.journal:
        change = f"  {entry.change}" if entry.change else ""
        at = entry.at.astimezone()
        say(f"  {at:%H:%M:%S}  {entry.state:9} {entry.act}: {entry.text}{change}")
    return None


def _ask(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        run = windbreak.ask_now(args.run)
    dump(run) if args.json else say(f"Run {run.id}: its site is asked now. {run.waiting}")


def _go_on(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        run = windbreak.go_on(args.run)
    dump(run) if args.json else say(f"Run {run.id} goes on: windbreak run watch {run.id}")


def _stop(args: argparse.Namespace) -> None:
    with connect(args) as windbreak:
        run = windbreak.stop_run(args.run)
    dump(run) if args.json else say(f"Run {run.id} stops after step {run.step}.")
