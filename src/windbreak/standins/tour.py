"""The tour: the whole job on the demo data without a person, each stage told and seen to happen.

Every stage looks for itself: into the site's folders, at its pages, at the agent's record of
changes. What is not seen is not told, and ends the tour with status 1.
"""

from __future__ import annotations

import time
from datetime import UTC, datetime
from pathlib import Path

from windbreak.core.values.rollouts import NewRollout
from windbreak.standins import faults
from windbreak.standins.demo import (
    register_feeds,
    register_licences,
    register_sites,
    running,
)
from windbreak.standins.fleet import FEW
from windbreak.standins.seeing import ALL_DAY, Seeing, played
from windbreak.standins.tour_nights import Nights


def play(data: Path | None) -> int:
    """Play the tour in a folder of its own; the exit status."""

    def stages(folder: Path) -> None:
        with running(folder, few=True) as (demo, where):
            _Tour(demo, where).play()
        with running(folder / "fleet") as (demo, where):
            Nights(demo, where).play()

    return played(data, "windbreak-tour-", stages)


class _Tour(Seeing):
    def play(self) -> None:
        for stage in (
            self.feeds,
            self.sites,
            self.reasons,
            self.thread,
            self.rollout,
            self.put_back,
            self.restore,
            self.killed,
        ):
            stage()
        self.windbreak.close()

    # The stages.

    def feeds(self) -> None:
        self.head("The makers' feeds are registered and read, each by its own way of signing in.")
        for line in register_feeds(self.windbreak, self.where):
            self.tell(line)
        products = {r.product.id: r.product for r in self.windbreak.products()}
        self.see("Millrace is public", products["core/millrace"].access == "public")
        self.see("Breakwater is licensed", products["theme/breakwater"].access == "licensed")
        self.see("Trestle is licensed too", products["plugin/trestle"].access == "licensed")
        again = self.windbreak.poll_feed("commons")
        self.see("a second look takes nothing in twice", not again.taken)

    def sites(self) -> None:
        self.head("The sites are registered, linked by the one line, and asked what is installed.")
        register_licences(self.windbreak, FEW)
        for line in register_sites(self.windbreak, self.where):
            self.tell(line)
        for row in self.windbreak.sites():
            self.see(f"{row.label} is linked", row.link == "linked")
            self.windbreak.set_windows(row.id, ALL_DAY, "Europe/London")
        self.tell("For the tour each site may be worked on all day.")

    def reasons(self) -> None:
        self.head("What may move at Tarnsey Harbour Museum, what may not, and why.")
        for verdict in self.windbreak.verdicts("tarnsey-harbour").verdicts:
            if verdict.outcome in ("move", "part"):
                self.tell(f"{verdict.product} {verdict.from_} → {verdict.to}")
            if verdict.blocked:
                self.tell(f"  {verdict.blocked.text}")
        core = self.windbreak.verdict("tarnsey-harbour", "core/millrace")
        kinds = [t.reason.kind for t in core.blocked.reasons] if core.blocked else []
        self.see("Millrace 6.5 waits for its soak, and says so", kinds == ["soak"])

    def thread(self) -> None:
        self.head("Its plan is approved, booked, and carried out; each step is looked at.")
        site = "tarnsey-harbour"
        plan = self.windbreak.draft_plan(site)
        for number, step in enumerate(plan.plan.steps, start=1):
            moves = " with ".join(f"{m.product} {m.from_} → {m.to}" for m in step.moves)
            self.tell(f"{number}  {moves}")
            self.tell(f"   {step.why}")
        before = self.version(site, "core/millrace")
        self.windbreak.approve_plan(plan.id, "the tour: routine updates of November")
        booking = self.windbreak.book_plan(plan.id)
        self.tell(f"Booked for {booking.starts_at:%H:%M} UTC. {booking.why}")
        self.windbreak.withdraw_booking(booking.id)
        self.windbreak.book_plan(plan.id, datetime.now(UTC))
        self.tell("Booked again, for now; the service starts it by itself.")
        self.until("the service starts the run", lambda: bool(self.windbreak.runs(site)))
        story = self.ended(self.windbreak.runs(site)[0].id)
        self.see("the run ended well", story.run.state == "done")
        after = self.version(site, "core/millrace")
        self.see(f"core/millrace in the site's folder: {before}, now {after}", after == "6.4.3")
        for path, version in (
            ("themes/breakwater", "5.2"),
            ("plugins/breakwater-keel", "2.6"),
            ("plugins/trestle", "5.1"),
            ("plugins/foglamp", "3.4"),
        ):
            self.see(f"{path} is {version}", self.version(site, path) == version)
        page = self.page(site)
        good = page.status_code == 200 and "Breakwater 5.2" in page.text
        self.see("its front page answers, made by Breakwater 5.2", good)
        self.see("automatic updates are on again", self.setting(site, "automatic_updates") == "on")
        self.see("what was off is off", self.setting(site, "on:plugin/slate-editor") == "off")

    def rollout(self) -> None:
        self.head("Millrace 6.4.3 goes to Skerry Light Trust's twin first, then to the site.")
        site, twin = "skerry-light", "skerry-light-twin"
        rollout = self.windbreak.approve_rollout(
            NewRollout(
                product="core/millrace",
                version="6.4.3",
                sites=(site,),
                quiet_minutes=0.1,
                refresh_twins=True,
                why="the tour: it holds a security fix",
            )
        )
        self.tell(f"Rollout {rollout.id}. {rollout.text} Quiet time in the tour: six seconds.")

        def state(of: str) -> str:
            story = self.windbreak.rollout(rollout.id)
            return next(m.state for m in story.members if m.site == of)

        self.until(
            "the twin is made as the site is now, and both are booked",
            lambda: state(twin) == state(site) == "booked",
        )
        # Windows open on a grid of five minutes; the tour does not wait for it.
        self._hurry(rollout.id, twin)
        self.until("the twin's run ends", lambda: state(twin) in ("done", "failed"))
        self.see("the twin has it", self.version(twin, "core/millrace") == "6.4.3")
        self.see("the site has not", self.version(site, "core/millrace") == "6.3.6")
        (gate,) = self.windbreak.rollout(rollout.id).gates
        self.see(f"its gate: {gate.text}", gate.state in ("quiet", "open"))
        self._hurry(rollout.id, site)
        self.until(
            "the rollout ends",
            lambda: self.windbreak.rollout(rollout.id).rollout.state != "going",
        )
        now = self.windbreak.rollout(rollout.id).rollout
        self.see(f"the rollout {now.state}: {now.text}", now.state == "ended well")
        self.see("the site has it", self.version(site, "core/millrace") == "6.4.3")
        oarlock = self.version(site, "plugins/oarlock")
        self.see(f"nothing else moved: Oarlock is {oarlock}", oarlock == "7.1.2")

    def _hurry(self, rollout: int, site: str) -> None:
        """Book what a rollout has booked of a site for now, in the place of its next window."""
        for booking in self.windbreak.bookings():
            if (booking.rollout, booking.site) == (rollout, site):
                self.tell(f"{booking.site}: {booking.why}")
                self.windbreak.move_booking(booking.id, datetime.now(UTC), outside_window=True)

    def put_back(self) -> None:
        self.head("At Whinchat Radio an update breaks the editor while the pages stay fine.")
        site = "whinchat-radio"
        run = self.windbreak.run_plan(self.approved(site, "the tour"), outside_window=True)
        story = self.ended(run.id)
        for line in story.journal:
            if line.state in ("failed", "put back"):
                self.tell(f"{line.act} {line.state}: {line.text}")
        self.see(f"the run ended {story.run.state}", story.run.state == "put back")
        trestle = self.version(site, "plugins/trestle")
        self.see(f"Trestle is {trestle} again", trestle == "5.0")
        theme = self.version(site, "themes/breakwater")
        self.see(f"Breakwater went back with it, to {theme}", theme == "5.1")
        self.see("its front page answers", self.page(site).status_code == 200)
        self.until(
            "it is a finding",
            lambda: any(f.id == f"run:{site}" for f in self.windbreak.findings()),
        )
        findings = [f for f in self.windbreak.findings() if f.id == f"run:{site}"]
        self.tell(findings[0].headline.replace("**", ""))

    def restore(self) -> None:
        self.head(
            "At Seapink Florists an update leaves white pages, and putting back does not help."
        )
        site = "seapink-florists"
        run = self.windbreak.run_plan(self.approved(site, "the tour"), outside_window=True)
        story = self.ended(run.id)
        self.tell(story.run.text)
        self.see(f"the run ended {story.run.state}", story.run.state == "restored")
        netloft = self.version(site, "plugins/netloft")
        self.see(f"Netloft is {netloft} again", netloft == "1.6")
        page = self.page(site)
        good = page.status_code == 200 and "Seapink" in page.text
        self.see("its front page answers, and is not white", good)

    def killed(self) -> None:
        self.head("The service is killed in the middle of a run, and started again.")
        site = "skerry-light"
        path = self.demo.standins_folder / site / "agent" / "faults.json"
        faults.put(path, {"slow": {"apply": 1.5}})
        run = self.windbreak.run_plan(self.approved(site, "the tour"), outside_window=True)
        self.until("step 2 begins", lambda: self.windbreak.run(run.id).run.step >= 2)
        time.sleep(0.5)
        self.demo.kill_service()
        self.tell(f"Killed while run {run.id} was at step 2; nothing else was told.")
        self.demo.start_service()
        path.unlink()
        self.tell("Started again; it takes the run up where it was.")
        story = self.ended(run.id)
        self.see("the run ended well", story.run.state == "done")
        meant = [e.change for e in story.journal if e.kind == "apply" and e.change]
        done = self.changes(site, "apply")
        twice = len(done) != len(set(done)) or set(meant) - set(done)
        self.see(f"{len(set(meant))} applies meant, each done once on the site", not twice)
        steps = [s.state for s in story.steps]
        self.see(f"all {len(steps)} steps are done", set(steps) == {"done"})
        oarlock = self.version(site, "plugins/oarlock")
        self.see(f"Oarlock is {oarlock} in the site's folder", oarlock == "7.2")
        self.see("automatic updates are on again", self.setting(site, "automatic_updates") == "on")
        self.see("its front page answers", self.page(site).status_code == 200)
