"""A bad night, many times over: ``python -m tests.torture [--seed 7] [--short]``.

Runs are carried out over the demo fleet while the service is killed 200 times and the sites' side
100 times at random instants, 1,000 messages between them are cut, delayed, doubled and garbled, and
the disk is filled. Then everything is held against what may be: see ``checks``. The seed is printed
first, and given again it makes the same choices.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TypeVar

from tests.torture.checks import Checks
from tests.torture.proxy import Proxy
from windbreak.client import ClientError, Unreachable, Windbreak
from windbreak.standins import faults
from windbreak.standins.demo import Demo, set_up

T = TypeVar("T")

_PATIENCE = 420.0  # seconds for all runs of one round to end, once it is quiet
_DISK = "96m"


class Night:
    """One torture, from set-up to checks."""

    def __init__(
        self, folder: Path, seed: int, kills: int, cuts: int, messages: int, *, few: bool = False
    ) -> None:
        self.chance = random.Random(seed)
        self.kills, self.cuts, self.messages = kills, cuts, messages
        self.killed = self.cut = self.filled = self.rounds = 0
        self.demo = Demo(folder, few=few)
        self.demo.service_folder.mkdir(parents=True)
        self.disk = _own_disk(self.demo.service_folder)
        where = self.demo.start_standins()
        ports = {name: int(address.rsplit(":", 1)[1]) for name, address in where.items()}
        sites = {name: port for name, port in ports.items() if name != "feeds"}
        self.proxy = Proxy(sites, self.chance, share=0.2)
        self.where = {
            name: f"http://127.0.0.1:{self.proxy.ports.get(name, port)}"
            for name, port in ports.items()
        }
        self.demo.start_service()
        set_up(self.demo, self.where)
        self.token = self.demo.token("torture")
        self.windbreak = Windbreak(self.demo.address, self.token)
        for host in self.windbreak.hosts():
            self.windbreak.put_host(host.model_copy(update={"at_once": 40}))
        self.sites = [s.id for s in self.windbreak.sites(limit=200) if s.link == "linked"]
        self.pristine = folder / "pristine"
        for site in self.sites:
            place = self.demo.standins_folder / site / "site"
            shutil.copytree(place, self.pristine / site)

    def go(self) -> list[str]:
        """Round after round until all was done that was to be; what was not as it must be."""
        wrong: list[str] = []
        while self.left():
            self.rounds += 1
            begun = self._begin()
            self._disturb(begun)
            self._settle(begun)
            wrong += Checks(self.demo, self.windbreak, self.pristine, begun).all()
            print(self.stands(), f"{len(wrong)} wrong", flush=True)
            self._anew()
        return wrong

    def left(self) -> bool:
        tampered = sum(self.proxy.done.values())
        return self.killed < self.kills or self.cut < self.cuts or tampered < self.messages

    def stands(self) -> str:
        how = ", ".join(f"{n} {what}" for what, n in sorted(self.proxy.done.items()))
        return (
            f"round {self.rounds}: service killed {self.killed} times, sites {self.cut}, "
            f"disk full {self.filled}; messages: {how or 'none'};"
        )

    def asked(self, call: Callable[[], T]) -> T:
        """An answer of the service, however often it was killed meanwhile."""
        until = time.monotonic() + _PATIENCE
        while True:
            try:
                return call()
            except Unreachable:
                if time.monotonic() > until:
                    raise
                time.sleep(0.1)

    def _begin(self) -> dict[str, int]:
        """Begin a run at each site that has something to do, all together; run by site."""
        plans, begun = {}, {}
        for site in self.sites:
            try:
                plan = self.windbreak.draft_plan(site)
                if not plan.plan.steps:
                    continue
                # In some, the snapshot may be restored whatever came in meanwhile.
                anyway = self.chance.random() < 0.5
                self.windbreak.approve_plan(plan.id, "torture", anyway, "carry-over")
                plans[site] = plan.id
            except ClientError as error:
                print(f"  {site} has no plan: {error}", flush=True)
            slow = {"slow": {"apply": self.chance.uniform(0, 4)}}
            faults.put(self._faults(site), slow)
        self.proxy.rough = True
        for site, number in plans.items():
            try:
                begun[site] = self.windbreak.run_plan(number, outside_window=True).id
            except ClientError as error:
                print(f"  {site} has no run: {error}", flush=True)
        return begun

    def _faults(self, site: str) -> Path:
        return self.demo.standins_folder / site / "agent" / "faults.json"

    def _disturb(self, begun: dict[str, int]) -> None:
        while self.left() and self._going(begun):
            time.sleep(self.chance.uniform(0.05, 1.2))
            what = self.chance.choices(("kill", "cut", "fill", "order"), (6, 3, 1, 2))[0]
            if what == "kill" and self.killed < self.kills:
                self.demo.kill_service()
                self.killed += 1
                self.demo.start_service()
            elif what == "cut" and self.cut < self.cuts:
                self.demo.kill("standins")
                self.cut += 1
                time.sleep(self.chance.uniform(0, 1))
                self.demo.start_standins()
            elif what == "fill" and self.disk:
                self._fill()
            elif what == "order":
                site = self.chance.choice(self.sites)
                with contextlib.suppress(OSError):
                    _order(self.where[site])
        self.proxy.rough = False

    def _going(self, begun: dict[str, int]) -> bool:
        runs = self.asked(lambda: self.windbreak.runs(limit=200))
        return any(run.state == "running" and run.id in begun.values() for run in runs)

    def _fill(self) -> None:
        """Leave no room on the service's disk for some seconds."""
        filler = self.demo.service_folder / "filler"
        with contextlib.suppress(OSError), filler.open("wb") as opened:
            while True:
                opened.write(b"\0" * 2**16)
                opened.flush()
        time.sleep(self.chance.uniform(0.5, 3))
        filler.unlink()
        self.filled += 1

    def _settle(self, begun: dict[str, int]) -> None:
        """Peace, until every run has ended and what is owed was paid."""
        for site in self.sites:
            self._faults(site).unlink(missing_ok=True)
        until = time.monotonic() + _PATIENCE
        while self._going(begun):
            if time.monotonic() > until:
                return  # the checks tell of it
            time.sleep(0.5)
        for matter in self.asked(self.windbreak.matters):
            if "fault of the service" in matter.text:
                self._take(matter.id, "try-again")
        while self._going(begun) and time.monotonic() < until:
            time.sleep(0.5)
        task = self.asked(lambda: self.windbreak.refresh_sites(self.sites))
        while self.asked(lambda: self.windbreak.task(task.id)).state == "running":
            time.sleep(0.2)

    def _take(self, matter: int, act: str) -> None:
        try:
            self.asked(lambda: self.windbreak.take_way_out(matter, act, "torture"))
        except ClientError as error:
            print(f"  matter {matter}, {act}: {error}", flush=True)
            return
        until = time.monotonic() + 120
        while time.monotonic() < until:
            if self.asked(lambda: self.windbreak.matter(matter)).matter.doing is None:
                return
            time.sleep(0.2)

    def _anew(self) -> None:
        """Close what is open, and lay the sites out as they were."""
        for matter in self.asked(self.windbreak.matters):
            ways = self.asked(lambda id=matter.id: self.windbreak.matter(id)).ways  # type: ignore[misc]
            possible = [w.act for w in ways if w.possible and w.closes and w.act != "try-again"]
            self._take(matter.id, self.chance.choice(possible))
        self.demo.kill("standins")
        for site in self.sites:
            place = self.demo.standins_folder / site / "site"
            shutil.rmtree(place)
            shutil.copytree(self.pristine / site, place)
        self.demo.start_standins()
        task = self.asked(lambda: self.windbreak.refresh_sites(self.sites))
        while self.asked(lambda: self.windbreak.task(task.id)).state == "running":
            time.sleep(0.2)


