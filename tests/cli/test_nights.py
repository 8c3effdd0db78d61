"""The whole fleet from a terminal: drafted, approved, shown, pinned, played, decided."""

import json
import os
import pty
import subprocess
import sys
import tempfile
from datetime import timedelta
from pathlib import Path

from tests.cli.test_cli import windbreak
from tests.running import WithDemo
from windbreak.core.values.freezes import NewFreeze
from windbreak.core.values.rollouts import NewRollout


class Nights(WithDemo):
    def ask(self, *args: str) -> subprocess.CompletedProcess[str]:
        return windbreak(*args, WINDBREAK_SERVICE=self.demo.address, WINDBREAK_TOKEN=self.token)

    def told(self, *args: str) -> str:
        done = self.ask(*args)
        self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
        return done.stdout

    def test_1_a_draft_changes_nothing_and_an_approval_is_asked(self) -> None:
        draft = self.told("rollout", "draft")
        for part in ("Twins, each before its own site", "The rest", "Nothing is approved yet"):
            self.assertIn(part, draft)
        self.assertEqual(json.loads(self.told("rollout", "draft", "--json"))["before"], [])
        refused = self.ask("rollout", "approve")
        self.assertEqual((refused.returncode, "--yes" in refused.stderr), (2, True))
        self.assertEqual(self.windbreak.rollouts(), [])
        half = self.ask("rollout", "draft", "millrace")
        self.assertEqual(half.returncode, 2)
        self.assertIn("say both, or neither", half.stderr)
        none = self.ask("rollout", "approve", "millrace", "99", "--yes")
        self.assertEqual(none.returncode, 1)
        self.assertIn("can take Millrace 99 now", none.stderr)

    def test_1_what_changed_since_a_draft_was_shown_is_told_and_asked_again(self) -> None:
        terminal, theirs = pty.openpty()
        self.addCleanup(os.close, terminal)
        process = subprocess.Popen(
            [sys.executable, "-m", "windbreak", "rollout", "approve"],
            stdin=theirs,
            stdout=theirs,
            stderr=theirs,
            env=os.environ
            | {"WINDBREAK_SERVICE": self.demo.address, "WINDBREAK_TOKEN": self.token},
        )
        os.close(theirs)
        self.read_until(terminal, "Go on? [y/N]")
        first = min(
            (m for m in self.windbreak.draft_rollout(NewRollout()).members if m.starts_at),
            key=lambda m: m.starts_at,  # type: ignore[arg-type,return-value]
        )
        assert first.starts_at is not None
        ends = first.starts_at + timedelta(hours=9)
        freeze = NewFreeze(from_=first.starts_at, to=ends, site=first.site, reason="a sale")
        frozen = self.windbreak.add_freeze(freeze).freeze
        os.write(terminal, b"y\n")
        told = self.read_until(terminal, "Go on? [y/N]")
        self.assertIn("Something changed since this was shown. Nothing was approved.", told)
        self.assertIn(f"{first.label} can’t go", told)
        self.assertEqual(self.windbreak.rollouts(), [])
        os.write(terminal, b"n\n")
        self.assertEqual(process.wait(60), 1)
        self.windbreak.lift_freeze(frozen.id)

    def read_until(self, terminal: int, part: str) -> str:
        """What a terminal shows up to some words."""
        text = b""
        while part.encode() not in text:
            text += os.read(terminal, 4096)
        return " ".join(text.decode().split())

    def test_2_it_is_approved_shown_pinned_and_taken_out(self) -> None:
        data = str(self.demo.data)
        self.told("demo-fault", "seapink-florists", "silent", "--data", data)
        self.ask("site", "refresh", "seapink-florists")
        story = self.told("rollout", "approve", "--yes", "--why", "a test", "--quiet-hours", "1")
        self.assertIn("“a test”", story)
        self.assertIn("Gate Twin of Skerry Light Trust: waits", story)
        shown = self.told("rollout", "show", "1")
        self.assertRegex(shown, r"1 site stays out\.\n.*Seapink Florists\n +It can’t be worked on")
        self.told("demo-fault", "seapink-florists", "--none", "--data", data)
        self.told("site", "refresh", "seapink-florists")
        self.assertIn("everything ready", self.told("rollout", "list"))
        nights = self.told("calendar")
        for booking in self.windbreak.bookings():
            label = next(s.label for s in self.windbreak.sites() if s.id == booking.site)
            self.assertIn(label[:20], nights)
            self.assertIn(f"booking {booking.id}", nights)
        self.assertIn("Reckoned at", self.told("calendar", "--why"))
        last = self.windbreak.bookings()[-1]
        self.assertIn("pinned", json.dumps(json.loads(self.told("pin", str(last.id), "--json"))))
        self.assertFalse(json.loads(self.told("book-again", str(last.id), "--json"))["pinned"])
        self.assertIn("is taken out", self.told("take-out", str(last.id), "--why", "not now"))
        self.assertIn("left out", self.told("rollout", "show", "1"))

    def test_3_a_night_is_played_and_what_fails_waits_for_a_word(self) -> None:
        data = str(self.demo.data)
        faulty = self.told("demo-fault", "light-twin", "editor=core/millrace", "--data", data)
        self.assertIn("skerry-light-twin", faulty)  # the only one with that in its name
        several = self.ask("demo-fault", "light", "--none", "--data", data)
        self.assertEqual(several.returncode, 2)
        self.assertIn("is in the names of 2: skerry-light, skerry-light-twin", several.stderr)
        played = self.ask("demo-night", "--nights", "2", "--data", data)
        self.assertEqual(played.returncode, 1, played.stderr)
        self.assertIn("A word of yours is wanted for 1 site: windbreak rollout show 1",
                      " ".join(played.stdout.split()))  # fmt: skip
        self.assertNotIn("skerry-light:", played.stdout)
        # The demo's clock is days ahead now, and ages go by it.
        for list_ in ("site", "feed"):
            self.assertRegex(self.told(list_, "list"), r"\d (s|min|h) ago")
        self.assertNotRegex(self.told("site", "list"), r"\bin \d+ d\b")
        self.assertIn("put back", played.stdout)
        self.assertRegex(played.stdout, r"\d+ runs, \d of them ended badly")
        story = self.told("rollout", "show", "1")
        self.assertIn("done", story)
        (run,) = [r for r in self.windbreak.runs() if r.site == "whinchat-radio"]
        self.assertEqual(run.state, "put back")
        failed = self.told("rollout", "failed")
        self.assertIn("plugin/trestle", failed)
        go, why = ("rollout", "let-go", "trestle", "5.1"), ("--why", "its editor is Whinchat’s own")
        asks = self.ask(*go, *why)  # nobody is there to be asked
        self.assertEqual(asks.returncode, 2)
        self.assertIn("would make the same move", asks.stderr)
        self.assertEqual(self.ask(*go, "--why", " ", "--yes").returncode, 1)
        self.assertIn("may be made elsewhere", self.told(*go, *why, "--yes"))
        again = self.ask(*go, *why, "--yes")
        self.assertEqual(again.returncode, 1)
        self.assertIn("already", again.stderr)
        nothing = self.ask("demo-night", "--data", "/nowhere")
        self.assertEqual(nothing.returncode, 1)
        self.assertIn("holds no demo", nothing.stderr)

    def test_4_hours_of_watching_and_calendars_of_freezes(self) -> None:
        self.assertIn("Nobody’s hours", self.told("watch", "list"))
        added = self.told(
            "watch", "add", "Ives", "--days", "tue,thu", "--start", "00:00", "--end", "04:00"
        )
        self.assertIn("Ives watches: tue, thu 00:00 to 04:00", added)
        (hours,) = self.windbreak.watch()
        self.assertIn("dropped", self.told("watch", "drop", str(hours.id)))
        bad = self.ask("watch", "add", "Ives", "--days", "tue")
        self.assertEqual(bad.returncode, 2)
        self.assertIn("one of the two", bad.stderr)
        with tempfile.TemporaryDirectory() as folder:
            out, broken = Path(folder) / "out.ics", Path(folder) / "broken.ics"
            broken.write_text("hello")
            refused = self.ask("freeze", "import", "season", str(broken))
            self.assertEqual(refused.returncode, 1)
            self.assertIn("no iCalendar", refused.stderr)
            start, end = "2099-01-01T00:00Z", "2099-01-03T00:00Z"
            self.told("freeze", "add", start, end, "--why", "a fair", "--site", "tarnsey")
            self.told("freeze", "export", "--to", str(out))
            self.assertIn("a fair", out.read_text())
        self.assertIn("No calendar", self.told("freeze", "calendars"))

    def test_5_windows_of_a_client_are_set_at_once(self) -> None:
        told = self.told("site", "windows", "02:00", "04:00", "--client", "Skerry Light Trust")
        self.assertIn("2 sites may be worked on from 02:00 to 04:00", told)
        site = next(s for s in self.windbreak.sites() if s.id == "skerry-light")
        exported = self.told("site", "export")
        row = next(line for line in exported.splitlines() if line.startswith(f"{site.id},"))
        self.assertIn("02:00-04:00", row)
        nobody = self.ask("site", "windows", "02:00", "04:00", "--client", "Nobody")
        self.assertEqual(nobody.returncode, 1)
        self.assertIn("Skerry Light Trust", nobody.stderr)
