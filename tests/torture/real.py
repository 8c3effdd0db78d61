"""A bad night on a real system: ``python -m tests.torture.real [--seed 7] [--kills 30]``.

A run moves a theme with what it carries, and a cache; the service is killed at a random instant of
it, and started again. Then what the system itself lists, its pages and the agent's own record are
held against what may be. After each run everything is as it was released first again.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path

import httpx

from windbreak.client import Windbreak
from windbreak.core.values.holds import NewHold
from windbreak.standins import catalogue, real, real_fleet, workshop
from windbreak.standins.demo import running
from windbreak.standins.seeing import ALL_DAY
from windbreak.standins.workshop import DOCK, DUNE, ICONS, SLIDES, STILL

SITE = real_fleet.SITES[0][0]
MOVED = (DOCK, DUNE, SLIDES, ICONS, STILL)


class Night:
    """Kills on one site, and what was wrong after each."""

    def __init__(self, windbreak: Windbreak, site: real.RealSite, chance: random.Random) -> None:
        self.windbreak, self.site, self.chance = windbreak, site, chance
        self.state = next(site.folder.glob(".windbreak-*"))
        self.usual = 20.0  # seconds that a run takes without a kill

    def back_to_first(self) -> None:
        """Everything as it was released first, by hand."""
        made = [*(workshop.release(*which) for which in workshop.INSTALLED), workshop.OWN]
        plugins = self.site.root / "wp-content/plugins"
        for product in MOVED:
            kind, slug = product.split("/")
            for file in sorted((plugins.parent / f"{kind}s" / slug).rglob("*"), reverse=True):
                file.unlink() if file.is_file() else file.rmdir()
        self.site.put([catalogue.archive(one) for one in made])
        self.windbreak.refresh_site(SITE)

    def begin(self) -> int:
        plan = self.windbreak.draft_plan(SITE)
        if set(plan.targets) != set(MOVED):
            raise RuntimeError(f"the plan moves {sorted(plan.targets)}")
        self.windbreak.approve_plan(plan.id, "a bad night")
        return self.windbreak.run_plan(plan.id, outside_window=True).id

    def wrong(self, run: int) -> list[str]:
        """What is not as it has to be after a run, by witnesses other than the agent's answers."""
        story, listed = self.windbreak.run(run), self.site.listed()
        found = (
            [] if story.run.state == "done" else [f"it ended {story.run.state}: {story.run.text}"]
        )
        found += [f"{p} is {listed.get(p)}" for p in MOVED if listed.get(p) != "1.1"]
        facts = json.loads((self.state / "facts.json").read_text())
        found += [f"{name} is still set" for name in ("page", "updates-paused") if name in facts]
        if not (self.site.root / "wp-content/advanced-cache.php").exists():
            found.append("the cache is off")
        if self.windbreak.debts(SITE):
            found.append("something is owed")
        for note in ("swap.json", "restore.json", "core.json"):
            if (self.state / note).exists():
                found.append(f"{note} was left")
        done = [line for line in story.journal if line.state == "done"]
        for product in MOVED:
            times = sum((line.kind, line.product) == ("apply", product) for line in done)
            if times != 1:
                found.append(f"{product} was applied {times} times")
        answer = httpx.get(self.site.address, trust_env=False, timeout=30)
        if answer.status_code != 200 or "Dune 1.1" not in answer.text:
            found.append(f"its front page answers {answer.status_code}")
        return found


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.torture.real")
    parser.add_argument("--seed", type=int, default=int.from_bytes(os.urandom(3), "big"))
    parser.add_argument("--kills", type=int, default=30)
    args = parser.parse_args()
    print(f"seed {args.seed}", flush=True)
    os.environ["WINDBREAK_PROVE_DAYS"] = "0"  # no proof of a backup begins by itself meanwhile
    began, bad = time.monotonic(), 0
    with tempfile.TemporaryDirectory(prefix="windbreak-torture-") as name, ExitStack() as besides:
        demo, where = besides.enter_context(running(Path(name), few=True))
        windbreak = Windbreak(demo.address, demo.token("torture"))
        started, _ = real_fleet.join(windbreak, Path(name) / "real", where["feeds"])
        for one in started:
            besides.callback(one.stop)
        for row in windbreak.site(SITE).components:
            if row.product not in MOVED:
                windbreak.make_hold(NewHold(product=row.product, site=SITE, reason="another night"))
        windbreak.set_windows(SITE, ALL_DAY, "Europe/London")
        night = Night(windbreak, started[0], random.Random(args.seed))
        for kill in range(args.kills + 1):
            run, start = night.begin(), time.monotonic()
            at = night.chance.uniform(0.1, night.usual)
            if kill:
                time.sleep(at)
                demo.kill_service()
                demo.start_service()
            windbreak.wait(run, timeout=300)
            if not kill:  # the first is let be, to learn how long one takes
                night.usual = time.monotonic() - start
            wrong = night.wrong(run)
            bad += len(wrong)
            what = f"killed after {at:.1f} s" if kill else f"let be: {night.usual:.0f} s"
            print(f"{kill:3}  {what}: {'; '.join(wrong) or 'as it has to be'}", flush=True)
            night.back_to_first()
        windbreak.close()
    print(f"{args.kills} kills, {bad} wrong; {(time.monotonic() - began) / 60:.1f} min")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