def _order(address: str) -> None:
    import httpx

    with contextlib.suppress(httpx.HTTPError):
        httpx.post(f"{address}/order", trust_env=False, timeout=5)


def _own_disk(folder: Path) -> bool:
    """Give a folder a small disk of its own, where that may be done; whether it was."""
    command = ["mount", "-t", "tmpfs", "-o", f"size={_DISK}", "tmpfs", str(folder)]
    return os.geteuid() == 0 and subprocess.run(command, check=False).returncode == 0


@contextlib.contextmanager
def night(seed: int, kills: int, cuts: int, messages: int, *, few: bool = False) -> Iterator[Night]:
    """A night, all of which ends with it. ``few``: over five sites of the demo fleet."""
    with tempfile.TemporaryDirectory(prefix="windbreak-torture-") as name:
        folder, made = Path(name), None
        try:
            made = Night(folder, seed, kills, cuts, messages, few=few)
            yield made
        finally:
            if made is not None:
                made.windbreak.close()
                made.demo.stop()
                made.proxy.stop()
            subprocess.run(["umount", str(folder / "service")], check=False, capture_output=True)


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.torture")
    parser.add_argument("--seed", type=int, default=int.from_bytes(os.urandom(3), "big"))
    parser.add_argument("--short", action="store_true", help="a tenth of it")
    args = parser.parse_args()
    part = 10 if args.short else 1
    print(f"seed {args.seed}: SEED={args.seed} make torture does the same again", flush=True)
    began = time.monotonic()
    with night(args.seed, 200 // part, 100 // part, 1000 // part) as made:
        wrong = made.go()
        if not made.disk:
            print("the disk was not filled: a disk of its own can be mounted by root alone")
        for text in wrong:
            print(f"WRONG  {text}")
        print(f"{made.stands()} {len(wrong)} wrong; {(time.monotonic() - began) / 60:.1f} min")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
