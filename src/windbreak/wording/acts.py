"""What can be done about something, and where: each act with its command and its page.

An act is data, ``{"act": "link", "on": {"site": "tarnsey-harbour"}}``. This is the one table by
which terminal, console, mail and calendar make their own command or address of it; the console's
copy is generated from it. A test runs every command and opens every page on the demo fleet.
"""

from __future__ import annotations

import json
import shlex
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import quote

if TYPE_CHECKING:
    from windbreak.core.values.findings import NextAct


class Surface(NamedTuple):
    """How an act is done: words of a command line, and the address of a page ("" where only a
    terminal does it); ``{name}`` stands for what it is done on.
    """

    command: str
    page: str


ACTS: dict[str, Surface] = {
    "add-account": Surface("account add ID NAME", ""),
    "add-errand": Surface("errand add {site} {text}", "/sites/{site}"),
    "add-feed": Surface("feed add ID LABEL ADDRESS", "/licences"),
    "add-host": Surface("host add ID NAME --at-once 2", ""),
    "add-licence": Surface("licence add ID LABEL seats --product PRODUCT", "/licences"),
    "add-site": Surface("site add LABEL ADDRESS", "/sites"),
    "approve-release": Surface("rollout approve {product} {version}", "/products/{product}"),
    "ask-host": Surface("host ask {host} {product} {version}", "/sites?host={host}"),
    "book": Surface("book {plan}", "/sites/{site}/plan"),
    "buy-licence": Surface("licence right {site} {product}", "/licences"),
    "buy-seat": Surface("licence right {site} {product}", "/licences"),
    "by-hand": Surface("site by-hand {site} {product}", "/sites/{site}"),
    "change-rule": Surface("policy list", ""),
    "check-credential": Surface("feed check {feed}", "/licences"),
    "decide": Surface("product decide {product} {version}", "/products/{product}"),
    "enter-code-at": Surface("licence enter {licence} --site {site}", "/licences"),
    "enter-code": Surface("licence enter {licence}", "/licences"),
    "enter-host": Surface("host list", "/sites/{site}"),
    "export-case": Surface("case export {site} --to {site}.json", ""),
    "give-package": Surface("shelf give {package} {site}", "/licences"),
    "give-seat": Surface("licence seat {licence} {site}", "/licences"),
    "let-go": Surface("rollout let-go {product} {version} --why WHY", "/products/{product}"),
    "lift": Surface("product lift {hold}", "/products/{product}"),
    "link": Surface("site link {site}", "/sites/{site}"),
    "mark-own": Surface("site mark-own {site} {product}", ""),
    "poll": Surface("feed poll {feed}", "/licences"),
    "prove": Surface("site prove {site}", "/sites/{site}"),
    "read-calendar": Surface("freeze read {calendar}", "/calendar"),
    "refresh": Surface("site refresh {site}", "/sites/{site}"),
    "remove": Surface("plan {site} --remove {product}", "/sites/{site}"),
    "renew": Surface("licence renew {licence}", "/licences"),
    "replace-credential": Surface("feed credential {feed}", "/licences"),
    "see-errand": Surface("errand show {errand}", "/sites/{site}"),
    "see-files": Surface("site files {site}", "/sites/{site}"),
    "see-forecasts": Surface("licence forecast", "/licences"),
    "see-holds": Surface("product holds", "/products/{product}"),
    "see-licence": Surface("licence show {licence}", "/licences"),
    "see-licences": Surface("licence list --site {site}", "/licences"),
    "see-matter": Surface("matter show {matter}", "/runs/{matter}"),
    "see-nights": Surface("calendar", "/calendar"),
    "see-plan": Surface("plan {site}", "/sites/{site}/plan"),
    "see-product": Surface("product show {product}", "/products/{product}"),
    "see-rollout": Surface("rollout show {rollout}", "/rollouts/{rollout}"),
    "see-rules": Surface("policy list", ""),
    "see-run": Surface("run show {run}", "/runs/{run}"),
    "see-site": Surface("site show {site}", "/sites/{site}"),
    "see-sites": Surface("site list --state {state}", "/sites?state={state}"),
    "set-folder": Surface("product set {product} --folder {folder}", ""),
    "set-rule": Surface("policy set --soak major=14 --why WHY", ""),
    "shelve": Surface("shelf add {file} --for {site}", "/licences"),
    "switch-on": Surface("errand add {site} {text}", "/sites/{site}"),
    "take-channel": Surface(
        "policy set --site {site} --product {product} --channels {channels} --why {why}", ""
    ),
    "take-over": Surface("take-over", ""),
    "unseat": Surface("licence unseat {licence} {site}", "/licences"),
    "wait": Surface("why {site} {product}", "/sites/{site}"),
    "why": Surface("why {site} {product}", "/sites/{site}"),
}


def command(act: NextAct) -> str:
    """The command line that does it: ``windbreak site link tarnsey-harbour``."""
    return command_line(act.act, act.on)


def command_line(act: str, on: Mapping[str, str]) -> str:
    """The same of an act's name and what it is done on."""
    quoted = {name: shlex.quote(value) for name, value in on.items()}
    return f"windbreak {ACTS[act].command.format(**quoted)}"


def page(act: NextAct) -> str:
    """The console's page on which it is done: ``/sites/tarnsey-harbour``."""
    return _filled(ACTS[act.act].page, act.on)


def _filled(template: str, on: Mapping[str, str]) -> str:
    return template.format(**{name: quote(value, safe="/") for name, value in on.items()})


def for_console() -> str:
    """The table as the JSON that the console reads."""
    return json.dumps({act: surface._asdict() for act, surface in ACTS.items()}, indent=1)


if __name__ == "__main__":
    print(for_console())
