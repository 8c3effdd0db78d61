"""What can be wrong with a stand-in site, read from ``faults.json`` beside its agent's state.

    {"slow": {"apply": 20}, "leftover": ["plugin/oarlock"]}

It is read at each call, so that a fault can be switched on and off meanwhile. What happens once is
taken out of the file as it happens.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from windbreak.links.errors import CallFailed


@dataclass(frozen=True)
class Kind:
    """A fault by what is written for it: ``takes`` is yes, seconds, calls, products or a call."""

    takes: str
    text: str
    once: bool = False


KINDS: dict[str, Kind] = {
    "silent": Kind("yes", "its agent does not answer, its pages do"),
    "down": Kind("yes", "neither its agent nor its pages answer"),
    "broken": Kind("yes", "its pages answer 500, its agent is fine"),
    "gateway": Kind("status:times", "what stands before its pages answers so many times itself"),
    "hang": Kind("seconds", "each of its pages takes so many seconds"),
    "clock": Kind("seconds", "its clock is so many seconds ahead"),
    "answer": Kind("deep or large", "its agent answers nonsense, signed"),
    "slow": Kind("call:seconds", "a call takes so much longer, with signs of life"),
    "stuck": Kind("call:seconds", "a call takes so much longer without a sign of life"),
    "gone": Kind("call:seconds", "its agent is silent for so long once the call is done", True),
    "lost": Kind("call:seconds", "the call is not done, and its agent is silent for so long", True),
    "timed-out": Kind("call:did or call:did-not", "it says that it took too long", True),
    "cut": Kind("call", "its answer to the call is cut off", True),
    "no-room": Kind("call", "there is no room until something is dropped"),
    "room": Kind("MB", "so much room is free on its disk"),
    "body": Kind("kB", "its web server takes no request that is larger"),
    "late": Kind("call:seconds", "its web server answers 502, and hands the call on so much later"),
    "unheard": Kind("call", "its web server answers the call itself, each time, and not its agent"),
    "leftover": Kind("products", "a folder of an earlier try is in the way, until it is cleared"),
    "stale": Kind("products", "its record of what can be had is old, until it is cleared"),
    "newest": Kind("products", "it says that the version is there already, and it is not"),
    "lie": Kind("products", "it says that it was applied, and nothing was done"),
    "wrong-archive": Kind("products", "it finds something else in the archive"),
    "not-writable": Kind("products", "the folder can't be written"),
    "half": Kind("products", "the folder is left half written, and the call fails", True),
    "white": Kind("products", "once applied its pages are white"),
    "editor": Kind("products", "once applied its editor opens empty, its pages are fine"),
    "writes": Kind("names", "these files of a component are written right before its swap", True),
    "late-order": Kind("yes", "an order comes in while a restore unpacks"),
    "order": Kind("call", "an order comes in during the call, or in the packing", True),
    "nobody": Kind("call", "nothing on the site does the call: a code, files made anew"),
    "left": Kind("names", "a restore is whole but for these, which its database refuses", True),
}


_TRIES = 25


class FaultRefused(ValueError):
    """What was written for a fault is not what it takes."""


def read(words: Iterable[str]) -> dict[str, Any]:
    """Faults as they are typed: ``slow=apply:20``, ``leftover=plugin/oarlock``, ``silent``. Raises
    FaultRefused.
    """
    faults: dict[str, Any] = {}
    for word in words:
        name, _, value = word.partition("=")
        kind = KINDS.get(name)
        if kind is None:
            raise FaultRefused(f"there is no fault {name!r}; there are {', '.join(KINDS)}")
        faults[name] = _value(name, kind, value, faults.get(name))
    return faults


def _value(name: str, kind: Kind, value: str, before: Any) -> Any:
    if kind.takes == "yes":
        return True
    call, _, how = value.partition(":")
    try:
        if kind.takes in ("seconds", "MB", "kB"):
            return float(value)
        if kind.takes == "call:seconds":
            return {**(before or {}), call: float(how)}
        if kind.takes == "status:times":
            return {**(before or {}), str(int(call)): int(how)}
    except ValueError:
        how = ""
    if kind.takes.startswith("call:did") and how in ("did", "did-not"):
        return {call: how}
    if kind.takes in ("products", "names") and value:
        return value.split(",")
    if kind.takes in ("call", "deep or large") and value and not how:
        return value
    raise FaultRefused(f"{name} takes {kind.takes}, as {name}={_EXAMPLES[kind.takes]}")


_EXAMPLES = {
    "seconds": "420",
    "MB": "50",
    "kB": "1024",
    "call:seconds": "apply:20",
    "status:times": "502:2",
    "call:did or call:did-not": "apply:did",
    "call": "apply",
    "products": "plugin/oarlock,plugin/lee",
    "names": "order_totals",
    "deep or large": "deep",
}


def orders(path: Path) -> dict[str, Any]:
    """What is written in a file of faults; nothing where there is none. A file that somebody is
    just writing is read again a moment later, and where it stays unreadable nothing is wrong.
    """
    for _ in range(_TRIES):
        try:
            return dict(json.loads(path.read_text()))
        except FileNotFoundError:
            return {}
        except ValueError:
            time.sleep(0.02)
    return {}


def put(path: Path, faults: Mapping[str, Any]) -> None:
    """Write a file of faults, whole at once."""
    part = path.with_suffix(".part")
    part.write_text(json.dumps(faults))
    part.replace(path)


class Faults:
    """The faults of one site."""

    def __init__(self, state: Path) -> None:
        self.path = state / "faults.json"
        self._guard = threading.Lock()
        self._silent_until = 0.0

    def all(self) -> dict[str, Any]:
        return orders(self.path)

    def of(self, name: str, thing: str) -> Any:
        """What is written of a fault for a call or a product; None where nothing is."""
        fault = self.all().get(name)
        if isinstance(fault, dict):
            return fault.get(thing)
        if isinstance(fault, (list, tuple)):
            return True if thing in fault else None
        return True if fault == thing else None

    def clear(self, name: str, thing: str) -> None:
        """Take a fault for a call or a product out of the file."""
        with self._guard:
            faults = self.all()
            left = faults.get(name)
            if isinstance(left, dict):
                left = {k: v for k, v in left.items() if k != thing}
            elif isinstance(left, list):
                left = [fault for fault in left if fault != thing]
            else:
                left = None
            others = {k: v for k, v in faults.items() if k != name}
            put(self.path, others | ({name: left} if left else {}))

    def once(self, name: str, thing: str) -> Any:
        """What is written of a fault that happens once; it is out of the file from now on."""
        fault = self.of(name, thing)
        if fault is not None:
            self.clear(name, thing)
        return fault

    def all_once(self, name: str) -> list[str]:
        """Everything that is listed for a fault that happens once; it is out of the file then."""
        listed = list(self.all().get(name, ()))
        for thing in listed:
            self.clear(name, thing)
        return listed

    # What a page answers.

    def stumbles(self) -> int | None:
        """The status that is answered in the place of a page, one time less from now on."""
        with self._guard:
            faults = self.all()
            for status, times in sorted(faults.get("gateway", {}).items()):
                left = {**faults["gateway"], status: times - 1}
                left = {status: times for status, times in left.items() if times > 0}
                put(self.path, {**faults, "gateway": left})
                return int(status)
        return None

    def hang(self) -> None:
        time.sleep(float(self.all().get("hang", 0)))

    # Whether the agent answers.

    @property
    def silent(self) -> bool:
        return bool(self.all().get("silent")) or time.monotonic() < self._silent_until

    @property
    def broken(self) -> bool:
        return bool(self.all().get("broken"))

    @property
    def down(self) -> bool:
        return bool(self.all().get("down"))

    def fall_silent(self, seconds: float) -> None:
        self._silent_until = time.monotonic() + seconds

    # What goes wrong with a call.

    def delay(self, call: str, sign: Callable[[], None]) -> None:
        """Take as long as is written, with signs of life or without."""
        slow, stuck = float(self.of("slow", call) or 0), float(self.of("stuck", call) or 0)
        end = time.monotonic() + slow
        while (left := end - time.monotonic()) > 0:
            time.sleep(min(left, 0.25))
            sign()
        time.sleep(stuck)

    def room_for(self, call: str) -> None:
        if self.of("no-room", call):
            raise CallFailed("no-room", f"there is no room on the disk for this {call}")

    def write_into(self, folder: Path) -> None:
        """Write into a component's folder, as somebody does while it is about to be swapped."""
        for name in self.all_once("writes"):
            with (folder / name).open("a") as opened:
                opened.write("written meanwhile")

    def orders_come(self, order: Callable[[], None]) -> None:
        if self.all().get("late-order"):
            order()

    def in_the_way(self, product: str) -> None:
        """What keeps a package from being applied. Raises CallFailed."""
        for name, code in (
            ("leftover", "folder-exists"),
            ("stale", "stale-record"),
            ("wrong-archive", "wrong-archive"),
            ("not-writable", "not-writable"),
            ("newest", "already-there"),
        ):
            if self.of(name, product):
                raise CallFailed(code, f"{KINDS[name].text}: {product}")
