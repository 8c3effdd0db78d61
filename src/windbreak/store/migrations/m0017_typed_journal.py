"""The journal's acts become columns: before, an act was one text, "apply 2 plugin/lee again".

What no rule knows stays as it was, as an act of the kind ``other`` whose name is the old text.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from typing import Any

import peewee

_Columns = dict[str, Any]

_WORDS = {
    "inventory": "inventory",
    "packages": "packages",
    "own files": "own-files",
    "usual lengths": "usual-lengths",
    "baseline": "baseline",
    "snapshot": "snapshot",
    "updates paused": "updates-paused",
    "caches purged": "caches-purged",
    "as it was": "as-it-was",
    "alarm": "alarm",
    "waited": "waited",
    "restore": "restore",
    "written since the snapshot": "written-since",
    "pictures before": "pictures-before",
    "pictures after": "pictures-after",
}
_NUMBERED = {
    "step": "step",
    "overrun": "overrun",
    "page up": "page-up",
    "page down": "page-down",
    "probe": "probe",
    "read back": "read-back",
    "whole inventory": "whole-inventory",
}
_OF_PRODUCT = {
    "apply": "apply",
    "off": "switch-off",
    "on": "switch-on",
    "put back": "put-back",
    "migrate": "migrate",
    "regenerate": "regenerate",
    "register": "register",
}
_ABOUT = (
    (re.compile(r"(.+), first look"), "first-look"),
    (re.compile(r"(.+) mended"), "mended"),
    (re.compile(r"(.+) asked"), "state-asked"),
    (re.compile(r"(.+) given up"), "given-up"),
    (re.compile(r"(.+), nothing kept"), "nothing-kept"),
    (re.compile(r"left out of (.+)"), "not-made-anew"),
    (re.compile(r"lost by (.+)"), "lost"),
    (re.compile(r"clear (apply .+)"), "clear"),
    (re.compile(r"left (.+)"), "left-to-person"),
)
_WAY = re.compile(r"[a-z-]+ (\d{9,})")  # a way out, by the second at which it was taken
_FETCHES = {"1": 1, "3": 2, "9": 3}


def typed(act: str, ways: dict[str, int]) -> _Columns:
    """The columns of an act, by its text; ``ways`` numbers the ways out by their seconds."""
    text, _, leg = act.partition(", leg ")
    columns = _typed(text, ways) or {"kind": "other", "name": text}
    return {**columns, "leg": int(leg)} if leg.isdigit() else columns


def _typed(text: str, ways: dict[str, int]) -> _Columns | None:
    if text in _WORDS:
        return {"kind": _WORDS[text]}
    if (at := _WAY.fullmatch(text)) and text.startswith("restore "):
        return {"kind": "restore", "name": "by hand", "turn": ways[at[1]]}
    if text == "last probe":
        return {"kind": "probe", "name": "at the end"}
    for rule in (_about, _of_probe, _of_page, _of_product, _of_number, _else):
        if (columns := rule(text, ways)) is not None:
            return columns
    return None


def _of_probe(text: str, ways: dict[str, int]) -> _Columns | None:
    if text == "probe after restore":
        return {"kind": "probe", "name": "after restore"}
    if at := re.fullmatch(r"(probe|read back) after putting back (\d+)", text):
        return {"kind": _NUMBERED[at[1]], "step": int(at[2]), "name": "after putting back"}
    if at := re.fullmatch(r"probe after (.+)", text):
        way = _WAY.fullmatch(at[1])
        return {"kind": "probe", "name": "by hand", "turn": ways[way[1]] if way else 1}
    return None


def _of_page(text: str, ways: dict[str, int]) -> _Columns | None:
    if text == "page down after the restore":
        return {"kind": "page-down", "name": "after restore"}
    if at := re.fullmatch(r"page up (for|again) (.+)", text):
        way = _WAY.fullmatch(at[2])
        turn = {"turn": ways[way[1]]} if way else {}
        if at[1] == "again":
            return {"kind": "page-up", "name": "for help again", **turn}
        if at[2] == "help":
            return {"kind": "page-up", "name": "for help"}
        return {"kind": "page-up", "name": "restore by hand" if way else "restore", **turn}
    return None


def _of_product(text: str, ways: dict[str, int]) -> _Columns | None:
    if at := re.fullmatch(r"on at the end (\S+/\S+)", text):
        return {"kind": "switch-on", "product": at[1]}
    if at := re.fullmatch(r"on again (\d+) (\S+/\S+)", text):
        return {"kind": "switch-on", "step": int(at[1]), "product": at[2], "turn": 2}
    if at := re.fullmatch(r"([a-z ]+?)( back)? (\d+) (\S+/\S+)( again)?", text):
        kind, back = at[1], at[2]
        if kind == "put" and back:
            kind, back = "put back", None
        if kind in _OF_PRODUCT:
            columns: _Columns = {"kind": _OF_PRODUCT[kind], "step": int(at[3]), "product": at[4]}
            columns |= {"name": "back"} if back else {}
            return columns | ({"turn": 2} if at[5] else {})
    return None


def _of_number(text: str, ways: dict[str, int]) -> _Columns | None:
    at = re.fullmatch(r"([a-z ]+) (\d+)", text)
    if at and at[1] in _NUMBERED:
        return {"kind": _NUMBERED[at[1]], "step": int(at[2])}
    return None


def _else(text: str, ways: dict[str, int]) -> _Columns | None:
    if at := re.fullmatch(r"planned anew (\d+), after step (\d+)", text):
        return {"kind": "planned-anew", "step": int(at[2]), "turn": int(at[1])}
    if at := re.fullmatch(r"waits for errand (\d+)", text):
        return {"kind": "waits-for-errand", "detail": {"errand": int(at[1])}}
    if at := re.fullmatch(r"fetch (\S+/\S+) (\d+)", text):
        return {"kind": "fetched-again", "product": at[1], "turn": _FETCHES.get(at[2], 1)}
    if at := re.fullmatch(r"cache off (.+)", text):
        return {"kind": "cache-off", "name": at[1]}
    return None


def _about(text: str, ways: dict[str, int]) -> _Columns | None:
    for pattern, kind in _ABOUT:
        if (at := pattern.fullmatch(text)) and (of := _typed(at[1], ways)):
            name = f"{of['kind']} {of['name']}" if of.get("name") else of["kind"]
            return {**of, "kind": kind, "name": name}
    if (at := re.fullmatch(r"(.+) again", text)) and (of := _typed(at[1], ways)):
        return {**of, "turn": of.get("turn", 1) + 1}
    return None


def _detail(kind: str, state: str, detail: _Columns) -> _Columns:
    """What a line brought, in the shape of its kind."""
    if kind == "read-back":
        return {"versions": detail}
    if kind == "usual-lengths":
        names = {**_WORDS, **_NUMBERED, **_OF_PRODUCT}
        return {"seconds": {names[k]: v for k, v in detail.items() if k in names}}
    return detail if state == "done" or kind == "first-look" else {}


def _legs(lines: list[_Columns]) -> Iterator[_Columns]:
    """Lines with the leg in which they wait: before, only the number of the errand told that."""
    waits = 0
    for line in lines:
        if line["kind"] == "waits-for-errand":
            waits += 1
            line = {**line, "leg": waits}
        yield line


def _migrate(database: peewee.SqliteDatabase) -> None:
    ask: Callable[..., Any] = database.execute_sql
    runs = [row[0] for row in ask("SELECT DISTINCT run FROM journal ORDER BY run").fetchall()]
    for run in runs:
        bodies = ask("SELECT body FROM journal WHERE run = ? ORDER BY id", [run]).fetchall()
        lines = [json.loads(row[0]) for row in bodies]
        seconds = {at for line in lines for at in re.findall(r"\b\d{9,}\b", line["act"])}
        matter = ask("SELECT body FROM matter WHERE id = ?", [run]).fetchone()
        doing = json.loads(matter[0]).get("doing") if matter else None
        if doing:
            at = ask("SELECT strftime('%s', ?)", [doing["at"]]).fetchone()[0]
            seconds.add(str(at))
        ways = {at: number for number, at in enumerate(sorted(seconds, key=int), start=1)}
        for line in _legs([_line(line, ways) for line in lines]):
            names = ("kind", "step", "product", "name", "leg", "turn", "state", "change", "at")
            ask(
                "UPDATE journal SET kind = ?, step = ?, product = ?, name = ?, leg = ?, turn = ?, "
                "state = ?, change = ?, at = ?, body = ? WHERE id = ?",
                [*[line[name] for name in names], json.dumps(line), line["id"]],
            )
        if matter and ways:
            body = {**json.loads(matter[0]), "taken": len(ways)}
            ask("UPDATE matter SET body = ? WHERE id = ?", [json.dumps(body), run])


def _line(old: _Columns, ways: dict[str, int]) -> _Columns:
    act = typed(old["act"], ways)
    detail = old.get("detail") or {}
    return {
        "id": old["id"],
        "run": old["run"],
        "at": old["at"],
        "step": old.get("step"),
        "product": None,
        "name": None,
        "leg": 1,
        "turn": 1,
        "state": old["state"],
        "change": old.get("change"),
        "code": detail.get("code") if old["state"] == "failed" else None,
        "text": old.get("text", ""),
        "detail": _detail(act["kind"], old["state"], detail),
        **act,
    }


STEPS = (
    "ALTER TABLE journal ADD COLUMN kind TEXT NOT NULL DEFAULT 'other'",
    "ALTER TABLE journal ADD COLUMN step INTEGER",
    "ALTER TABLE journal ADD COLUMN product TEXT",
    "ALTER TABLE journal ADD COLUMN name TEXT",
    "ALTER TABLE journal ADD COLUMN leg INTEGER NOT NULL DEFAULT 1",
    "ALTER TABLE journal ADD COLUMN turn INTEGER NOT NULL DEFAULT 1",
    "ALTER TABLE journal ADD COLUMN state TEXT NOT NULL DEFAULT 'noted'",
    "ALTER TABLE journal ADD COLUMN change TEXT",
    "ALTER TABLE journal ADD COLUMN at TEXT NOT NULL DEFAULT ''",
    _migrate,
    "CREATE INDEX journal_kind ON journal (kind, run)",
    "CREATE INDEX journal_change ON journal (change) WHERE change IS NOT NULL",
)
